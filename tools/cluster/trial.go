package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

const (
	program = "bin/woodlark"
	token   = "c0ffee00c0ffee00c0ffee00c0ffee00"
	settle  = 12 * time.Second // from one fault to the next
)

// trial is all that is tried.
type trial struct {
	dir      string
	nodes    []*node
	peers    []string
	random   *rand.Rand
	services []*process
	bases    []string
	balancer *balancer
	agents   []*process
	began    time.Time
	targets  []netip.Addr               // of continuous paths from each agent
	kinds    map[string][]time.Duration // how long until a service answered again, by what was done
	turn     int
	ordered  []string // runs that were asked for
	sink     *sink
	view     view
	hush     *hush
	beside   sync.WaitGroup
	hushed   error
}

const (
	ends   = 2 // agents that measure between each other, by kinds that load what they cross
	others = 3 // and those beside, whose readings are judged all the time
)

// schedule is what is due, by watch: how often at each agent.
var schedule = []struct {
	name  string
	every time.Duration
	body  map[string]any
}{
	{"ping", 10 * time.Second, map[string]any{"kind": "ping", "to": []string{"127.0.0.1"}, "probes": 2}},
	{"trace", time.Minute, map[string]any{"kind": "trace", "to": []string{"127.0.0.3"}}},
	{"walk", time.Minute, map[string]any{"kind": "walk", "to": []string{"127.0.0.4"}, "probes": 3}},
	{"sweep", time.Minute, map[string]any{"kind": "sweep", "to": []string{"127.0.3.0/29"}, "rounds": 1}},
	{"stream", 5 * time.Minute, map[string]any{"kind": "stream", "for": "2s"}},
	{"throughput", 5 * time.Minute, map[string]any{"kind": "throughput", "protocol": "udp", "rate_bps": 1_000_000, "for": "1s"}},
}

// onDemand is what is asked for now and then, of the kinds that are seldom due.
var onDemand = []map[string]any{
	{"kind": "ready", "need": "calls", "quick": true},
	{"kind": "accept", "cir": "1M", "frames": "512", "tests": []string{"performance"}, "performance": "2s", "wait": "100ms", "first_look": false, "host_check": false, "direction": "there"},
}

func (x *trial) begin(ctx context.Context) error {
	var err error
	if x.sink, err = newSink(rand.New(rand.NewPCG(x.random.Uint64(), 2))); err != nil {
		return err
	}
	if x.hush, err = newHush(); err != nil {
		return err
	}
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
	if x.balancer, err = newBalancer(x.bases); err != nil {
		return err
	}
	names, err := x.join(ctx)
	if err != nil {
		return err
	}
	x.began = time.Now()
	return x.watch(ctx, names)
}

// join has agents join, and says their names.
func (x *trial) join(ctx context.Context) (names []string, err error) {
	for i := range ends + others {
		var invite struct{ Code string }
		name := fmt.Sprintf("agent%d", i+1)
		names = append(names, name)
		if err := x.call(ctx, http.MethodPost, "/agents/invites", map[string]any{"name": name}, &invite); err != nil {
			return nil, err
		}
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		p := &process{name: name, log: filepath.Join(x.dir, name+".log"), args: []string{"agent", "-join", x.balancer.url() + "," + strings.Join(x.bases, ","), "-invite", invite.Code, "-name", name, "-listen", fmt.Sprintf("127.0.0.1:%d", port), "-state", filepath.Join(x.dir, name)}}
		x.agents = append(x.agents, p)
		if err := p.begin(); err != nil {
			return nil, err
		}
	}
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		var list []struct{ Alive bool }
		if x.call(ctx, http.MethodGet, "/agents", nil, &list) == nil && len(list) == ends+others && !slices.ContainsFunc(list, func(a struct{ Alive bool }) bool { return !a.Alive }) {
			return names, nil
		}
		if time.Since(began) > time.Minute {
			return nil, errors.New("the agents are not there")
		}
	}
}

// watch has all measured that is, and somebody told.
func (x *trial) watch(ctx context.Context, from []string) error {
	type asked struct {
		path string
		body map[string]any
	}
	to := make([]string, len(x.targets))
	for i, t := range x.targets {
		to[i] = t.String()
	}
	list := []asked{
		{"/channels", map[string]any{"name": "sink", "type": "webhook", "settings": map[string]any{"url": x.sink.url()}}},
		{"/rules", map[string]any{"name": "all", "channel": "sink", "messages_per_minute_most": 1000}},
		{"/watches", map[string]any{"name": "always", "from": from[ends:], "to": to}},
	}
	for _, w := range schedule {
		body := map[string]any{"name": w.name, "from": from, "repeat": w.every.String()}
		for k, v := range w.body {
			body[k] = v
		}
		if body["to"] == nil { // between two of them
			body["from"], body["to"] = from[:1], from[1:ends]
		}
		list = append(list, asked{"/watches", body})
	}
	for _, a := range list {
		if err := x.call(ctx, http.MethodPost, a.path, a.body, nil); err != nil {
			return err
		}
	}
	return nil
}

// goOn does what goes on beside the faults, until a time.
func (x *trial) goOn(ctx context.Context, until time.Time) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	x.beside.Go(func() { x.view.follow(ctx, x.balancer.url()) })
	x.beside.Go(func() {
		wait(ctx, 3*time.Minute) // until it is known that they answer
		x.hushed = x.hush.run(ctx, x.targets, until)
	})
	x.beside.Go(func() {
		for n := 0; ctx.Err() == nil && time.Now().Add(time.Minute).Before(until); n++ {
			x.order(ctx, onDemand[n%len(onDemand)])
			wait(ctx, 45*time.Second)
		}
	})
	return func() {
		cancel()
		x.beside.Wait()
	}
}

// order asks for a run between the ends.
func (x *trial) order(ctx context.Context, body map[string]any) {
	b := map[string]any{"from": "agent1", "to": []string{"agent2"}}
	for k, v := range body {
		b[k] = v
	}
	var runs []struct{ ID string }
	if x.call(ctx, http.MethodPost, "/runs", b, &runs) == nil {
		for _, r := range runs {
			x.ordered = append(x.ordered, r.ID)
		}
	}
}

func (x *trial) end() {
	for _, p := range append(slices.Clone(x.agents), x.services...) {
		p.signal(syscall.SIGCONT)
		p.signal(syscall.SIGTERM)
	}
}
