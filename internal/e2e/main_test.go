package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// program is the built woodlark.
var program string

func TestMain(m *testing.M) {
	if address := os.Getenv(listenHere); address != "" {
		os.Exit(hearConnections(address))
	}
	if address := os.Getenv(visitHere); address != "" {
		os.Exit(visitFromHere(address))
	}
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "woodlark-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "woodlark")
	// As script/lib.sh builds it, which CGO would not let.
	build := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags", "-E main.entry", "-o", program, "woodlark.example/cmd/woodlark")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build woodlark: %v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// machine is a machine of its own, as far as Woodlark can see: a state folder.
type machine struct {
	t     *testing.T
	state string
	env   []string // beside what it inherits
}

func newMachine(t *testing.T) *machine {
	dir, err := os.MkdirTemp("", "wl")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return &machine{t: t, state: filepath.Join(dir, "s")}
}

func (m *machine) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "WOODLARK_STATE="+m.state, "XDG_STATE_HOME="+m.state+"-none", "NO_COLOR=1")
	cmd.Env = append(cmd.Env, m.env...)
	return cmd
}

// cli runs a command and returns what it wrote and its status.
func (m *machine) cli(args ...string) (out, errs string, status int) {
	m.t.Helper()
	cmd := m.command(args...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	err := cmd.Run()
	if exit, ok := err.(*exec.ExitError); ok {
		return stdout.String(), stderr.String(), exit.ExitCode()
	}
	require.NoError(m.t, err)
	return stdout.String(), stderr.String(), 0
}

// good runs a command that must end well.
func (m *machine) good(args ...string) string {
	m.t.Helper()
	out, errs, status := m.cli(args...)
	require.Zero(m.t, status, "woodlark %s: %s%s", strings.Join(args, " "), out, errs)
	return out
}

// bad runs a command that must end with a status; it returns all that it wrote.
func (m *machine) bad(want int, args ...string) string {
	m.t.Helper()
	out, errs, status := m.cli(args...)
	require.Equal(m.t, want, status, "woodlark %s: %s%s", strings.Join(args, " "), out, errs)
	return out + errs
}

// service is a running service.
type service struct {
	m     *machine
	cmd   *exec.Cmd
	log   *syncBuffer
	base  string
	token string
	ended chan struct{}
}

// syncBuffer is a buffer that a process writes while a test reads it.
type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *syncBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *syncBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// morning is a time zone in which it is about nine in the morning now: what the
// demo's world does by the hour is then the same whenever the tests run.
func morning() string {
	east := 9 - time.Now().UTC().Hour()
	if east < -12 {
		east += 24
	}
	return fmt.Sprintf("Etc/GMT%+d", -east) // the sign of these names is the other way round
}

// start starts "serve" or "demo" on the machine and waits until it is ready.
func (m *machine) start(verb string, args ...string) *service {
	m.t.Helper()
	s := m.launch(verb, args...)
	ready := map[string]string{"serve": "msg=ready", "demo": "Ctrl-C"}[verb]
	// The demo makes 14 days of history, half a minute of two cores when they are free.
	s.eventually(5*time.Minute, func() bool { return strings.Contains(s.log.String(), ready) }, "%s is ready", verb)
	var note struct{ URL string }
	data, err := os.ReadFile(filepath.Join(m.state, "service.json"))
	require.NoError(m.t, err)
	require.NoError(m.t, json.Unmarshal(data, &note))
	s.base = note.URL
	token, err := os.ReadFile(filepath.Join(m.state, "token"))
	require.NoError(m.t, err)
	s.token = strings.TrimSpace(string(token))
	return s
}

// launch starts it and does not wait.
func (m *machine) launch(verb string, args ...string) *service {
	m.t.Helper()
	s := &service{m: m, log: &syncBuffer{}, ended: make(chan struct{})}
	s.cmd = m.command(append([]string{verb, "-listen", "127.0.0.1:0", "-zone", morning()}, args...)...)
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	require.NoError(m.t, s.cmd.Start())
	go func() {
		_ = s.cmd.Wait()
		close(s.ended)
	}()
	m.t.Cleanup(func() {
		s.stop()
		if m.t.Failed() {
			m.t.Logf("log of %s:\n%s", verb, s.log)
		}
	})
	return s
}

// eventually waits for a condition while the service lives.
func (s *service) eventually(limit time.Duration, holds func() bool, what string, args ...any) {
	s.m.t.Helper()
	deadline := time.After(limit)
	for !holds() {
		select {
		case <-deadline:
			s.m.t.Fatalf("not in time: "+what, args...)
		case <-s.ended:
			s.m.t.Fatalf("the service ended while waiting: "+what+"\n"+s.log.String(), args...)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// stop ends the service as Ctrl-C does.
func (s *service) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	select {
	case <-s.ended:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.ended
		s.m.t.Error("the service did not stop within 30 s")
	}
}

// kill ends the service at once.
func (s *service) kill() {
	require.NoError(s.m.t, s.cmd.Process.Signal(syscall.SIGKILL))
	<-s.ended
}

// get reads what is at a path of the interface.
func (s *service) get(path string, out any) {
	s.m.t.Helper()
	status, body := s.call(http.MethodGet, path, "Bearer "+s.token, "")
	require.Equal(s.m.t, http.StatusOK, status, "%s: %s", path, body)
	require.NoError(s.m.t, json.Unmarshal(body, out))
}

func (s *service) call(method, path, authorization, body string) (int, []byte) {
	s.m.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, s.base+path, strings.NewReader(body))
	require.NoError(s.m.t, err)
	if authorization != "" {
		r.Header.Set("Authorization", authorization)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.m.t, err)
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	require.NoError(s.m.t, err)
	return answer.StatusCode, data
}
