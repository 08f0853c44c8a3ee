package paths

import (
	"context"
	"fmt"
	"log/slog"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

// Options of Paths; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Events  *events.Stream
	Notices *notices.Notices
	Fleet   *fleet.Fleet
	Devices *devices.Devices
	// Guards is how paths are guarded.
	Guards guard.Options
	// Training is the window of a rolling baseline.
	Training time.Duration
	// SiteOf names the site of a target, if that is known.
	SiteOf func(target string) string
	// Changed, where it is set, is told of what happens to the episodes of a path, once that is
	// kept, without a lock.
	Changed func(p *Path, list []guard.Change)
	// Incidents hear of what happens to episodes; see Listener.
	Incidents Listener
}

// Listener hears of what happens to the episodes of paths.
type Listener interface {
	// Happened is told of changes as they come.
	Happened(ctx context.Context, list []guard.Change) error
	// Found is told of incidents of the past.
	Found(ctx context.Context, list []guard.Incident) error
}

// Paths are all paths. It is safe for concurrent use.
type Paths struct {
	Options
	mu     sync.RWMutex
	byID   map[ident.ID]*Path
	byEnds map[store.Ends]*Path // the same
}

// New is without a path.
func New(o Options) *Paths {
	return &Paths{Options: o, byID: map[ident.ID]*Path{}, byEnds: map[store.Ends]*Path{}}
}

// atOnce is how many paths are read side by side as the service starts: most of it is waiting
// for the database.
const atOnce = 8

// Load takes up what the database knows of all paths.
func (x *Paths) Load(ctx context.Context) error {
	list, err := x.Store.Paths(ctx)
	if err != nil {
		return err
	}
	had, err := x.read(ctx)
	if err != nil {
		return err
	}
	states := make([]*Path, len(list))
	side, ctx := errgroup.WithContext(ctx)
	side.SetLimit(atOnce)
	for i, p := range list {
		states[i] = x.newPath(p)
		side.Go(func() error { return states[i].load(ctx, x, had) })
	}
	if err := side.Wait(); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, p := range states {
		x.add(p)
	}
	return nil
}

// stored is what is read of all paths at once.
type stored struct {
	at        time.Time
	episodes  map[ident.ID][]store.Episode // of the last days, oldest first
	guards    map[ident.ID]store.Guard
	baselines map[ident.ID]bool
}

// read asks of all paths at once what would take a question for each.
func (x *Paths) read(ctx context.Context) (had stored, err error) {
	had = stored{at: time.Now(), episodes: map[ident.ID][]store.Episode{}}
	rows, err := x.Store.Episodes(ctx, ident.ID{}, had.at.Add(-episodeMemory), had.at.Add(time.Hour))
	if err != nil {
		return had, err
	}
	for _, row := range rows {
		had.episodes[row.PathID] = append(had.episodes[row.PathID], row)
	}
	if had.guards, err = x.Store.Guards(ctx); err != nil {
		return had, err
	}
	had.baselines, err = x.Store.WithBaselines(ctx)
	return had, err
}

// add takes in a path; mu is held.
func (x *Paths) add(p *Path) { x.byID[p.ID], x.byEnds[p.Ends()] = p, p }

// Ensure returns the paths between ends, in their order, made where they are not there.
func (x *Paths) Ensure(ctx context.Context, list []store.Ends) ([]*Path, error) {
	out := make([]*Path, len(list))
	var missing []store.Ends
	x.mu.RLock()
	for i, e := range list {
		if out[i] = x.byEnds[e]; out[i] == nil {
			missing = append(missing, e)
		}
	}
	x.mu.RUnlock()
	if len(missing) == 0 {
		return out, nil
	}
	made, err := x.Store.EnsurePaths(ctx, missing, x.SiteOf)
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, p := range made {
		if x.byID[p.ID] == nil {
			x.add(x.newPath(p))
		}
	}
	for i, e := range list {
		out[i] = x.byEnds[e]
	}
	return out, nil
}

// ByID is a path; nil when there is none.
func (x *Paths) ByID(id ident.ID) *Path {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.byID[id]
}

// find is a path; the error wraps store.ErrNotFound.
func (x *Paths) find(id ident.ID) (*Path, error) {
	if p := x.ByID(id); p != nil {
		return p, nil
	}
	return nil, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
}

// All are the paths, in no order.
func (x *Paths) All() []*Path {
	x.mu.RLock()
	defer x.mu.RUnlock()
	list := make([]*Path, 0, len(x.byID))
	for _, p := range x.byID {
		list = append(list, p)
	}
	return list
}

// Key names a path by its ends.
func (x *Paths) Key(p *Path) guard.Key {
	return guard.Key{From: x.Fleet.NameOf(p.AgentID), To: p.Target, Family: strconv.Itoa(int(p.Family)), Via: p.Via}
}

// Keys are what the paths are called by their ends, by identifier.
func (x *Paths) Keys() map[ident.ID]guard.Key {
	all := x.All()
	keys := make(map[ident.ID]guard.Key, len(all))
	for _, p := range all {
		keys[p.ID] = x.Key(p)
	}
	return keys
}

// IDs are the identifiers of the paths by their ends.
func (x *Paths) IDs() map[guard.Key]ident.ID {
	ids := map[guard.Key]ident.ID{}
	for id, k := range x.Keys() {
		ids[k] = id
	}
	return ids
}

// Ends are the agent and the path of an identifier; the error wraps store.ErrNotFound.
func (x *Paths) Ends(id ident.ID) (store.Agent, store.Path, error) {
	p, err := x.find(id)
	if err != nil {
		return store.Agent{}, store.Path{}, err
	}
	if a := x.Fleet.ByID(p.AgentID); a != nil {
		return a.Agent, p.Path, nil
	}
	return store.Agent{}, p.Path, nil
}

// nameOf says which path it is, for people.
func (x *Paths) nameOf(p *Path) string {
	from := x.Fleet.NameOf(p.AgentID)
	if from == "" {
		from = "?"
	}
	return from + " to " + p.Target
}

// GoesTo reports whether a run that went to a far end, or to a target, went to that of a path,
// or to an agent that stands at it.
func (x *Paths) GoesTo(p *Path, far ident.ID, target string) bool {
	if target == p.Target {
		return true
	}
	a := x.Fleet.ByID(far)
	return a != nil && a.IsAt(p.Target)
}

// GoesBeside reports whether a run that went elsewhere went to the site of a path's target.
func (x *Paths) GoesBeside(p *Path, far ident.ID) bool {
	a := x.Fleet.ByID(far)
	site := p.SiteNow()
	return a != nil && site != "" && a.Site == site
}

// Between is the path that a measurement between two ends was made on: of several, that by
// IPv4 and by echoes; nil when none is watched between those ends.
func (x *Paths) Between(agent, far ident.ID, target string) (best *Path) {
	rank := func(p *Path) int {
		n := int(p.Family)
		if p.Via != "icmp" {
			n += 100
		}
		return n
	}
	for _, p := range x.All() {
		if p.AgentID == agent && x.GoesTo(p, far, target) && (best == nil || rank(p) < rank(best)) {
			best = p
		}
	}
	return best
}

// To are the paths of an agent to a target by a family, by whatever they are asked.
func (x *Paths) To(agent ident.ID, target string, family wire.Family) (list []*Path) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, p := range x.byID {
		if p.AgentID == agent && p.Target == target && p.Family == family {
			list = append(list, p)
		}
	}
	return list
}
