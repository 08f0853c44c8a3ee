package suspicion

import (
	"context"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/paths"
)

const (
	// A path's route is found once so often while it is steady, if no watch does: what is found
	// when it gets worse says the more for it.
	referenceAge = 7 * 24 * time.Hour
	// referEvery is how often one path's is.
	referEvery = 3 * time.Second
	// A route is usual once it was found so often, which is done so far apart.
	referTimes = 3
	referApart = 15 * time.Second
	// asked is after how long a path is asked for once more.
	asked = 24 * time.Hour
)

// reference is how often a path's route was found, and when last.
type reference struct {
	times int
	at    time.Time
}

// due reports whether a path's route is to be found now.
func (r reference) due(p *paths.Path, now time.Time) bool {
	if r.times > 0 && r.times < referTimes {
		return now.Sub(r.at) >= referApart && p.WantsReference(now, 0)
	}
	return now.Sub(r.at) >= asked && p.WantsReference(now, referenceAge)
}

// refer has the routes of steady paths found that nobody finds, one after the other. It is paid
// from the same budget as evidence.
func (x *Suspicion) refer(ctx context.Context) {
	tick := time.NewTicker(referEvery)
	defer tick.Stop()
	done := map[ident.ID]reference{}
	var list []*paths.Path
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if len(list) == 0 {
			list = x.Paths.All()
		}
		now := time.Now()
		for len(list) > 0 {
			p := list[len(list)-1]
			list = list[:len(list)-1]
			r := done[p.ID]
			if !r.due(p, now) {
				continue
			}
			if r.at = now; r.times >= referTimes {
				r.times = 0
			}
			r.times++
			done[p.ID] = r
			if a := x.Fleet.ByID(p.AgentID); a == nil || !a.Here() {
				continue
			}
			if _, err := x.begin(ctx, job{path: p, at: now}, x.looks(p)[0]); err != nil && ctx.Err() == nil {
				x.Log.Info("a steady path's route is not found", "path", p.ID, "why", err)
				continue
			}
			break
		}
	}
}
