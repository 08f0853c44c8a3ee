package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// jumpedBy names the file that says by how much the clock of a program with a clock of its own is off.
const jumpedBy = "SIEGE_CLOCK"

// withClock builds a program whose wall clock can be set while it runs, and that of no other: time.Now
// is off by what a file says. The monotonic clock is the kernel's own.
func withClock(ctx context.Context, dir string) (string, error) {
	root, err := exec.CommandContext(ctx, "go", "env", "GOROOT").Output()
	if err != nil {
		return "", fmt.Errorf("ask where Go is: %w", err)
	}
	clock := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	text, err := os.ReadFile(clock)
	if err != nil {
		return "", err
	}
	const reads = "\tsec, nsec, mono := runtimeNow()\n"
	changed := strings.Replace(string(text), reads, reads+"\tsec += jumped.Load()\n", 1)
	if changed == string(text) {
		return "", errors.New("the clock of this Go is read otherwise than this knows")
	}
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	files := map[string]string{
		clock: changed,
		filepath.Join(filepath.Dir(clock), "jumped.go"): "package time\n\nimport \"sync/atomic\"\n\nvar jumped atomic.Int64\n\n// Jump sets by how many seconds the clock is off.\nfunc Jump(by int64) { jumped.Store(by) }\n",
		filepath.Join(here, "cmd", "woodlark", "jumped.go"): `package main

import (
	"os"
	"strconv"
	"strings"
	"time"
)

func init() {
	go func() {
		for ; ; time.Sleep(20 * time.Millisecond) {
			text, _ := os.ReadFile(os.Getenv("` + jumpedBy + `"))
			if by, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil {
				time.Jump(by)
			}
		}
	}()
}
`,
	}
	replace := map[string]string{}
	for name, content := range files {
		replace[name] = filepath.Join(dir, fmt.Sprint(len(replace), ".go"))
		if err := os.WriteFile(replace[name], []byte(content), 0o600); err != nil {
			return "", err
		}
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replace})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600); err != nil {
		return "", err
	}
	out := filepath.Join(dir, "woodlark")
	build := exec.CommandContext(ctx, "go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", out, "./cmd/woodlark")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if said, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("build a program with a clock of its own: %w: %s", err, said)
	}
	return out, nil
}

// clocks sets the clock of a service that measures: forward, back, and right again.
func clocks(ctx context.Context, t *table) error {
	dir, err := os.MkdirTemp("", "wlsiege")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	own, err := withClock(ctx, dir)
	if err != nil {
		return err
	}
	set := func(by time.Duration) error {
		file := filepath.Join(dir, "clock")
		if err := os.WriteFile(file+".new", []byte(fmt.Sprint(int64(by/time.Second))), 0o600); err != nil {
			return err
		}
		return os.Rename(file+".new", file) // whole, whenever it is read
	}
	s := &service{state: filepath.Join(dir, "s"), program: own, environment: []string{jumpedBy + "=" + filepath.Join(dir, "clock")}}
	if err := set(0); err != nil {
		return err
	}
	if err := s.besiege(ctx); err != nil {
		return err
	}
	defer s.end()
	sets := []time.Duration{10 * time.Minute, -20 * time.Minute, -20*time.Minute - 2*time.Second, 3 * time.Hour, 0}
	var worst time.Duration
	failed := 0
	for _, by := range sets {
		time.Sleep(time.Duration(15+len(sets)) * time.Second) // now early in a minute, now late
		if err := set(by); err != nil {
			return err
		}
		slowest, not := s.worst(ctx, 5*time.Second)
		worst, failed = max(worst, slowest), failed+not
	}
	t.saw(fmt.Sprintf("the clock is set %d times, from 20 minutes back to 3 hours forward", len(sets)), "calls are answered", failed == 0 && worst < 3*time.Second, "%d calls failed, the slowest took %s", failed, worst.Round(time.Millisecond))
	until := time.Now().Truncate(time.Minute).Add(2 * time.Minute)
	select {
	case <-time.After(time.Until(until) + 15*time.Second):
	case <-ctx.Done():
		return ctx.Err()
	}
	return s.jumped(ctx, t, until)
}

// jumped says what came of readings while the clock was set.
func (s *service) jumped(ctx context.Context, t *table, until time.Time) error {
	lines, err := s.readings(ctx, s.began.Add(-time.Hour), until.Add(4*time.Hour))
	if err != nil {
		return err
	}
	ought := int(until.Sub(s.began) / time.Second)
	sent, marked, lost, slowest := map[string]int{}, 0, 0, 0.0
	for _, l := range lines {
		sent[l.To] += l.Sent
		lost += l.Lost
		slowest = max(slowest, l.Most)
		if slices.Contains(l.Notes, "clock_set") {
			marked++
		}
	}
	least := ought
	for _, n := range sent {
		least = min(least, n)
	}
	t.saw("clock set: what was measured", "none lost, none twice", len(sent) == 3 && ought-least <= 10, "of %d probes of each path %d at the least, those of the last seconds missing", ought, least)
	t.saw("clock set: its figures", "no delay and no loss that was not", lost == 0 && slowest > 0 && slowest < 1000, "%d lost, the longest round trip over loopback %.3f ms", lost, slowest)
	t.saw("clock set: its readings", "marked", marked >= 3, "%d readings say that the clock was set", marked)
	var runs []struct {
		Outcome string `json:"outcome"`
		Reason  string `json:"reason"`
	}
	query := fmt.Sprintf("/runs?limit=1000&from_at=%s&to_at=%s", s.began.Add(-time.Hour).UTC().Format(time.RFC3339), until.Add(4*time.Hour).UTC().Format(time.RFC3339))
	if err := s.call(ctx, http.MethodGet, query, "", &runs); err != nil {
		return err
	}
	missed := 0
	for _, r := range runs {
		if r.Outcome == "missed" && strings.Contains(r.Reason, "clock was set forward") {
			missed++
		}
	}
	t.saw("clock set forward", "a missed run says so", missed > 0, "%d of %d runs say it", missed, len(runs))
	return nil
}

// line is a reading as it is handed out.
type line struct {
	To    string    `json:"to"`
	At    time.Time `json:"started_at"`
	Sent  int       `json:"sent"`
	Lost  int       `json:"lost"`
	Most  float64   `json:"rtt_max_ms"`
	Notes []string  `json:"notes"`
}

// readings are those that are kept of a time; none may be there twice.
func (s *service) readings(ctx context.Context, from, to time.Time) (list []line, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("http://%s/api/v1/export/readings?from_at=%s&to_at=%s", s.at, from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339)), nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := quick.Do(r)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, errors.New(answer.Status)
	}
	seen := map[string]bool{}
	for d := json.NewDecoder(bufio.NewReader(answer.Body)); ; {
		var l line
		if err := d.Decode(&l); errors.Is(err, io.EOF) {
			return list, nil
		} else if err != nil {
			return nil, err
		}
		if l.To == "" {
			continue // the end
		}
		key := l.To + " " + l.At.String()
		if seen[key] {
			return nil, fmt.Errorf("the minute %s is there twice", key)
		}
		seen[key] = true
		list = append(list, l)
	}
}
