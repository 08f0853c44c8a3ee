// Package remote is how the service and an agent on another machine speak: the agent
// calls out, fetches its plan, holds one connection over which it is told what to do
// now, and uploads what it measured. Hand is the service's side, Link the agent's.
package remote

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
)

// Hand is an agent on another machine, as the service holds it.
type Hand struct {
	name    string
	id      ident.ID
	service plan.Service // takes what could not be measured

	mu       sync.Mutex
	plan     plan.Plan
	etag     string
	line     chan plan.Command // of the connection that the agent holds; nil without one
	hangUp   func()
	lostAt   time.Time // when it last had one
	waiting  map[ident.ID]chan plan.Reply
	health   plan.Health
	healthAt time.Time
	removed  bool
}

// NewHand is one that no agent holds a connection to yet.
func NewHand(id ident.ID, name string, service plan.Service) *Hand {
	h := &Hand{id: id, name: name, service: service, waiting: map[ident.ID]chan plan.Reply{}, lostAt: time.Now()}
	h.mark()
	return h
}

var _ plan.Hand = (*Hand)(nil)

// ErrAway is wrapped when the agent holds no connection.
var ErrAway = errors.New("is not connected")

// mark makes the plan's tag; mu is held.
func (h *Hand) mark() {
	b, err := json.Marshal(h.plan)
	if err != nil {
		return
	}
	sum := sha256.Sum256(b)
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	if tag == h.etag {
		return
	}
	h.etag = tag
	if h.line != nil {
		select {
		case h.line <- plan.Command{Kind: plan.FetchPlan}:
		default:
		}
	}
}

// SetPlan replaces its tasks.
func (h *Hand) SetPlan(tasks []plan.Task) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.plan.Tasks = tasks
	h.mark()
}

// SetSweeps replaces its sweeps.
func (h *Hand) SetSweeps(tasks []plan.SweepTask) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.plan.Sweeps = tasks
	h.mark()
}

// SetTraces replaces its traces.
func (h *Hand) SetTraces(tasks []plan.TraceTask) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.plan.Traces = tasks
	h.mark()
}

// Plan is what the agent is to do, and its tag.
func (h *Hand) Plan() (plan.Plan, string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.plan, h.etag
}

// Connect gives the commands to who holds the connection, until it ends; an earlier
// connection ends at once. False when the agent was removed.
func (h *Hand) Connect(ctx context.Context) (<-chan plan.Command, context.Context, bool) {
	ctx, cancel := context.WithCancel(ctx)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.removed {
		cancel()
		return nil, ctx, false
	}
	if h.hangUp != nil {
		h.hangUp()
	}
	line := make(chan plan.Command, 64)
	h.line, h.hangUp = line, cancel
	context.AfterFunc(ctx, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.line == line {
			h.line, h.hangUp, h.lostAt = nil, nil, time.Now()
			for id, replies := range h.waiting {
				delete(h.waiting, id)
				close(replies)
			}
		}
	})
	return line, ctx, true
}

// Remove locks the agent out at once.
func (h *Hand) Remove() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.removed = true
	if h.hangUp != nil {
		h.hangUp()
	}
}

// Connected reports whether the agent holds a connection, else since when not.
func (h *Hand) Connected() (bool, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.line != nil, h.lostAt
}

// NoteHealth takes what the agent says of itself.
func (h *Hand) NoteHealth(x plan.Health) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.health, h.healthAt = x, time.Now()
}

// Health is what it said last, and when.
func (h *Hand) Health() (plan.Health, time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.health, h.healthAt
}

// HeldBack is how many readings wait at the agent, by its last word.
func (h *Hand) HeldBack() int {
	x, _ := h.Health()
	return x.HeldBack
}

// Reply takes what the agent says to a command.
func (h *Hand) Reply(r plan.Reply) {
	h.mu.Lock()
	defer h.mu.Unlock()
	replies := h.waiting[r.Command]
	if replies == nil {
		return
	}
	// Who hears does not keep up: what tells how far it is may be lost, the last may not.
	for sent := false; !sent; {
		select {
		case replies <- r:
			sent = true
		default:
			if !r.Last {
				return
			}
			select {
			case <-replies:
			default:
			}
		}
	}
	if r.Last {
		delete(h.waiting, r.Command)
		close(replies)
	}
}

// do has the agent carry out a command, and hears it until its last word.
func (h *Hand) do(ctx context.Context, kind plan.CommandKind, limit time.Duration, body any, heard func(json.RawMessage)) (json.RawMessage, error) {
	b, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	c := plan.Command{ID: ident.New(), Kind: kind, Limit: limit, Body: b}
	replies := make(chan plan.Reply, 1024)
	h.mu.Lock()
	if h.line == nil {
		since := h.lostAt
		h.mu.Unlock()
		return nil, fmt.Errorf("agent %q %w since %s", h.name, ErrAway, since.UTC().Format(time.RFC3339))
	}
	select {
	case h.line <- c:
		h.waiting[c.ID] = replies
	default:
		h.mu.Unlock()
		return nil, fmt.Errorf("agent %q does not take what it is told: too much waits for it", h.name)
	}
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		select {
		case r, ok := <-replies:
			switch {
			case !ok:
				return nil, fmt.Errorf("agent %q %w any more: its connection broke in the middle", h.name, ErrAway)
			case r.Last && r.Error != "":
				return r.Body, errors.New(r.Error)
			case r.Last:
				return r.Body, nil
			case heard != nil:
				heard(r.Body)
			}
		case <-ctx.Done():
			h.stop(c.ID)
			return nil, fmt.Errorf("agent %q: %w", h.name, ctx.Err())
		}
	}
}

// stop tells the agent that nobody waits for a command any more.
func (h *Hand) stop(id ident.ID) {
	b, _ := json.Marshal(id)
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.waiting, id)
	if h.line != nil {
		select {
		case h.line <- plan.Command{ID: ident.New(), Kind: plan.StopCommand, Body: b}:
		default:
		}
	}
}

// deliver keeps what could not be measured, with its reason.
func (h *Hand) deliver(u plan.Upload) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	u.Agent = h.id
	_ = h.service.Upload(ctx, u) // the service itself logs what its database does not take
}

const margin = 30 * time.Second

// Measure carries out an order at the agent, which uploads its readings and runs itself.
func (h *Hand) Measure(ctx context.Context, o plan.Order, heard func(int, reading.Probe)) {
	began := time.Now()
	limit := time.Duration(o.Probes)*o.Interval + o.Wait + margin
	_, err := h.do(ctx, plan.DoMeasure, limit, o, func(b json.RawMessage) {
		var list []plan.HeardProbe
		if json.Unmarshal(b, &list) != nil || heard == nil {
			return
		}
		for _, x := range list {
			if x.Path >= 0 && x.Path < len(o.Paths) {
				heard(x.Path, x.Probe)
			}
		}
	})
	if err == nil {
		return
	}
	var u plan.Upload
	for _, p := range o.Paths {
		u.Runs = append(u.Runs, plan.Run{ID: p.Run, Path: p.Path, Started: began, Ended: time.Now(), Outcome: plan.Failed, Reason: err.Error()})
	}
	h.deliver(u)
}

// Sweep makes a sweep at the agent, which uploads it itself.
func (h *Hand) Sweep(ctx context.Context, id ident.ID, o plan.SweepOrder, sent func(uint64)) {
	began := time.Now()
	_, err := h.do(ctx, plan.DoSweep, 24*time.Hour, plan.SweepCommand{ID: id, Order: o}, func(b json.RawMessage) {
		var n uint64
		if json.Unmarshal(b, &n) == nil && sent != nil {
			sent(n)
		}
	})
	if err != nil {
		h.deliver(plan.Upload{Sweeps: []plan.Sweep{{ID: id, Started: began, Ended: time.Now(), Outcome: plan.Failed, Reason: err.Error()}}})
	}
}

// Trace makes traces at the agent.
func (h *Hand) Trace(ctx context.Context, o plan.TraceOrder, heard func(int, route.Probe)) []plan.Trace {
	began := time.Now()
	limit := time.Duration(o.Probes)*o.Interval + o.Wait + 4*time.Minute
	b, err := h.do(ctx, plan.DoTrace, limit, o, func(b json.RawMessage) {
		var list []plan.HeardHop
		if json.Unmarshal(b, &list) != nil || heard == nil {
			return
		}
		for _, x := range list {
			if x.Target >= 0 && x.Target < len(o.Targets) {
				heard(x.Target, x.Probe)
			}
		}
	})
	var list []plan.Trace
	if err == nil {
		err = json.Unmarshal(b, &list)
	}
	if err != nil {
		list = nil
		for _, t := range o.Targets {
			list = append(list, plan.Trace{ID: t.ID, Target: t.Target, Family: t.Family, Via: o.Via, Started: began, Ended: time.Now(), Outcome: plan.Failed, Reason: err.Error()})
		}
	}
	return list
}

// Deliver keeps what Trace returned.
func (h *Hand) Deliver(list []plan.Trace) { h.deliver(plan.Upload{Traces: list}) }

// Standing is the agent's own machine.
func (h *Hand) Standing() (json.RawMessage, error) {
	return h.do(context.Background(), plan.TellState, 10*time.Second, nil, nil)
}

// Walk walks at the agent.
func (h *Hand) Walk(ctx context.Context, o plan.WalkOrder) (r finding.WalkReport, err error) {
	b, err := h.do(ctx, plan.DoWalk, 2*time.Minute, o, nil)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(b, &r)
}

// Expect lets in who has a ticket, at the agent.
func (h *Hand) Expect(t plan.Ticket) (string, error) {
	b, err := h.do(context.Background(), plan.ExpectGuest, 10*time.Second, t, nil)
	if err != nil {
		return "", err
	}
	var at string
	return at, json.Unmarshal(b, &at)
}

// TwoEnded measures from the agent.
func (h *Hand) TwoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing)) plan.TwoEnded {
	began := time.Now()
	b, err := h.do(ctx, plan.DoTwoEnded, 24*time.Hour, o, func(b json.RawMessage) {
		var g plan.TwoGoing
		if json.Unmarshal(b, &g) == nil && heard != nil {
			heard(g)
		}
	})
	var x plan.TwoEnded
	if err == nil {
		err = json.Unmarshal(b, &x)
	}
	if err != nil {
		x = plan.TwoEnded{ID: o.ID, Far: o.Far, Target: o.Target, Kind: o.Kind, Started: began, Ended: time.Now(), Outcome: plan.Failed, Reason: err.Error()}
	}
	return x
}
