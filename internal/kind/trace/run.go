package trace

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/compare"
	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/trace"
)

// Result is the route that was found to a target.
type Result struct {
	finding.TraceReport
	// Packets are the probes of the whole measurement and their answers, when they were asked
	// for, with its first trace; MorePackets came when there was no room any more.
	Packets     []Packet `json:"packets,omitempty"`
	MorePackets int      `json:"more_packets,omitempty"`
}

// Packet is a probe or an answer, whole.
type Packet struct {
	At   time.Time `json:"at"`
	Data []byte    `json:"data"` // base64
}

// mostPackets is how many packets a result holds.
const mostPackets = 20_000

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Trace is the route.
func (r *Result) Trace() *finding.TraceReport { return &r.TraceReport }

// Beside lays the trace back from the target beside it.
func (r *Result) Beside(back any) {
	if b, ok := back.(*Result); ok {
		r.BesideBack(b.TraceReport)
	}
}

// Listed are the figures of lists: hops that answered, of all.
func (r *Result) Listed() kind.Figures {
	answered, of := int64(0), int64(len(r.Hops))
	for _, h := range r.Hops {
		if len(h.Nodes) > 0 {
			answered++
		}
	}
	return kind.Figures{Answered: &answered, Of: &of}
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	if j.Ground == nil {
		return nil, errors.New("this host does not know its own links")
	}
	began := time.Now()
	kind.Resolve(ctx, j.Network, j.Lanes)
	out := j.Fail(began, "")
	socket := s.Options()
	options := trace.Options{Socket: socket}
	kept := &packets{}
	switch {
	case j.Packets != nil:
		options.Sent, options.Came = j.Packets, j.Packets
	case s.Capture:
		options.Sent, options.Came = kept.add, kept.add
	}
	var requests []trace.Request
	var at []int // of each request, in out
	heard := make([]int64, len(j.Lanes))
	for i, l := range j.Lanes {
		if l.Problem != "" {
			continue
		}
		q := s.Request()
		q.Addr = l.Address
		q.Heard = func(p route.Probe) {
			heard[i]++ // under the engine's lock
			j.Tell(kind.Progress{Lane: i, Done: heard[i], More: p})
		}
		requests, at = append(requests, q), append(at, i)
	}
	if len(requests) == 0 {
		return out, nil
	}
	backs := tracesBack(ctx, j, s, at)
	results, err := trace.Measure(ctx, j.Network, j.Ground, options, requests...)
	found, notes := backs()
	if err != nil && results == nil {
		return nil, err
	}
	for k, r := range results {
		i := at[k]
		if r.Err != nil {
			out[i].Reason = r.Err.Error()
			continue
		}
		out[i] = conclude(ctx, j, s, r, trace.Context{Target: j.Lanes[i].Target, From: j.Name, Names: s.Names, Socket: socket, Back: found[k]})
		if notes[k] != "" && out[i].Reason == "" {
			out[i].Reason = notes[k]
		}
		if own := out[i].Result.(*Result); len(kept.list) > 0 {
			own.Packets, own.MorePackets = kept.list, kept.more
			kept = &packets{}
		}
	}
	return out, err
}

// conclude describes what a trace found.
func conclude(ctx context.Context, j *kind.Job, s *Spec, r trace.Result, about trace.Context) kind.Outcome {
	// The names are looked up even when it was cut: it is what there is.
	if ctx.Err() != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
	}
	report := r.Report(ctx, j.Network, j.Ground, about)
	out := kind.Outcome{State: kind.Done, Started: r.Started, Ended: time.Now(), Address: r.Addr.String(), Result: &Result{TraceReport: report}}
	switch {
	case r.Ended == trace.Cut:
		out.State, out.Reason = kind.Cancelled, kind.CutShort
	case r.Dropped > 0:
		out.Reason = fmt.Sprintf("this host's own buffer had no room for %d packets", r.Dropped)
	}
	return out
}

// tracesBack begins to trace back from where hosts of ours stand at the targets. The function
// that it returns waits for what came of it, with what kept those that were not made.
func tracesBack(ctx context.Context, j *kind.Job, s *Spec, at []int) func() ([]*finding.TraceReport, []string) {
	reports, notes := make([]*finding.TraceReport, len(at)), make([]string, len(at))
	if !s.BothWays || j.Beside == nil {
		return func() ([]*finding.TraceReport, []string) { return reports, notes }
	}
	var wg sync.WaitGroup
	for k, i := range at {
		wg.Go(func() {
			home, err := trace.Source(j.Ground, j.Lanes[i].Address)
			if err == nil {
				reports[k], err = traceBack(ctx, j, s, j.Lanes[i].Address, home)
			}
			if err != nil {
				notes[k] = fmt.Sprintf("the way back from %s is not traced: %v", j.Lanes[i].Target, err)
			}
		})
	}
	return func() ([]*finding.TraceReport, []string) {
		wg.Wait()
		return reports, notes
	}
}

func traceBack(ctx context.Context, j *kind.Job, s *Spec, from, home netip.Addr) (*finding.TraceReport, error) {
	there, name, err := j.Beside(from)
	if err != nil {
		return nil, err
	}
	ground, ok := there.(kind.Ground)
	if !ok {
		return nil, network.ErrNotPermitted
	}
	q := s.Request()
	q.Addr, q.PathMTU, q.FirstTTL = home, false, 0
	results, err := trace.Measure(ctx, there, ground, trace.Options{}, q)
	if err != nil {
		return nil, err
	}
	if results[0].Err != nil {
		return nil, results[0].Err
	}
	r := results[0].Report(ctx, there, ground, trace.Context{Target: home.String(), From: name, Names: s.Names})
	return &r, nil
}

// packets are those that were sent and came.
type packets struct {
	mu   sync.Mutex
	list []Packet
	more int
}

func (p *packets) add(at time.Time, packet []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.list) < mostPackets {
		p.list = append(p.list, Packet{at, append([]byte{}, packet...)})
	} else {
		p.more++
	}
}

// Compare lays an earlier trace beside it.
func (r *Result) Compare(earlier any, when string, _ *time.Time) {
	if b, ok := earlier.(*Result); ok {
		r.CompareWith(b.TraceReport, when)
	}
}

// EachPacket gives the packets that came with it, and how many more there were.
func (r *Result) EachPacket(take func(time.Time, []byte)) (more int) {
	for _, p := range r.Packets {
		take(p.At, p.Data)
	}
	return r.MorePackets
}

// Whole reports whether it holds more than its route.
func (r *Result) Whole() bool { return len(r.Packets) > 0 }

// Compared are the figures from end to end, and the hops, to be laid beside others.
func (r *Result) Compared() (s compare.Side) {
	s.Figures = []compare.Figure{compare.Known("rtt", "median RTT", "", "ms", r.RTTMs, nil, nil, false)}
	for _, h := range r.Hops {
		text := "?"
		if h.Address != "" {
			text = h.Address
		}
		s.Route = append(s.Route, text)
	}
	if n := len(r.Hops); n > 0 && r.Reached {
		last := r.Hops[n-1]
		s.Figures = append(s.Figures, compare.Loss("", last.Probes-last.Answered, last.Probes))
	}
	return s
}
