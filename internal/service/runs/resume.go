package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// ErrNoMore is wrapped when a run cannot go on.
var ErrNoMore = errors.New("cannot go on")

// keepPartial keeps what a run measured so far.
func (x *Runs) keepPartial(g *activeRun, p kind.Progress) {
	if p.Lane < 0 || p.Lane >= len(g.order.Lanes) {
		return
	}
	body, err := json.Marshal(p.Partial)
	if err != nil {
		x.Log.Error("what was measured so far could not be kept", "kind", g.order.Kind, "error", err)
		return
	}
	m := protocol.Made{Run: g.order.Lanes[p.Lane].Run, Body: body, Figures: kind.FiguresOf(p.Partial)}
	x.mu.Lock()
	g.lanes[p.Lane].partial, g.lanes[p.Lane].result = &m, p.Partial
	x.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), keepTime)
	defer cancel()
	if err := x.Store.KeepPartial(ctx, m.Run, body); err != nil {
		x.Log.Warn("what was measured so far could not be kept yet", "run", m.Run, "error", err)
	}
}

const (
	keepTime = 10 * time.Second
	// waitForAgent is how long it is waited for an agent to come back, for a run that was cut to
	// go on there.
	waitForAgent = 15 * time.Minute
	lookEvery    = 2 * time.Second
	// mostResumed is how often a run goes on by itself.
	mostResumed = 10
)

// Resume goes on with a run that was cut: a new one, from what the first had measured. The key is
// that of a far end without a service.
func (x *Runs) Resume(ctx context.Context, id ident.ID, key string) ([]store.Run, error) {
	x.mu.Lock()
	before, was := x.goesOn[id]
	x.goesOn[id] = time.Time{} // it does not go on by itself, too
	x.mu.Unlock()
	list, err := x.resume(ctx, id, key, 0)
	if err != nil {
		x.mu.Lock()
		if x.goesOn[id] = before; !was {
			delete(x.goesOn, id)
		}
		x.mu.Unlock()
	}
	return list, err
}

// byHand reports whether somebody went on with a run.
func (x *Runs) byHand(run ident.ID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	since, is := x.goesOn[run]
	return is && since.IsZero()
}

// resume is Resume; by itself a run goes on so many times.
func (x *Runs) resume(ctx context.Context, id ident.ID, key string, times int) ([]store.Run, error) {
	row, err := x.Store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	k, err := kind.Find(row.Kind)
	if err != nil {
		return nil, err
	}
	switch {
	case !k.Resumes:
		return nil, fmt.Errorf("%w: run %s %w: a %s is short, make it anew", kind.ErrInvalid, id, ErrNoMore, row.Kind)
	case row.Outcome == protocol.Running:
		return nil, fmt.Errorf("%w: run %s %w: it goes on", kind.ErrInvalid, id, ErrNoMore)
	case row.Outcome == protocol.Done:
		return nil, fmt.Errorf("%w: run %s %w: it came to its end", kind.ErrInvalid, id, ErrNoMore)
	}
	body, err := x.Store.ResultOf(ctx, row)
	if err != nil {
		return nil, err
	}
	if len(body) == 0 {
		return nil, fmt.Errorf("%w: run %s %w: nothing was measured", kind.ErrInvalid, id, ErrNoMore)
	}
	was, err := k.ReadResult(row.Version, body)
	if err != nil {
		return nil, err
	}
	on, is := was.(kind.Resumable)
	if !is {
		return nil, fmt.Errorf("%w: run %s %w", kind.ErrInvalid, id, ErrNoMore)
	}
	near := x.Fleet.ByID(row.AgentID)
	if near == nil {
		return nil, fmt.Errorf("%w: run %s %w: its agent is gone", kind.ErrInvalid, id, ErrNoMore)
	}
	return x.Start(ctx, Request{Kind: k, From: near.Name, Targets: []string{row.Target}, How: on.GoOn(), Key: key, Before: body, resumed: times})
}

// goOnLater goes on with runs that were cut, once the agent is back.
func (x *Runs) goOnLater(r Request, g *activeRun) {
	if !g.kind.Resumes || !r.Watch.IsZero() || r.resumed >= mostResumed {
		return
	}
	var cut []ident.ID
	x.mu.Lock()
	for i, l := range g.order.Lanes {
		if g.lanes[i].partial != nil {
			cut = append(cut, l.Run)
		}
	}
	x.mu.Unlock()
	for _, run := range cut {
		x.later(run, g.near, r.Key, r.resumed+1)
	}
}

// first reports whether nobody goes on with a run yet: that it was cut is heard from its agent, from
// its results and at the start, and it goes on once. The lock is held.
func (x *Runs) first(run ident.ID, now time.Time) bool {
	for id, since := range x.goesOn {
		if !since.IsZero() && now.Sub(since) > 4*waitForAgent {
			delete(x.goesOn, id)
		}
	}
	if _, is := x.goesOn[run]; is {
		return false
	}
	x.goesOn[run] = now
	return true
}

// later resumes a run as soon as its agent is there.
func (x *Runs) later(run, agent ident.ID, key string, times int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.ended || !x.first(run, time.Now()) {
		return
	}
	x.work.Go(func() {
		end := time.Now().Add(waitForAgent)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		said := ""
		for time.Now().Before(end) {
			select {
			case <-tick.C:
			case <-x.ending:
				return
			}
			if x.byHand(run) {
				return
			}
			if a := x.Fleet.ByID(agent); a == nil || a.Worker == nil {
				continue
			}
			ctx, cancel := context.WithTimeout(context.Background(), keepTime)
			_, err := x.resume(ctx, run, key, times)
			cancel()
			if err == nil {
				x.Log.Info("a run that was cut goes on", "run", run)
				return
			}
			if errors.Is(err, ErrNoMore) {
				return
			}
			if err.Error() != said {
				said = err.Error()
				x.Log.Warn("a run that was cut does not go on yet", "run", run, "error", err)
			}
		}
	})
}

// TakeUp goes on with the runs that were cut as the service was stopped.
func (x *Runs) TakeUp(ctx context.Context) error {
	var kinds []string
	for _, k := range kind.All() {
		if k.Resumes {
			kinds = append(kinds, k.Name)
		}
	}
	list, err := x.Store.CutRuns(ctx, kinds, time.Now().Add(-36*time.Hour))
	if err != nil {
		return err
	}
	for _, r := range list {
		x.later(r.ID, r.AgentID, "", 1)
	}
	return nil
}
