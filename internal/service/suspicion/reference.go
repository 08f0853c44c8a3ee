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
	// asked is after how long a path is asked for once more.
	asked = 24 * time.Hour
)

// refer has the routes of steady paths found that nobody finds, one after the other. It is paid
// from the same budget as evidence.
func (x *Suspicion) refer(ctx context.Context) {
	tick := time.NewTicker(referEvery)
	defer tick.Stop()
	done := map[ident.ID]time.Time{}
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
			if now.Sub(done[p.ID]) < asked || !p.WantsReference(now, referenceAge) {
				continue
			}
			done[p.ID] = now
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
