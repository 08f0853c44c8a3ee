// Package service is what decides what is measured where, takes in what agents measured, and
// knows how all paths stand. Each noun of it has a package, with its own lock; here they are
// put together.
//
//	s, err := service.New(ctx, service.Options{Store: db, Zone: time.Local})
//	s.AddAgent(ctx, store.Agent{Name: "local", Kind: "builtin"}, func(id ident.ID) (protocol.Worker, error) { … })
//	err = s.Run(ctx)
package service

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/geo"
	"woodlark.example/core/guard"
	"woodlark.example/core/route"
	_ "woodlark.example/internal/channel/all" // by what people are told
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all" // what can be measured
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/annotations"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/service/comparisons"
	"woodlark.example/internal/service/conversations"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/dossiers"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/ingest"
	"woodlark.example/internal/service/likenesses"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/maintenance"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/notify"
	"woodlark.example/internal/service/objectives"
	"woodlark.example/internal/service/owners"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/service/plans"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/sites"
	"woodlark.example/internal/service/suspicion"
	"woodlark.example/internal/service/transfer"
	"woodlark.example/internal/service/visits"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Options of a service.
type Options struct {
	Store *store.Store
	Log   *slog.Logger
	// Now is the clock that agents' clocks are held against; this machine's when nil.
	Now func() time.Time
	// Zone is whose hours baselines go by; the local one when nil.
	Zone *time.Location
	// Holidays are days off beside Saturdays and Sundays.
	Holidays []time.Time
	// Tolerances are what is not worth caring about, where that is otherwise than usual.
	Tolerances baseline.Tolerances
	// Maintenance are stretches that are measured, but neither judged nor learnt from.
	Maintenance []baseline.Interval
	// Training is the window of a rolling baseline; 14 days when 0.
	Training time.Duration
	// Keep is how long readings are kept; 90 days when 0.
	Keep   time.Duration
	Owners route.Owners // of prefixes, for the hops of traces
	// PublicWebhooks forbids webhooks to private, loopback and link-local addresses.
	PublicWebhooks bool
	// Disk says which disk is full, if one is that the service needs; "" otherwise.
	Disk func() string
	// SiteOf names the site of a target, if that is known.
	SiteOf func(target string) string
	// Visitors is where packets of visitors' browsers arrive, by UDP; not valid where none are taken.
	Visitors netip.AddrPort
	// TraceVisitors is the agent that traces the way to visitors; none does when empty.
	TraceVisitors string
	// Land is the outline that maps have; they have none without it.
	Land func() []geo.Ring
}

func (o Options) withDefaults() Options {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Zone == nil {
		o.Zone = time.Local
	}
	if o.Training == 0 {
		o.Training = 14 * 24 * time.Hour
	}
	if o.Keep == 0 {
		o.Keep = 90 * 24 * time.Hour
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Disk == nil {
		o.Disk = func() string { return "" }
	}
	if o.SiteOf == nil {
		o.SiteOf = func(string) string { return "" }
	}
	return o
}

// inWords are the options that figures rest on, by name.
func (o Options) inWords() map[string]string {
	days := make([]string, len(o.Holidays))
	for i, d := range o.Holidays {
		days[i] = d.Format("2006-01-02")
	}
	var tolerances []string
	for m, t := range o.Tolerances {
		tolerances = append(tolerances, fmt.Sprintf("%s %+v", m, t))
	}
	slices.Sort(tolerances)
	return map[string]string{"zone": o.Zone.String(), "training": o.Training.String(), "retention": o.Keep.String(), "holidays": strings.Join(days, ","), "tolerances": strings.Join(tolerances, "; ")}
}

// Service is the nouns of the service, put together. It is safe for concurrent use.
type Service struct {
	Store     *store.Store
	Events    *events.Stream
	Notices   *notices.Notices
	People    *people.People
	Fleet     *fleet.Fleet
	Devices   *devices.Devices
	Paths     *paths.Paths
	Incidents *incidents.Incidents
	Loads     *loads.Loads
	Runs      *runs.Runs
	Watches   *watches.Watches
	Ingest    *ingest.Ingest
	// Maintenance are the windows of maintenance, beside those of the settings.
	Maintenance *maintenance.Windows
	Suspicion   *suspicion.Suspicion
	Objectives  *objectives.Objectives
	Plans       *plans.Plans
	Notify      *notify.Notify
	Reports     *reports.Reports
	Annotations *annotations.Annotations
	Comparisons *comparisons.Comparisons
	Likenesses  *likenesses.Likenesses
	Dossiers    *dossiers.Dossiers
	Guests      *guests.Guests
	Visits      *visits.Visits
	Transfer    *transfer.Transfer
	Sites       *sites.Sites
	Owners      *owners.Owners
	Boards      *boards.Boards
	// Conversations are those of the programs of agents' machines.
	Conversations *conversations.Conversations

	log     *slog.Logger
	members atomic.Pointer[[]Member]
	seek    atomic.Pointer[func(context.Context)]
	sought  atomic.Int64  // when, in seconds
	guards  guard.Options // by which paths are guarded
	keep    time.Duration
}

// New loads what the database knows.
func New(ctx context.Context, o Options) (*Service, error) {
	o = o.withDefaults()
	s := &Service{Store: o.Store, log: o.Log, keep: o.Keep, Events: &events.Stream{}, Devices: &devices.Devices{}, Loads: loads.New()}
	s.guards = guard.Options{Calendar: baseline.Calendar{Zone: o.Zone, Holidays: o.Holidays}, Tolerances: o.Tolerances, Maintenance: o.Maintenance, Training: o.Training, Elsewhere: true, Same: s.Devices.Same}
	s.Notices = notices.New(notices.Options{Store: o.Store, Log: o.Log, Events: s.Events, Zone: o.Zone, Disk: o.Disk})
	s.People = people.New(people.Options{Store: o.Store, Notices: s.Notices, Log: o.Log, Now: o.Now})
	s.Fleet = fleet.New(fleet.Options{Store: o.Store, Log: o.Log, Notices: s.Notices, Service: s, Changed: s.agentsChanged, SiteOf: func(target string) string { return s.Sites.OfTarget(target) }})
	s.Incidents = incidents.New(incidents.Options{Store: o.Store, Events: s.Events, Devices: s.Devices})
	s.Paths = paths.New(paths.Options{Store: o.Store, Log: o.Log, Events: s.Events, Notices: s.Notices, Fleet: s.Fleet, Devices: s.Devices, Guards: s.guards, Training: o.Training, SiteOf: func(target string) string { return s.Sites.Of(target) }, Incidents: s.Incidents})
	s.Incidents.Paths = s.Paths
	s.Sites = sites.New(sites.Options{Store: o.Store, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Elsewhere: o.SiteOf})
	s.Owners = owners.New(o.Store, s.Notices, o.Owners)
	s.Runs = runs.New(runs.Options{Store: o.Store, Log: o.Log, Events: s.Events, Fleet: s.Fleet, Paths: s.Paths, Loads: s.Loads, Service: s})
	s.Watches = watches.New(watches.Options{Store: o.Store, Log: o.Log, Events: s.Events, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Runs: s.Runs})
	s.Runs.Measuring = func(from, to string) string {
		if w := s.Watches.Measuring(from, to); w != nil {
			return w.Name
		}
		return ""
	}
	s.Suspicion = suspicion.New(suspicion.Options{Store: o.Store, Log: o.Log, Fleet: s.Fleet, Paths: s.Paths, Runs: s.Runs, Watches: s.Watches})
	s.Paths.Changed = s.Suspicion.Changed
	s.Conversations = conversations.New(conversations.Options{Store: o.Store, Log: o.Log, Events: s.Events, Fleet: s.Fleet, Runs: s.Runs, Watches: s.Watches})
	s.Ingest = ingest.New(ingest.Options{Store: o.Store, Log: o.Log, Now: o.Now, Owners: s.Owners.Table, Events: s.Events, Notices: s.Notices, Fleet: s.Fleet, Devices: s.Devices, Paths: s.Paths, Incidents: s.Incidents, Loads: s.Loads, Runs: s.Runs, Suspicion: s.Suspicion, Talks: s.Conversations})
	s.Objectives = objectives.New(o.Store, s.Notices)
	s.Plans = plans.New(o.Store, s.Notices)
	s.Annotations = annotations.New(annotations.Options{Store: o.Store, Notices: s.Notices, Paths: s.Paths})
	s.Likenesses = likenesses.New(likenesses.Options{Store: o.Store, Fleet: s.Fleet, Paths: s.Paths, Zone: o.Zone})
	s.Visits = visits.New(visits.Options{Store: o.Store, Log: o.Log, Listen: o.Visitors, Trace: s.tracesTo(o.TraceVisitors)})
	s.Comparisons = comparisons.New(comparisons.Options{Store: o.Store, Fleet: s.Fleet, Paths: s.Paths, Zone: o.Zone})
	s.Reports = reports.New(reports.Options{Annotations: s.Annotations, Store: o.Store, Fleet: s.Fleet, Devices: s.Devices, Paths: s.Paths, Incidents: s.Incidents, Watches: s.Watches, Objectives: s.Objectives, Zone: o.Zone, Views: s.reported})
	s.Dossiers = dossiers.New(dossiers.Options{Store: o.Store, Fleet: s.Fleet, Paths: s.Paths, Watches: s.Watches, Reports: s.Reports, Annotations: s.Annotations, Owners: s.Owners.Table, Zone: o.Zone, Settings: o.inWords()})
	s.Guests = guests.New(guests.Options{Store: o.Store, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Incidents: s.Incidents, Reports: s.Reports, Zone: o.Zone})
	s.Boards = boards.New(boards.Options{Store: o.Store, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Watches: s.Watches, Incidents: s.Incidents, Reports: s.Reports, Sites: s.Sites, Zone: o.Zone, Views: s.reported, Land: o.Land})
	s.Guests.Boards = s.Boards
	s.Transfer = transfer.New(transfer.Options{Store: o.Store, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Watches: s.Watches})
	s.Notify = notify.New(notify.Options{Store: o.Store, Log: o.Log, Notices: s.Notices, Fleet: s.Fleet, Devices: s.Devices, Paths: s.Paths, Incidents: s.Incidents, Watches: s.Watches, Reports: s.Reports, Zone: o.Zone, Holidays: o.Holidays, PublicOnly: o.PublicWebhooks})
	s.Maintenance = maintenance.New(maintenance.Options{Store: o.Store, Log: o.Log, Events: s.Events, Notices: s.Notices, Fleet: s.Fleet, Paths: s.Paths, Watches: s.Watches, Zone: o.Zone, Training: o.Training})
	return s, s.load(ctx)
}

func (s *Service) load(ctx context.Context) error {
	if err := s.Store.EndRunning(ctx); err != nil {
		return err
	}
	for _, load := range []func(context.Context) error{s.People.Load, s.Fleet.Load, s.Sites.Load, s.Owners.Load, s.Watches.Load, s.Paths.Load, s.movePaths, s.Boards.Load, s.Maintenance.Load, s.Objectives.Load, s.Incidents.Load,
		func(ctx context.Context) error {
			return s.Devices.Load(ctx, s.Store, time.Now().Add(-ingest.UsualWithin))
		},
		s.Conversations.Load, s.Notify.Load, s.Guests.Load,
		func(ctx context.Context) error { return s.Loads.Load(ctx, s.Store, s.Fleet.Agents()) },
	} {
		if err := load(ctx); err != nil {
			return err
		}
	}
	return nil
}

// Member is a service of several on one database.
type Member struct {
	store.Member
	Works bool // on the database; the others hand their callers on
}

// SetMembers says which services are on the database. own is the one that works on it.
func (s *Service) SetMembers(list []store.Member, own ident.ID) {
	var out []Member
	var marks [][]byte
	for _, m := range list {
		out = append(out, Member{m, m.Owner == own})
		marks = append(marks, m.TokenMark)
	}
	s.members.Store(&out)
	s.People.Machines(marks)
}

// SetSeek says how the members are looked up at once.
func (s *Service) SetSeek(seek func(context.Context)) { s.seek.Store(&seek) }

// SeekMembers looks up at once which services are on the database, once a second at most; false where
// it did not. A service that has just begun is known then.
func (s *Service) SeekMembers(ctx context.Context) bool {
	seek := s.seek.Load()
	now, last := time.Now().Unix(), s.sought.Load()
	if seek == nil || now == last || !s.sought.CompareAndSwap(last, now) {
		return false
	}
	(*seek)(ctx)
	return true
}

// Members are the services on the database; none where there is one alone.
func (s *Service) Members() []Member {
	if list := s.members.Load(); list != nil {
		return *list
	}
	return nil
}

// Zone is whose hours baselines go by.
func (s *Service) Zone() *time.Location { return s.guards.Calendar.Zone }

// MaintenanceOf are the stretches of maintenance of a path that touch a stretch of time.
func (s *Service) MaintenanceOf(path ident.ID, from, to time.Time) (list []baseline.Interval) {
	if p := s.Paths.ByID(path); p != nil {
		list = p.Maintenance(from, to)
	}
	for _, w := range s.guards.Maintenance {
		if w.From.Before(to) && w.To.After(from) {
			list = append(list, w)
		}
	}
	return list
}

// Upload takes what an agent measured; see protocol.Service.
func (s *Service) Upload(ctx context.Context, u protocol.Upload) error {
	return s.Ingest.Upload(ctx, u)
}

// AddAgent makes an agent known and hands it its plan. join is given the
// agent's identifier and returns the worker that holds it; without join the agent
// is known but does not run yet.
func (s *Service) AddAgent(ctx context.Context, a store.Agent, join func(ident.ID) (protocol.Worker, error)) error {
	added, err := s.Fleet.Add(ctx, a, join)
	if err != nil || added.Worker == nil {
		return err
	}
	now := time.Now()
	if x, ok := added.Worker.(interface{ Began() time.Time }); ok {
		now = x.Began() // it measured before the database was there
	}
	s.Watches.NoteGaps(ctx, added.ID, now)
	s.Watches.Refresh(ctx)
	return nil
}

// refreshTime is how long the database may take to note who takes part.
const refreshTime = 15 * time.Second

func (s *Service) agentsChanged() {
	ctx, cancel := context.WithTimeout(context.Background(), refreshTime)
	defer cancel()
	s.Watches.Refresh(ctx)
	if err := s.movePaths(ctx); err != nil {
		s.log.Warn("where targets are could not be kept", "error", err)
	}
}

// movePaths notes where targets are by now: an agent may have come to be at a site.
func (s *Service) movePaths(ctx context.Context) error { return s.Paths.Move(ctx, s.Sites.Of) }

// Run trains baselines, makes rollups, begins what watches want and drops old days until ctx
// ends.
func (s *Service) Run(ctx context.Context) error {
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(func() { s.Watches.Run(ctx) })
	beside.Go(func() { s.Suspicion.Run(ctx) })
	beside.Go(func() { s.Notify.Run(ctx) })
	beside.Go(func() { s.People.Run(ctx) })
	defer s.Runs.End()
	defer s.Visits.Close()
	defer func() { _ = s.Notices.KeepLate(context.WithoutCancel(ctx)) }() // a last try
	s.housekeeping(ctx, "go on with runs that were cut", func() error { return s.Runs.TakeUp(ctx) })
	// One whose episodes ended as the service was being killed is not told as going on for ever.
	s.housekeeping(ctx, "end incidents", func() error { return s.Incidents.End(ctx) })
	beside.Go(func() { s.lookForDatabase(ctx) })
	tick := time.NewTicker(20 * time.Second)
	defer tick.Stop()
	var swept time.Time
	for {
		now := time.Now()
		s.housekeeping(ctx, "train baselines", func() error { return s.Paths.TrainDue(ctx, now) })
		s.housekeeping(ctx, "look for incidents", func() error { return s.Incidents.LookDue(ctx, now) })
		s.housekeeping(ctx, "look after maintenance", func() error { return s.Maintenance.Tick(ctx, now) })
		s.housekeeping(ctx, "end conversations", func() error { return s.Conversations.Tick(ctx, now) })
		s.housekeeping(ctx, "make rollups", func() error { return s.Paths.Roll(ctx, now) })
		if now.Sub(swept) > time.Hour {
			swept = now
			s.housekeeping(ctx, "drop what is old", func() error { return s.Store.DropOld(ctx, now, now.Add(-s.keep)) })
		}
		s.noteStates(now)
		s.Fleet.NoteAside(ctx)
		s.Notices.NoteDisk(ctx)
		s.housekeeping(ctx, "note what was done", func() error { return s.Notices.KeepLate(ctx) })
		s.Fleet.See(ctx, now)
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// lookForDatabase asks a database that was found away again until it is back: who stands before this
// service sends callers elsewhere meanwhile.
func (s *Service) lookForDatabase(ctx context.Context) {
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if since, _ := s.Notices.Away(); !since.IsZero() {
			s.Fleet.See(ctx, time.Now())
		}
	}
}

func (s *Service) housekeeping(ctx context.Context, what string, work func() error) {
	if err := work(); err != nil && ctx.Err() == nil {
		s.Notices.NoteAway(err)
		s.log.Error("could not "+what, "error", err)
	}
}

// tracesTo has an agent trace the way to an address, and returns which run that is; nil where none
// does.
func (s *Service) tracesTo(agent string) func(ctx context.Context, address string) (ident.ID, error) {
	if agent == "" {
		return nil
	}
	return func(ctx context.Context, address string) (id ident.ID, err error) {
		for _, k := range kind.All() {
			if _, routed := k.Result().(kind.Routed); !routed || k.TwoEnds {
				continue
			}
			list, err := s.Runs.Start(ctx, runs.Request{Kind: k, From: agent, Targets: []string{address}, How: k.New(kind.Standing)})
			if err != nil || len(list) == 0 {
				return id, err
			}
			return list[0].ID, nil
		}
		return id, nil
	}
}
