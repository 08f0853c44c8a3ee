package loads

import (
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// usualFor is from how long back readings of throughput make what is usual.
const usualFor = 28 * 24 * time.Hour

// history is what load runs found, by the agent that they began at.
type history struct {
	mu sync.Mutex
	by map[ident.ID][]found // in the order of time
}

type found struct {
	id          ident.ID
	watch, far  ident.ID
	target      string
	at          time.Time
	there, back *float64
}

// Add takes what a run found that is done; others are left out.
func (l *Loads) Add(t store.TwoEnded) {
	if t.Outcome != protocol.Done || t.ThereBps == nil && t.BackBps == nil {
		return
	}
	h := &l.history
	h.mu.Lock()
	defer h.mu.Unlock()
	oldest := time.Now().Add(-usualFor)
	// Who reads goes on with the list as it was.
	list := slices.DeleteFunc(slices.Clone(h.by[t.AgentID]), func(r found) bool { return r.at.Before(oldest) || r.id == t.ID })
	h.by[t.AgentID] = append(list, found{t.ID, t.WatchID, t.FarID, t.Target, t.StartedAt, t.ThereBps, t.BackBps})
}

// Throughput is what was last measured between two ends, by a watch if any measures it.
type Throughput struct {
	At time.Time
	// To is the far end that it was measured to, when that is not the path's target but
	// another of its site: what it says of the path is the access's part only.
	To          string
	Far         ident.ID // none when it is no agent
	There, Back Way
}

// Way is a direction of it.
type Way struct {
	Bps *float64
	// Usual is what it was the times before; nil when that were too few.
	Usual *capacity.Usual
}

// From is what was last measured from an agent to the far ends that goes takes; nil when
// nothing was. The runs of one watch are alike, so that only they make what is usual; what
// somebody asked for by hand may be of another kind.
func (l *Loads) From(agent ident.ID, goes func(far ident.ID, target string) bool) *Throughput {
	l.history.mu.Lock()
	list := l.history.by[agent]
	l.history.mu.Unlock()
	var t *Throughput
	var before [2][]capacity.Rate
	type ends struct {
		far    ident.ID
		target string
	}
	ours := map[ends]bool{}
	var watch ident.ID
	for _, r := range slices.Backward(list) {
		e := ends{r.far, r.target}
		if _, known := ours[e]; !known {
			ours[e] = goes(r.far, r.target)
		}
		if !ours[e] {
			continue
		}
		if t == nil || watch.IsZero() && !r.watch.IsZero() {
			watch = r.watch
			t = &Throughput{At: r.at, To: r.target, Far: r.far, There: Way{Bps: r.there}, Back: Way{Bps: r.back}}
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
	for i, w := range []*Way{&t.There, &t.Back} {
		if u, ok := capacity.UsualOf(before[i]); ok {
			w.Usual = &u
		}
	}
	return t
}
