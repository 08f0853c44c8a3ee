package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

const (
	program = "bin/woodlark"
	token   = "5161e6e0a4c0ffee5161e6e0a4c0ffee"
)

// service is a real one, of which everything but its state may be taken away.
type service struct {
	state, at, far string
	program        string // another than that of the house; none: that
	environment    []string
	cmd            *exec.Cmd
	log            *journal
	began          time.Time
}

type journal struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (j *journal) Write(p []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.b.Write(p)
}

func (j *journal) tail() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	lines := strings.Split(strings.TrimSpace(j.b.String()), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// besieged starts a service that measures three addresses of this machine, each second.
func besieged(ctx context.Context, state string) (*service, error) {
	s := &service{state: state}
	return s, s.besiege(ctx)
}

func (s *service) besiege(ctx context.Context) (err error) {
	if s.at, err = freePort(); err != nil {
		return err
	}
	if s.far, err = freePort(); err != nil {
		return err
	}
	if err := os.MkdirAll(s.state, 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(s.state, "token"), []byte(token+"\n"), 0o600); err != nil {
		return err
	}
	if err := s.start(ctx); err != nil {
		return err
	}
	return s.call(ctx, http.MethodPost, "/watches", `{"name":"siege","from":["local"],"to":["127.0.0.1","127.0.0.2","::1"]}`, nil)
}

// withService does something with a service in a folder of its own, and takes both away.
func withService(ctx context.Context, do func(*service) error) error {
	dir, err := os.MkdirTemp("", "wlsiege")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := besieged(ctx, filepath.Join(dir, "s"))
	if err != nil {
		return err
	}
	defer s.end()
	return do(s)
}

func (s *service) start(ctx context.Context) error {
	s.cmd = exec.Command(cmp.Or(s.program, program), "serve", "-state", s.state, "-listen", s.at, "-far-end", s.far)
	s.cmd.Env = append(os.Environ(), s.environment...)
	s.log = &journal{}
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	if s.began.IsZero() {
		s.began = time.Now()
	}
	_, err := s.back(ctx, 2*time.Minute)
	return err
}

// back waits until the service answers with what its database knows, and says how long that took.
func (s *service) back(ctx context.Context, most time.Duration) (time.Duration, error) {
	began := time.Now()
	for time.Since(began) < most && ctx.Err() == nil {
		if s.call(ctx, http.MethodGet, "/watches", "", nil) == nil && s.ready(ctx) {
			return time.Since(began), nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return 0, fmt.Errorf("the service does not answer; its log ends:\n%s", s.log.tail())
}

func (s *service) ready(ctx context.Context) bool {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.at+"/readyz", nil)
	if err != nil {
		return false
	}
	answer, err := quick.Do(r)
	if err != nil {
		return false
	}
	_ = answer.Body.Close()
	return answer.StatusCode == http.StatusOK
}

var quick = &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

func (s *service) call(ctx context.Context, method, path, body string, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, "http://"+s.at+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := quick.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	if answer.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s: %s", method, path, answer.Status, data)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(data, into)
}

// answersIn is how long a call takes now.
func (s *service) answersIn(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	err := s.call(ctx, http.MethodGet, "/paths", "", nil)
	return time.Since(began), err
}

// worst is the longest of several calls, over a time.
func (s *service) worst(ctx context.Context, over time.Duration) (worst time.Duration, failed int) {
	for end := time.Now().Add(over); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(200 * time.Millisecond) {
		d, err := s.answersIn(ctx)
		if err != nil {
			failed++
		}
		worst = max(worst, d)
	}
	return worst, failed
}

// memory is what the service holds, in MB; not what its database does.
func (s *service) memory() int {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	for line := range strings.Lines(string(data)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			n, _ := strconv.Atoi(strings.Fields(rest)[0])
			return n / 1024
		}
	}
	return 0
}

// database is the process of the private database.
func (s *service) database() (int, error) {
	data, err := os.ReadFile(filepath.Join(s.state, "database", "db.pid"))
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(strings.TrimSpace(string(data)))
}

func (s *service) killed() error {
	err := s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	return err
}

func (s *service) end() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	done := make(chan struct{})
	go func() { _ = s.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill()
	}
}

// probes counts the probes that are kept of each path, by a minute that has ended.
func (s *service) probes(ctx context.Context) (map[string]int, error) {
	list, err := s.readings(ctx, s.began.Add(-time.Minute), time.Now().Add(time.Minute))
	if err != nil {
		return nil, err
	}
	counts := map[string]int{}
	for _, l := range list {
		counts[l.To] += l.Sent
	}
	return counts, nil
}
