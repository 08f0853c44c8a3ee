package controller

import (
	"context"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// usualFor is from how long back readings of throughput make what is usual.
const usualFor = 28 * 24 * time.Hour

// loadHistory is what load runs found, by the agent that they began at.
type loadHistory struct {
	mu sync.Mutex
	by map[ident.ID][]loadFound // in the order of time
}

type loadFound struct {
	id          ident.ID
	watch, far  ident.ID
	target      string
	at          time.Time
	there, back *float64
}

// add takes a run that is done.
func (c *loadHistory) add(t store.TwoEnded) {
	if t.Outcome != protocol.Done || t.ThereBps == nil && t.BackBps == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil {
		c.by = map[ident.ID][]loadFound{}
	}
	oldest := time.Now().Add(-usualFor)
	list := slices.DeleteFunc(c.by[t.AgentID], func(r loadFound) bool { return r.at.Before(oldest) || r.id == t.ID })
	c.by[t.AgentID] = append(list, loadFound{t.ID, t.WatchID, t.FarID, t.Target, t.StartedAt, t.ThereBps, t.BackBps})
}

// loadCarried reads what was found before.
func (c *Controller) loadCarried(ctx context.Context) error {
	list, err := c.store.TwoEndedList(ctx, store.TwoEndedFilter{Kinds: kind.Loads(), From: time.Now().Add(-usualFor), Page: store.Page{Limit: 20_000}})
	for _, t := range slices.Backward(list) {
		c.loadHistory.add(t)
	}
	return err
}

// Throughput is what was last measured between the ends of a path, by a watch if any
// measures it.
type Throughput struct {
	At time.Time
	// To is the far end that it was measured to, when that is not the path's target but
	// another of its site: what it says of the path is the access's part only.
	To          string
	There, Back ThroughputWay
}

// ThroughputWay is a direction of it.
type ThroughputWay struct {
	Bps *float64
	// Usual is what it was the times before; nil when that were too few.
	Usual *capacity.Usual
}

// between reports whether a run went between a path's agent and its target, or an agent
// that stands at it. The controller's mu is held for reading.
func (c *Controller) between(p *pathState, far ident.ID, target string) bool {
	if target == p.Target {
		return true
	}
	a := c.agents[far]
	return a != nil && a.isAt(p.Target)
}

// besides reports whether a run that went elsewhere went to the site of a path's target.
// The controller's mu is held for reading.
func (c *Controller) besides(p *pathState, far ident.ID) bool {
	a := c.agents[far]
	return a != nil && p.Site != "" && a.Site == p.Site
}

// throughputOf is what was measured for a path; nil when nothing was. The runs of one watch
// are alike, so that only they make what is usual; what somebody asked for by hand may be
// of another kind. The controller's mu is held for reading.
func (c *Controller) throughputOf(p *pathState) *Throughput {
	return c.throughputTo(p, c.between)
}

// throughputBeside is what was measured to another far end at the site of a path's target;
// nil when nothing was. The controller's mu is held for reading.
func (c *Controller) throughputBeside(p *pathState) *Throughput {
	t := c.throughputTo(p, func(p *pathState, far ident.ID, target string) bool {
		return !c.between(p, far, target) && c.besides(p, far)
	})
	return t
}

func (c *Controller) throughputTo(p *pathState, goes func(p *pathState, far ident.ID, target string) bool) *Throughput {
	c.loadHistory.mu.Lock()
	defer c.loadHistory.mu.Unlock()
	var t *Throughput
	var before [2][]capacity.Rate
	type ends struct {
		far    ident.ID
		target string
	}
	ours := map[ends]bool{}
	var watch, far ident.ID
	for _, r := range slices.Backward(c.loadHistory.by[p.AgentID]) {
		e := ends{r.far, r.target}
		if _, known := ours[e]; !known {
			ours[e] = goes(p, r.far, r.target)
		}
		if !ours[e] {
			continue
		}
		if t == nil || watch.IsZero() && !r.watch.IsZero() {
			watch, far = r.watch, r.far
			t = &Throughput{At: r.at, To: r.target, There: ThroughputWay{Bps: r.there}, Back: ThroughputWay{Bps: r.back}}
			continue
		}
		for i, v := range []*float64{r.there, r.back} {
			if v != nil && !watch.IsZero() && r.watch == watch {
				before[i] = append(before[i], capacity.Rate(*v))
			}
		}
	}
	if t == nil {
		return nil
	}
	if a := c.agents[far]; a != nil {
		t.To = a.Name
	}
	for i, w := range []*ThroughputWay{&t.There, &t.Back} {
		if u, ok := capacity.UsualOf(before[i]); ok {
			w.Usual = &u
		}
	}
	return t
}

// TwoEndedOf are the measurements with two ends between a path's agent and its target,
// newest first, without their bodies.
func (c *Controller) TwoEndedOf(ctx context.Context, path ident.ID, f store.TwoEndedFilter) ([]store.TwoEnded, error) {
	c.mu.RLock()
	p := c.paths[path]
	c.mu.RUnlock()
	if p == nil {
		return nil, store.ErrNotFound
	}
	most := f.Page.Limit
	f.Agent, f.Page.Limit = p.AgentID, 5000
	list, err := c.store.TwoEndedList(ctx, f)
	c.mu.RLock()
	defer c.mu.RUnlock()
	list = slices.DeleteFunc(list, func(t store.TwoEnded) bool { return !c.between(p, t.FarID, t.Target) })
	return list[:min(most, len(list))], err
}
