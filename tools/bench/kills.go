package main

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
	"strconv"
	"strings"
	"syscall"
	"time"
)

// kills counts what it costs when the service and its database are killed in turn, ten
// times in ten minutes: minutes without a word, probes of kept minutes that are missing,
// periodic runs that were carried out twice, and how long a start takes to its first probe.
func kills(ctx context.Context, dir, program string) error {
	const times = 10
	state := filepath.Join(dir, "kills")
	k := &killed{program: program, state: state}
	if err := k.start(ctx); err != nil {
		return err
	}
	defer func() { k.stop() }()
	began := time.Now()
	for _, args := range [][]string{{"-name", "steady", "-to", "127.0.0.1"}, {"-name", "often", "-to", "127.0.0.2,127.0.0.3,127.0.0.4", "-repeat", "1m", "-probes", "5", "-every", "100ms"}} {
		if out, err := k.command(ctx, append([]string{"watch", "add", "-from", "local"}, args...)...).CombinedOutput(); err != nil {
			return fmt.Errorf("add a watch: %w: %s", err, out)
		}
	}
	for i := range times {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Until(began.Add(time.Duration(i+1) * time.Minute))):
		}
		if i%2 == 0 {
			if data, err := os.ReadFile(filepath.Join(state, "database", "db.pid")); err == nil {
				if pid, err := strconv.Atoi(strings.TrimSpace(string(data))); err == nil {
					_ = syscall.Kill(pid, syscall.SIGKILL)
				}
			}
			continue
		}
		_ = k.cmd.Process.Kill()
		_ = k.cmd.Wait()
		if err := k.start(ctx); err != nil {
			return err
		}
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(90 * time.Second): // the last minute is over, and all is written
	}
	return k.count(began)
}

type killed struct {
	program, state, base, token string
	cmd                         *exec.Cmd
}

func (k *killed) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, k.program, args...)
	cmd.Env = append(os.Environ(), "WOODLARK_STATE="+k.state)
	return cmd
}

// start starts the service and waits until it takes calls.
func (k *killed) start(ctx context.Context) error {
	k.cmd = k.command(ctx, "serve", "-listen", "127.0.0.1:0", "-log-level", "error")
	var log bytes.Buffer
	k.cmd.Stderr = &log
	_ = os.Remove(filepath.Join(k.state, "service.json"))
	if err := k.cmd.Start(); err != nil {
		return err
	}
	for deadline := time.Now().Add(2 * time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		var note struct{ URL string }
		data, err := os.ReadFile(filepath.Join(k.state, "service.json"))
		if err != nil || json.Unmarshal(data, &note) != nil {
			continue
		}
		token, _ := os.ReadFile(filepath.Join(k.state, "token"))
		k.base, k.token = note.URL, strings.TrimSpace(string(token))
		if r, err := http.Get(k.base + "/readyz"); err == nil {
			_ = r.Body.Close()
			if r.StatusCode == http.StatusOK {
				return nil
			}
		}
	}
	return fmt.Errorf("the service did not come up: %s", log.String())
}

func (k *killed) stop() {
	_ = k.cmd.Process.Signal(os.Interrupt)
	_ = k.cmd.Wait()
}

func (k *killed) get(path string, out any) error {
	r, err := http.NewRequest(http.MethodGet, k.base+"/api/v1"+path, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+k.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, out)
}

// count reads what is kept and prints the figures.
func (k *killed) count(began time.Time) error {
	var list struct {
		Paths []struct{ ID, To string }
	}
	if err := k.get("/paths", &list); err != nil {
		return err
	}
	from := "from_at=" + began.UTC().Add(-time.Minute).Format(time.RFC3339)
	var silent, missing, due int
	for _, p := range list.Paths {
		if p.To != "127.0.0.1" {
			continue
		}
		var kept struct {
			Readings []struct {
				At             time.Time `json:"started_at"`
				Expected, Sent int
			}
		}
		if err := k.get("/paths/"+p.ID+"/readings?limit=1000&"+from, &kept); err != nil {
			return err
		}
		var gaps []struct {
			At    time.Time  `json:"started_at"`
			Ended *time.Time `json:"ended_at"`
		}
		if err := k.get("/runs?limit=1000&path="+p.ID, &gaps); err != nil {
			return err
		}
		told := map[int64]bool{} // by the second in which a minute begins
		for i, r := range kept.Readings {
			told[r.At.Truncate(time.Minute).Unix()] = true
			if i > 0 { // the first began when the watch was added
				missing, due = missing+r.Expected-r.Sent, due+r.Expected
			}
		}
		for _, g := range gaps {
			for at := g.At.Truncate(time.Minute); g.Ended != nil && at.Before(*g.Ended); at = at.Add(time.Minute) {
				told[at.Unix()] = true
			}
		}
		for at := began.Truncate(time.Minute).Add(time.Minute); at.Before(time.Now().Add(-90 * time.Second)); at = at.Add(time.Minute) {
			if !told[at.Unix()] {
				silent++
			}
		}
	}
	var runs []struct {
		PathID  string    `json:"path_id"`
		At      time.Time `json:"started_at"`
		Outcome string    `json:"outcome"`
	}
	if err := k.get("/runs?limit=1000&watch=often", &runs); err != nil {
		return err
	}
	last, twice, done := map[string]time.Time{}, 0, 0
	for _, r := range runs { // newest first
		if r.Outcome != "done" {
			continue
		}
		done++
		if before, ok := last[r.PathID]; ok && before.Sub(r.At) < 50*time.Second && r.At.After(began.Add(2*time.Minute)) {
			twice++
		}
		last[r.PathID] = r.At
	}
	alone("ten kills: minutes without a word", "", float64(silent))
	alone(fmt.Sprintf("ten kills: probes missing of %d in kept minutes", due), "", float64(missing))
	alone(fmt.Sprintf("ten kills: periodic runs carried out twice, of %d", done), "", float64(twice))
	return nil
}
