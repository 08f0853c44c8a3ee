package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

const (
	program = "bin/woodlark"
	token   = "c0ffee00c0ffee00c0ffee00c0ffee00"
	every   = 10 * time.Second // of what is due
	settle  = 12 * time.Second // from one fault to the next
)

// process is one of ours.
type process struct {
	name string
	args []string
	log  string
	cmd  *exec.Cmd
}

func (p *process) begin() error {
	out, err := os.OpenFile(p.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	p.cmd = exec.Command(program, p.args...)
	p.cmd.Stdout, p.cmd.Stderr = out, out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return p.cmd.Start()
}

func (p *process) signal(s syscall.Signal) {
	if p.cmd == nil || p.cmd.Process == nil {
		return
	}
	_ = syscall.Kill(-p.cmd.Process.Pid, s)
	if s == syscall.SIGKILL || s == syscall.SIGTERM {
		_ = p.cmd.Wait()
	}
}

// trial is all that is tried.
type trial struct {
	dir      string
	nodes    []*node
	peers    []string
	random   *rand.Rand
	services []*process
	bases    []string
	agents   []*process
	began    time.Time
	kinds    map[string][]time.Duration // how long until a service answered again, by what was done
	turn     int
}

func (x *trial) begin(ctx context.Context) error {
	var hosts []string
	for _, n := range x.nodes {
		hosts = append(hosts, fmt.Sprintf("127.0.0.1:%d", n.sql))
	}
	database := fmt.Sprintf("woodlark:%s@tcp(%s)/woodlark", password, strings.Join(hosts, ","))
	for i := range 2 {
		port, err := freePort()
		if err != nil {
			return err
		}
		state := filepath.Join(x.dir, fmt.Sprintf("s%d", i+1))
		if err := os.MkdirAll(state, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(state, "token"), []byte(token+"\n"), 0o600); err != nil {
			return err
		}
		at := fmt.Sprintf("127.0.0.1:%d", port)
		p := &process{name: fmt.Sprintf("service %d", i+1), log: filepath.Join(x.dir, fmt.Sprintf("s%d.log", i+1)), args: []string{"serve", "-together", "-database", database, "-listen", at, "-state", state}}
		x.services, x.bases = append(x.services, p), append(x.bases, "http://"+at)
		if err := p.begin(); err != nil {
			return err
		}
		if _, err := x.answers(ctx, time.Now()); err != nil {
			return err
		}
	}
	var from []string
	for i := range 3 {
		var invite struct{ Code string }
		name := fmt.Sprintf("agent%d", i+1)
		from = append(from, name)
		if err := x.call(ctx, http.MethodPost, "/agents/invites", map[string]any{"name": name}, &invite); err != nil {
			return err
		}
		p := &process{name: name, log: filepath.Join(x.dir, name+".log"), args: []string{"agent", "-join", strings.Join(x.bases, ","), "-invite", invite.Code, "-name", name, "-state", filepath.Join(x.dir, name)}}
		x.agents = append(x.agents, p)
		if err := p.begin(); err != nil {
			return err
		}
	}
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		var list []struct{ Alive bool }
		if x.call(ctx, http.MethodGet, "/agents", nil, &list) == nil && len(list) == 3 && !slices.ContainsFunc(list, func(a struct{ Alive bool }) bool { return !a.Alive }) {
			break
		}
		if time.Since(began) > time.Minute {
			return errors.New("the agents are not there")
		}
	}
	x.began = time.Now()
	for _, body := range []map[string]any{
		{"name": "due", "from": from, "to": []string{"127.0.0.1"}, "repeat": every.String(), "probes": 2},
		{"name": "always", "from": from, "to": []string{"127.0.0.2"}},
	} {
		if err := x.call(ctx, http.MethodPost, "/watches", body, nil); err != nil {
			return err
		}
	}
	return nil
}

// call asks whichever service answers.
func (x *trial) call(ctx context.Context, method, path string, body, into any) error {
	var errs []error
	for _, base := range x.bases {
		err := call(ctx, base, method, path, body, into)
		if err == nil {
			return nil
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

var client = &http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

func call(ctx context.Context, base, method, path string, body, into any) error {
	var text io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		text = strings.NewReader(string(b))
	}
	r, err := http.NewRequestWithContext(ctx, method, base+"/api/v1"+path, text)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		why, _ := io.ReadAll(io.LimitReader(answer.Body, 500))
		return fmt.Errorf("%s %s: %s: %s", method, path, answer.Status, why)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(into)
}

// answers waits until a service takes something that is kept, and says how long that took.
func (x *trial) answers(ctx context.Context, since time.Time) (time.Duration, error) {
	var last error
	for time.Since(since) < 90*time.Second && ctx.Err() == nil {
		// Something that is written, and read back from the database.
		if last = x.call(ctx, http.MethodPost, "/objectives", map[string]any{"name": "still-there", "limits": map[string]any{"delay_ms": 100}}, nil); last == nil {
			return time.Since(since), nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return 0, fmt.Errorf("no service answers: %w", last)
}

// works is which service works on the database.
func (x *trial) works(ctx context.Context) int {
	var s struct {
		Services []struct {
			Address string
			Works   bool
		}
	}
	if x.call(ctx, http.MethodGet, "/status", nil, &s) == nil {
		for _, m := range s.Services {
			if m.Works {
				return slices.Index(x.bases, m.Address)
			}
		}
	}
	return -1
}

// fault does one thing, and waits until all is there again.
func (x *trial) fault(ctx context.Context) error {
	faults := []struct {
		name string
		do   func() (back func() error)
	}{
		{"the service that works, killed", func() func() error {
			p := x.services[max(0, x.works(ctx))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"a node of the database, killed", func() func() error {
			n := x.nodes[x.random.IntN(len(x.nodes))]
			n.signal(syscall.SIGKILL)
			return func() error { return n.begin(ctx, x.peers, false) }
		}},
		{"an agent, killed", func() func() error {
			p := x.agents[x.random.IntN(len(x.agents))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"the service that works, stopped for 20 s", func() func() error {
			p := x.services[max(0, x.works(ctx))]
			p.signal(syscall.SIGSTOP)
			began := time.Now()
			return func() error {
				time.Sleep(max(0, 20*time.Second-time.Since(began)))
				p.signal(syscall.SIGCONT)
				return nil
			}
		}},
		{"the service that stands by, killed", func() func() error {
			p := x.services[1-max(0, x.works(ctx))]
			p.signal(syscall.SIGKILL)
			return p.begin
		}},
		{"a node of the database, stopped for 20 s", func() func() error {
			n := x.nodes[x.random.IntN(len(x.nodes))]
			n.signal(syscall.SIGSTOP)
			began := time.Now()
			return func() error {
				time.Sleep(max(0, 20*time.Second-time.Since(began)))
				n.signal(syscall.SIGCONT)
				for time.Since(began) < 2*time.Minute && !n.synced(ctx) {
					time.Sleep(200 * time.Millisecond)
				}
				return nil
			}
		}},
	}
	f := faults[x.turn%len(faults)]
	x.turn++
	time.Sleep(time.Duration(x.random.IntN(5000)) * time.Millisecond)
	began := time.Now()
	back := f.do()
	took, err := x.answers(ctx, began)
	if err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	fmt.Printf("  %-45s answered again after %v\n", f.name, took.Round(100*time.Millisecond))
	x.kinds[f.name] = append(x.kinds[f.name], took)
	if err := back(); err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	time.Sleep(settle)
	return nil
}

func (x *trial) end() {
	for _, p := range append(slices.Clone(x.agents), x.services...) {
		p.signal(syscall.SIGCONT)
		p.signal(syscall.SIGTERM)
	}
}

type run struct {
	ID      string
	From    string
	Outcome string
	Reason  string
	StartAt time.Time `json:"started_at"`
}

// judge counts what was lost and doubled.
func (x *trial) judge(ctx context.Context) error {
	over := time.Now()
	time.Sleep(75 * time.Second) // the last minute is handed over
	bad := 0
	line := func(what, promised string, holds bool, seen string, args ...any) {
		mark := "held"
		if !holds {
			mark = "BROKEN"
			bad++
		}
		fmt.Printf("%-46s %-34s %-60s %s\n", what, promised, fmt.Sprintf(seen, args...), mark)
	}
	fmt.Println()
	names := make([]string, 0, len(x.kinds))
	for name := range x.kinds {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		worst := slices.Max(x.kinds[name])
		line(name, "taken over within 15 s", worst <= 15*time.Second, "%d times, %v at worst", len(x.kinds[name]), worst.Round(100*time.Millisecond))
	}
	if err := x.judgeDue(ctx, over, line); err != nil {
		return err
	}
	if err := x.judgeAlways(ctx, over, line); err != nil {
		return err
	}
	if bad > 0 {
		return fmt.Errorf("%d promises were broken", bad)
	}
	return nil
}

func (x *trial) judgeDue(ctx context.Context, over time.Time, line func(string, string, bool, string, ...any)) error {
	var list []run
	for before := ""; ; {
		var page []run
		if err := x.call(ctx, http.MethodGet, "/runs?watch=due&limit=500"+before, nil, &page); err != nil {
			return err
		}
		list = append(list, page...)
		if len(page) < 500 {
			break
		}
		before = "&to_at=" + url.QueryEscape(page[len(page)-1].StartAt.Format(time.RFC3339Nano))
	}
	by := map[string][]run{}
	for _, r := range list {
		if r.StartAt.Before(over) {
			by[r.From] = append(by[r.From], r)
		}
	}
	due, done, missed, doubled, holes := 0, 0, 0, 0, 0
	for _, of := range by {
		slices.SortFunc(of, func(a, b run) int { return a.StartAt.Compare(b.StartAt) })
		for i, r := range of {
			if r.Outcome == "done" {
				done++
			} else {
				missed++
			}
			if i == 0 {
				continue
			}
			switch gap := r.StartAt.Sub(of[i-1].StartAt); {
			case gap < every/2:
				doubled++
			case gap > every*3/2 && r.Outcome == "done" && of[i-1].Outcome == "done":
				holes += int(gap/every) - 1
			}
		}
		due += int(over.Sub(of[0].StartAt)/every) + 1
	}
	line("what is due each 10 s at three agents", "each once; missed where an agent was away, and said so", doubled == 0 && holes == 0 && done+missed >= due-len(by), "%d due, %d done, %d said to be missed, %d twice, %d neither", due, done, missed, doubled, holes)
	return nil
}

func (x *trial) judgeAlways(ctx context.Context, over time.Time, line func(string, string, bool, string, ...any)) error {
	var paths struct {
		Paths []struct{ ID, To, From string }
	}
	if err := x.call(ctx, http.MethodGet, "/paths", nil, &paths); err != nil {
		return err
	}
	// Whole minutes, from the first in which all measured.
	from, until := x.began.Truncate(time.Minute).Add(2*time.Minute), over.Truncate(time.Minute)
	sent, lost, twice, n := 0, 0, 0, 0
	for _, p := range paths.Paths {
		if p.To != "127.0.0.2" {
			continue
		}
		n++
		var r struct {
			Readings []struct {
				StartAt time.Time `json:"started_at"`
				Sent    int
				Lost    int
			}
		}
		if err := x.call(ctx, http.MethodGet, "/paths/"+p.ID+"/readings?limit=50000", nil, &r); err != nil {
			return err
		}
		seen := map[time.Time]bool{}
		for _, m := range r.Readings {
			if seen[m.StartAt] {
				twice++
			}
			seen[m.StartAt] = true
			if m.StartAt.Before(from) || !m.StartAt.Before(until) {
				continue
			}
			sent, lost = sent+m.Sent, lost+m.Lost
		}
	}
	killed := len(x.kinds["an agent, killed"])
	could := n * int(until.Sub(from)/time.Second)
	// An agent that is killed begins anew within seconds, and has not kept the last five.
	allowed := killed * 12
	line("a probe each second on three paths", "none lost but while an agent is away", could-sent <= allowed && twice == 0, "%d of %d kept, %d minutes twice, %d without answer; agents killed %d times", sent, could, twice, lost, killed)
	return nil
}
