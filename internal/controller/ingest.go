package controller

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// file adds a run of a kind to what an upload holds, in all the forms in which it is looked
// for: as a route, as who answered, as a measurement between two ends. The result is nil when
// there is none.
func file(u *protocol.Upload, k *kind.Kind, m protocol.Made, result any) {
	like := result
	if like == nil {
		like = k.Result()
	}
	switch r := like.(type) {
	case kind.Routed:
		t := protocol.Trace{ID: m.Run, Watch: m.Watch, Target: m.Lane.Target, Family: m.Lane.Family, Via: m.Lane.Via, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason}
		if result != nil {
			t.Report = r.Trace()
		}
		u.Traces = append(u.Traces, t)
	case kind.Swept:
		x := protocol.Sweep{ID: m.Run, Watch: m.Watch, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason}
		if result != nil {
			x.Report, x.Scope = r.Sweep()
		}
		u.Sweeps = append(u.Sweeps, x)
	default:
		if k.TwoEnds {
			f := m.Figures
			u.TwoEnded = append(u.TwoEnded, protocol.TwoEnded{ID: m.Run, Watch: m.Watch, Far: m.FarID, Target: m.Lane.Target, Kind: m.Kind, Started: m.Started, Ended: m.Ended, Outcome: m.Outcome, Reason: m.Reason,
				ThereBps: f.ThereBps, BackBps: f.BackBps, MOS: f.MOS, SentBytes: f.SentBytes, Report: m.Body})
		}
	}
}

// result is a run that came with what it found.
type result struct {
	protocol.Made
	kind *kind.Kind
	of   any
}

// sort reads the runs of an upload and files them. An error says which cannot have been made;
// it wraps ErrInvalid.
func (c *Controller) sort(u *protocol.Upload) (list []result, err error) {
	for i := range u.Made {
		m := &u.Made[i]
		k, err := kind.Find(m.Kind)
		if err != nil {
			return nil, err
		}
		r := result{*m, k, nil}
		if m.Body != nil {
			if r.of, err = k.ReadResult(m.Version, m.Body); err != nil {
				return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
			}
			if x, is := r.of.(interface{ Whole() bool }); is {
				m.Whole = x.Whole()
			}
		}
		file(u, k, *m, r.of)
		list = append(list, r)
	}
	return list, nil
}

// fill completes the runs of paths with what is known of those.
func (c *Controller) fill(u *protocol.Upload) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for i := range u.Runs {
		r := &u.Runs[i]
		r.Kind = kind.Or("")
		if p := c.paths[r.Path]; p != nil {
			r.Lane = kind.Lane{Target: p.Target, Family: p.Family, Via: p.Via}
		}
	}
}

// tell tells of runs that were kept: who waits for them, what is usual, and the listeners.
func (c *Controller) tell(ctx context.Context, agent ident.ID, list []result) {
	made := make([]protocol.Made, len(list))
	var news []string
	for i, r := range list {
		made[i] = r.Made
		if n := r.kind.News; r.kind.TwoEnds && !slices.Contains(news, n) {
			news = append(news, n)
		}
		if r.kind.Load {
			c.loadHistory.add(store.TwoEnded{ID: r.Run, WatchID: r.Watch, AgentID: agent, FarID: r.FarID, Target: r.Lane.Target, Kind: r.Kind, StartedAt: r.Started, Outcome: r.Outcome, ThereBps: r.Figures.ThereBps, BackBps: r.Figures.BackBps})
		}
		if err := c.judgeFigures(ctx, agent, r); err != nil {
			c.noteAway(err)
			c.log.Error("figures could not be kept", "kind", r.Kind, "error", err)
		}
	}
	c.runs.came(made)
	for _, n := range news {
		c.publish(Event{Kind: EventKind(n)})
	}
	if len(list) > mostFollowed {
		c.publish(Event{Kind: NewRun})
		return
	}
	for _, m := range made {
		c.publish(Event{Kind: NewRun, Run: m.Run, Outcome: m.Outcome})
	}
}

// judgeFigures keeps the figures of a measurement that a watch made, and judges the path by
// them that it was made on, where its kind has such.
func (c *Controller) judgeFigures(ctx context.Context, agent ident.ID, r result) error {
	j, is := r.of.(kind.Judged)
	if !is || r.Watch.IsZero() || r.Outcome != protocol.Done {
		return nil
	}
	point, ok := j.Point(r.Started, r.Ended.Sub(r.Started))
	if !ok {
		return nil
	}
	p := c.pathBetween(agent, r.FarID, r.Lane.Target)
	if p == nil {
		return nil
	}
	if err := c.store.SaveFigures(ctx, store.FiguresOf(p.ID, point)); err != nil {
		return err
	}
	p.mu.Lock()
	var changes []guard.Change
	if !p.judged.IsZero() { // its own readings come first
		changes = p.guard.Add(point)
	}
	p.mu.Unlock()
	if len(changes) == 0 {
		return nil
	}
	if err := c.happened(ctx, p, changes); err != nil {
		return err
	}
	return c.saveGuards(ctx, p)
}

// pathBetween is the path that a measurement between two ends was made on: of several, that by
// IPv4 and by echoes; nil when none is watched between those ends.
func (c *Controller) pathBetween(agent, far ident.ID, target string) (best *pathState) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	rank := func(p *pathState) int {
		n := int(p.Family)
		if p.Via != "icmp" {
			n += 100
		}
		return n
	}
	for _, p := range c.paths {
		if p.AgentID == agent && c.between(p, far, target) && (best == nil || rank(p) < rank(best)) {
			best = p
		}
	}
	return best
}

// backs are who stands at the targets of an order to measure back, when that is asked for.
func (c *Controller) backs(r RunRequest, near *agentState, o protocol.RunOrder) ([]*agentState, error) {
	b, is := r.How.(kind.Backward)
	if !is {
		return nil, nil
	}
	if _, both := b.Back(); !both {
		return nil, nil
	}
	list := make([]*agentState, len(o.Lanes))
	for i, l := range o.Lanes {
		var err error
		if list[i], err = c.standsAt(l.Lane.Target, near); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// measureBothWays has the agent measure and, at the same time, who stands at each target back;
// both come back here, are laid beside each other and kept.
func (c *Controller) measureBothWays(ctx context.Context, r RunRequest, near *agentState, g *activeRun, back kind.Spec, heard func(kind.Progress)) error {
	spec, err := r.Kind.Encode(back)
	if err != nil {
		return err
	}
	order := g.order
	order.Return = true
	type half struct {
		i    int
		made []protocol.Made
		err  error
	}
	forth := make([]chan protocol.Made, len(order.Lanes)) // for those who wait to know where it stands
	halves := make(chan half, len(order.Lanes))
	n := 0
	for i, l := range order.Lanes {
		other := g.backs[i]
		forth[i] = make(chan protocol.Made, 1)
		n++
		go func() {
			made, err := c.measureBack(ctx, r, near, other, l, spec, forth[i])
			halves <- half{i, made, err}
		}()
	}
	made, err := near.worker.Do(ctx, order, heard)
	for i := range forth {
		if i < len(made) {
			forth[i] <- made[i]
		}
		close(forth[i])
	}
	for range n {
		h := <-halves
		if h.err != nil || h.i >= len(made) || len(h.made) != 1 || h.made[0].Body == nil || made[h.i].Body == nil {
			if h.err != nil && h.i < len(made) && made[h.i].Reason == "" {
				made[h.i].Reason = fmt.Sprintf("the way back is not measured: %v", h.err)
			}
			continue
		}
		if err := lay(r.Kind, &made[h.i], h.made[0]); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	keeping := context.WithoutCancel(ctx)
	return c.Upload(keeping, protocol.Upload{Agent: near.ID, Made: made})
}

// measureBack measures from who stands at a target to where the near end stands.
func (c *Controller) measureBack(ctx context.Context, r RunRequest, near, other *agentState, l protocol.RunLane, spec []byte, forth <-chan protocol.Made) ([]protocol.Made, error) {
	home := near.Address
	// Where it stands, by the family that was measured by, is known when it has measured.
	if home == "" || near.Kind == Remote {
		made := <-forth
		if x, err := r.Kind.ReadResult(made.Version, made.Body); err == nil {
			if t, ok := x.(kind.Routed); ok {
				home = t.Trace().Source
			}
		}
	}
	if home == "" {
		return nil, errors.New("it is not known where the near end stands")
	}
	lane := l.Lane
	lane = kind.Lane{Target: home, Family: lane.Family, Via: lane.Via}
	return other.worker.Do(ctx, protocol.RunOrder{Kind: r.Kind.Name, Version: r.Kind.Version, Spec: spec, Targets: []string{home}, Lanes: []protocol.RunLane{{Run: ident.New(), Lane: lane}}, Return: true}, nil)
}

// lay lays the way back beside the way there.
func lay(k *kind.Kind, there *protocol.Made, back protocol.Made) error {
	one, err := k.ReadResult(there.Version, there.Body)
	if err != nil {
		return err
	}
	other, err := k.ReadResult(back.Version, back.Body)
	if err != nil {
		return err
	}
	r, ok := one.(kind.Routed)
	if !ok {
		return nil
	}
	r.Beside(other)
	there.Body, err = json.Marshal(one)
	return err
}
