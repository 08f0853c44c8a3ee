// Package suspicion catches faults in the act: a path that looks wrong is probed more for some
// minutes, so that the doubt is settled soon; and when an episode opens, and once more as it
// closes, evidence is taken at once: the route there, and back where an agent stands there,
// another kind of probe, and the way from near to far. All of it is paid from a budget of
// packets of the watch, and of the agent's owner.
//
//	s := suspicion.New(suspicion.Options{Store: db, Fleet: f, Paths: p, …})
//	go s.Run(ctx)
//	s.Look(path) // after readings came
package suspicion

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

const (
	// A burst is so many probes so far apart; there are up to rounds of them.
	burstProbes   = 50
	burstInterval = 200 * time.Millisecond
	rounds        = 16
	usualPause    = 5 * time.Second
	// rest is how long a path that was probed more in vain is left alone.
	rest = 5 * time.Minute
	// atOnce is how many paths are probed more, or looked into, at a time; others wait, as many
	// as waiting, and what is more is not looked into.
	atOnce  = 64
	waiting = 2000
	// stale is how long after it happened evidence is worth taking no more.
	stale = 3 * time.Minute
)

// Options of Suspicion; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Fleet   *fleet.Fleet
	Paths   *paths.Paths
	Runs    *runs.Runs
	Watches *watches.Watches
	// Pause is the time between two rounds of more probes; 5 s when 0.
	Pause time.Duration
}

// Suspicion catches faults in the act. It is safe for concurrent use.
type Suspicion struct {
	Options
	jobs chan job

	mu      sync.Mutex
	active  map[ident.ID]bool      // paths that are probed more, or wait for it
	rested  map[ident.ID]time.Time // until when paths are left alone
	spent   map[ident.ID][]spent   // on paths within a day
	watched map[ident.ID]int64     // what may be sent to each path a day
	asked   time.Time              // when that was looked up
}

type spent struct {
	at      time.Time
	packets float64
}

// job is a path to be probed more, or of whose episode evidence is to be taken.
type job struct {
	path    *paths.Path
	episode ident.ID // none: it is only suspect
	phase   string
	at      time.Time
	round   int // of more probes
}

// share is which part of a day's packets it may take: what is found while all is well leaves most
// of them for when it is not.
func (j job) share() float64 {
	if j.phase == "" {
		return 0.1
	}
	return 1
}

// The phases of an episode in which evidence is taken.
const (
	Opening = "opening"
	Closing = "closing"
)

// New suspects nothing yet.
func New(o Options) *Suspicion {
	if o.Pause == 0 {
		o.Pause = usualPause
	}
	return &Suspicion{Options: o, jobs: make(chan job, waiting), active: map[ident.ID]bool{}, rested: map[ident.ID]time.Time{}, spent: map[ident.ID][]spent{}}
}

// Run looks into what is suspect until ctx ends.
func (x *Suspicion) Run(ctx context.Context) {
	var wg sync.WaitGroup
	defer wg.Wait()
	wg.Go(func() { x.refer(ctx) })
	for range atOnce {
		wg.Go(func() {
			for {
				select {
				case j := <-x.jobs:
					x.carryOut(ctx, j)
				case <-ctx.Done():
					return
				}
			}
		})
	}
}

func (x *Suspicion) carryOut(ctx context.Context, j job) {
	if j.episode.IsZero() {
		x.settle(ctx, j)
		return
	}
	if list := x.evidence(ctx, j); len(list) > 0 {
		if err := x.Store.SaveEvidence(ctx, list); err != nil && ctx.Err() == nil {
			x.Log.Error("evidence could not be kept", "path", j.path.ID, "error", err)
		}
	}
}

// Look has a path probed more if it looks wrong, and may be.
func (x *Suspicion) Look(p *paths.Path) {
	now := time.Now()
	if now.Sub(p.Judged()) > 30*time.Minute || !p.Suspects(now) { // what comes late is no matter of now
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.active[p.ID] || now.Before(x.rested[p.ID]) {
		return
	}
	select {
	case x.jobs <- job{path: p, at: now}:
		x.active[p.ID] = true
	default: // too many are suspect at once
	}
}

// Changed has evidence taken of episodes that open or close.
func (x *Suspicion) Changed(p *paths.Path, list []guard.Change) {
	now := time.Now()
	for _, c := range list {
		phase := map[guard.Happening]string{guard.Opened: Opening, guard.Resumed: Opening, guard.Closed: Closing}[c.What]
		if phase == "" || now.Sub(c.At) > time.Hour {
			continue
		}
		select {
		case x.jobs <- job{path: p, episode: p.IDOf(c.Number), phase: phase, at: now}:
		default:
		}
	}
}

// settle probes a path once more, and again a while later as long as it looks wrong and nothing
// is told of it; others come in between.
func (x *Suspicion) settle(ctx context.Context, j job) {
	told, err := false, error(nil)
	if j.path.Suspects(time.Now()) {
		told, err = x.burst(ctx, j.path)
	}
	if err != nil && ctx.Err() == nil {
		x.Log.Info("a path that looks wrong is not probed more", "path", j.path.ID, "why", err)
	}
	if j.round++; err == nil && !told && j.round < rounds && ctx.Err() == nil && j.path.Suspects(time.Now()) {
		time.AfterFunc(x.Pause, func() {
			select {
			case x.jobs <- j:
			default:
				x.over(j.path)
			}
		})
		return
	}
	x.over(j.path)
}

// over leaves a path alone for a while.
func (x *Suspicion) over(p *paths.Path) {
	now := time.Now()
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.active, p.ID)
	x.rested[p.ID] = now.Add(rest)
	for id, until := range x.rested {
		if now.After(until) {
			delete(x.rested, id)
		}
	}
}

// burst probes a path and judges it by that; it reports whether something was told.
func (x *Suspicion) burst(ctx context.Context, p *paths.Path) (told bool, err error) {
	k, err := kind.Find(kind.Or(""))
	if err != nil {
		return false, err
	}
	how, err := specOf(k, p, map[string]any{"via": p.Via, "probes": burstProbes, "interval": burstInterval.String(), "wait": "1s"})
	if err != nil {
		return false, err
	}
	a := x.Fleet.ByID(p.AgentID)
	if a == nil || !a.Here() {
		return false, fmt.Errorf("its agent is not there")
	}
	if err := x.pay(p, k, how, 1); err != nil {
		return false, err
	}
	spec, err := k.Encode(how)
	if err != nil {
		return false, err
	}
	lane := protocol.RunLane{Run: ident.New(), Path: p.ID, Lane: kind.Lane{Target: x.at(p), Family: p.Family, Via: p.Via}}
	began := time.Now()
	made, err := a.Worker.Do(ctx, protocol.RunOrder{Kind: k.Name, Version: k.Version, Spec: spec, Targets: []string{lane.Lane.Target}, Lanes: []protocol.RunLane{lane}, Extra: true, Return: true}, nil)
	if err != nil || len(made) != 1 || made[0].Body == nil {
		return false, fmt.Errorf("it could not be probed: %w", err)
	}
	found, err := k.ReadResult(made[0].Version, made[0].Body)
	if err != nil {
		return false, err
	}
	r, is := found.(kind.Probed)
	if !is {
		return false, nil
	}
	point := r.Probed()
	// It is of a minute whose own reading is still to come, or of the one that was judged last; it
	// is known now.
	if point.At = began.UTC().Truncate(time.Minute); !point.At.After(p.Judged()) {
		point.At = p.Judged()
	}
	point.Span = time.Since(point.At)
	changes := p.Beside(point)
	return len(changes) > 0, x.Paths.Happened(ctx, p, changes)
}

// at is where a path's target is.
func (x *Suspicion) at(p *paths.Path) string {
	if at := x.Fleet.Stands(p.Target, p.Family); at != "" {
		return at
	}
	return p.Target
}

// specOf is a spec of a kind with the given fields, of those that it has.
func specOf(k *kind.Kind, p *paths.Path, fields map[string]any) (kind.Spec, error) {
	if _, err := netip.ParseAddr(p.Target); err != nil { // of an address the family is known
		fields["family"] = fmt.Sprint(int(p.Family))
	}
	given := map[string]json.RawMessage{}
	for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
		if v, is := fields[f.Name]; is {
			raw, err := json.Marshal(v)
			if err != nil {
				return nil, err
			}
			given[f.Name] = raw
		}
	}
	return k.Take(kind.Standing, given)
}

// pay takes the packets of a measurement from what may be sent to a path a day, of which a share
// is for the like, or says that not as many are left.
func (x *Suspicion) pay(p *paths.Path, k *kind.Kind, how kind.Spec, share float64) error {
	cost := 0.0
	if k.Cost != nil {
		cost = k.Cost(how, []string{p.Target}).Packets
	}
	now := time.Now()
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.watched == nil || now.Sub(x.asked) > time.Minute {
		x.watched, x.asked = x.budgets(), now
	}
	most, sum := x.watched[p.ID], 0.0
	list := slices.DeleteFunc(x.spent[p.ID], func(s spent) bool { return now.Sub(s.at) > 24*time.Hour })
	for _, s := range list {
		sum += s.packets
	}
	if sum+cost > share*float64(most) {
		x.spent[p.ID] = list
		return fmt.Errorf("of the %d packets a day that its watches allow for this, %.0f are sent", most, sum)
	}
	x.spent[p.ID] = append(list, spent{now, cost})
	return nil
}

// budgets are what the watches of each path allow a day: of several that which allows most.
func (x *Suspicion) budgets() map[ident.ID]int64 {
	most := map[ident.ID]int64{}
	for id, list := range x.Watches.OfPaths() {
		for _, w := range list {
			if w.Paused || w.Spec.Suspicion < 0 {
				continue
			}
			n := w.Spec.Suspicion
			if n == 0 {
				n = watches.UsualSuspicion
			}
			most[id] = max(most[id], n)
		}
	}
	return most
}

// look is one of the measurements that are evidence.
type look struct {
	what   string
	kind   *kind.Kind
	from   string
	to     string
	fields map[string]any
}

// looks are what is measured of a path as evidence.
func (x *Suspicion) looks(p *paths.Path) (list []look) {
	near := x.Fleet.NameOf(p.AgentID)
	route := kind.In("traces")
	quick := map[string]any{"probes": 3, "interval": "200ms", "wait": "1s", "retries": 1, "with_packets": true}
	list = append(list, look{"route", route, near, p.Target, quick})
	if far, err := x.Fleet.StandsAt(p.Target, p.AgentID); err == nil {
		if a := x.Fleet.ByID(p.AgentID); a != nil && a.Address != "" {
			list = append(list, look{"route back", route, far.Name, a.Address, quick})
		}
	}
	other := "icmp"
	if p.Via == "icmp" {
		other = "tcp:443"
	}
	if k, err := kind.Find(kind.Or("")); err == nil {
		list = append(list, look{"by " + other, k, near, p.Target, map[string]any{"via": other, "probes": 20, "interval": "100ms", "wait": "1s"}})
	}
	for _, k := range kind.All() {
		if k.Here {
			list = append(list, look{"near to far", k, near, p.Target, map[string]any{"probes": 20, "interval": "50ms", "wait": "1s"}})
		}
	}
	return list
}

// evidence begins what is measured of an episode; what is not begun is kept with its reason.
func (x *Suspicion) evidence(ctx context.Context, j job) (list []store.Evidence) {
	for _, l := range x.looks(j.path) {
		e := store.Evidence{ID: ident.New(), PathID: j.path.ID, EpisodeID: j.episode, Phase: j.phase, What: l.what, At: time.Now().UTC()}
		run, err := x.begin(ctx, j, l)
		if err != nil {
			e.Says = short(err.Error())
		} else {
			e.RunID = &run
		}
		list = append(list, e)
	}
	return list
}

func short(text string) string {
	const most = 400
	if len(text) > most {
		return text[:most] + "…"
	}
	return text
}

func (x *Suspicion) begin(ctx context.Context, j job, l look) (ident.ID, error) {
	if time.Since(j.at) > stale {
		return ident.ID{}, fmt.Errorf("too many paths were looked into at once: its turn came %v later", time.Since(j.at).Round(time.Second))
	}
	how, err := specOf(l.kind, j.path, l.fields)
	if err != nil {
		return ident.ID{}, err
	}
	if err := x.pay(j.path, l.kind, how, j.share()); err != nil {
		return ident.ID{}, err
	}
	rows, err := x.Runs.Start(ctx, runs.Request{Kind: l.kind, From: l.from, Targets: []string{l.to}, How: how, Extra: true})
	if err != nil {
		return ident.ID{}, err
	}
	return rows[0].ID, nil
}

// Busy is how many paths are probed more, or wait for it.
func (x *Suspicion) Busy() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.active)
}
