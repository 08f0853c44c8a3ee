package paths

import (
	"encoding/json"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

// Episode is an episode of a path as it is kept.
type Episode struct {
	ID   ident.ID `json:"-"`
	Path ident.ID `json:"-"`
	guard.Episode
	// Number counts the episodes of the path; 0 for one that an earlier version kept.
	Number int `json:"number"`
	// Route is the change of route that came with it, and Seen what a trace found while it
	// lasted, if there is such.
	Route *guard.RouteChange `json:"route,omitempty"`
	Seen  []finding.Finding  `json:"seen,omitempty"`

	matters []store.Matter // that it is kept with
}

// EpisodeOf reads a stored episode.
func EpisodeOf(row store.Episode) (e Episode) {
	e.ID, e.Path = row.ID, row.PathID
	if row.Body != nil && json.Unmarshal([]byte(*row.Body), &e) == nil {
		return e
	}
	e.Kind, e.From, e.ToldAt, e.Doubt = guard.Kind(row.Kind), row.FromAt.UTC(), row.FromAt.UTC(), guard.Doubt{From: row.FromAt.UTC(), To: row.FromAt.UTC()}
	if row.ToAt != nil {
		e.To = row.ToAt.UTC()
		e.OverToldAt = e.To
	}
	_ = json.Unmarshal([]byte(row.Excesses), &e.Excesses)
	for i := range e.Excesses {
		e.Excesses[i].From, e.Excesses[i].To = e.From, e.To
	}
	return e
}

// row is the episode as it is stored.
func (e Episode) row() store.Episode {
	body, _ := json.Marshal(e)
	text := string(body)
	row := store.Episode{ID: e.ID, PathID: e.Path, Kind: string(e.Kind), FromAt: e.From.UTC(), Excesses: "[]", Body: &text}
	if !e.Open() {
		to := e.To.UTC()
		row.ToAt = &to
	}
	row.Matters = e.matters
	return row
}

func rowsOf(list []Episode) []store.Episode {
	rows := make([]store.Episode, len(list))
	for i, e := range list {
		rows[i] = e.row()
	}
	return rows
}

// noteAll takes changes of episodes into the list and returns them as they are kept, and
// whether the path's standing changed.
func (p *Path) noteAll(changes []guard.Change) (keep []Episode, changed bool) {
	for _, change := range changes {
		e := p.note(change.Number, change.Episode)
		e.matters = []store.Matter{{ID: ident.New(), Subject: e.ID, PathID: &p.ID, What: string(change.What), At: change.At.UTC(), MadeAt: time.Now().UTC()}}
		keep = append(keep, e)
		changed = changed || change.What != guard.Worse && change.What != guard.Easing
	}
	return keep, changed
}

// note takes what an episode is now into the list and returns it as it is kept.
func (p *Path) note(number int, x guard.Episode) Episode {
	e := Episode{Path: p.ID, Episode: x, Number: number}
	if c, ok := p.guard.RouteChangeOf(x); ok {
		e.Route = &c
	}
	if id, ok := p.ids[number]; ok {
		e.ID = id
		for i := range p.episodes {
			if p.episodes[i].ID == id {
				e.Seen = p.episodes[i].Seen
				if e.Route == nil {
					e.Route = p.episodes[i].Route
				}
				p.episodes[i] = e
				return e
			}
		}
	} else {
		e.ID = ident.New()
		p.ids[number] = e.ID
	}
	p.episodes = append(p.episodes, e)
	return e
}

// Numbered is the episode of a number, of the last days; false when there is none.
func (p *Path) Numbered(number int) (Episode, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.episode(number)
}

// episode is the one of a number among those of the last days.
func (p *Path) episode(number int) (Episode, bool) {
	id, ok := p.ids[number]
	for i := len(p.episodes) - 1; ok && i >= 0; i-- {
		if p.episodes[i].ID == id {
			return p.episodes[i], true
		}
	}
	return Episode{}, false
}

// TakeRoute takes in the route that a trace found. It returns the episodes to be kept, and
// whether how the path is guarded is to be kept too.
func (p *Path) TakeRoute(at time.Time, r *finding.TraceReport) (keep []store.Episode, moved bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	moved = p.guard.Route(at, hopsOf(r))
	for _, o := range p.guard.Open() {
		e, ok := p.episode(o.Number)
		if !ok || at.Before(o.Episode.From) {
			continue
		}
		was := e
		if c, is := p.guard.RouteChangeOf(o.Episode); is && e.Route == nil {
			e.Route = &c
		}
		if e.Seen == nil {
			e.Seen = r.Whence()
		}
		if (e.Route == nil) == (was.Route == nil) && len(e.Seen) == len(was.Seen) {
			continue
		}
		for i := range p.episodes {
			if p.episodes[i].ID == e.ID {
				p.episodes[i] = e
			}
		}
		keep = append(keep, e.row())
	}
	return keep, moved
}

// hopsOf are the hops of a trace, empty where nobody answers or packets part.
func hopsOf(r *finding.TraceReport) []string {
	hops := make([]string, len(r.Hops))
	for i, h := range r.Hops {
		if !h.PerPacket && len(h.Nodes) == 1 {
			hops[i] = h.Address
		}
	}
	return hops
}
