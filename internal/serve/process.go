// Package serve puts the rooms of the house together into one running
// process: database, service, agents and HTTP interface.
//
//	s, err := serve.Start(ctx, serve.Options{Settings: set, Token: token, Log: log})
//	err = s.AddAgent(ctx, agent, network)
//	err = s.Serve(ctx) // until ctx ends
package serve

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"woodlark.example/core/geo"
	"woodlark.example/core/route"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/api"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/metrics"
	"woodlark.example/internal/network"
	"woodlark.example/internal/oidc"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
)

// Options of a service.
type Options struct {
	Settings settings.Settings
	Token    string
	Version  string
	Console  fs.FS
	SiteOf   func(target string) string
	Owners   []byte // of prefixes, when the settings name no file: see route.ParseOwners
	// Local is the service's own agent. It measures from the start, by the plan that it has
	// kept, whether or not the database is there.
	Local *Local
	// Ready is called once all is there.
	Ready func()
	Log   *slog.Logger
}

// Local is an agent within the service.
type Local struct {
	Agent   store.Agent
	Network network.Network
	More    func(*agent.Options) // may be nil
}

// Process is a started service.
type Process struct {
	options  Options
	log      *slog.Logger
	listener net.Listener
	server   *mariadb.Server // nil when the database is somebody else's
	store    *store.Store
	service  *service.Service
	metrics  *metrics.Registry
	door     door
	face     face
	early    *running // the local agent, once it runs
	owner    ident.ID
	shows    *certificate // by TLS; nil for HTTP in clear
	certFile string       // of what it shows
	own      bool         // it made that itself
	lost     chan error
	pins     atomic.Pointer[string] // of all services on the database
	over     *store.Holding         // what it takes over then
	during   context.Context        // as long as it works on the database, of a service that does so in turns

	stopWork context.CancelFunc
	work     context.Context
	agents   sync.WaitGroup
	duties   sync.WaitGroup
}

// Start listens, starts the database and loads what it knows. A service that has run
// before does not wait for its database: its own agent measures at once, callers are told
// how far it is, and Serve opens the database as soon as that can be.
func Start(ctx context.Context, o Options) (*Process, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Process{options: o, log: o.Log, lost: make(chan error, 1)}
	s.work, s.stopWork = context.WithCancel(context.Background())
	if _, err := elsewhereOf(o.Settings); err != nil {
		return nil, err
	}
	var err error
	// The port is taken first: that it is free is known before anything is started.
	if s.listener, err = net.Listen("tcp", o.Settings.Listen); err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return nil, fmt.Errorf("the address %s is taken by another program; end that one, or choose another with -listen", o.Settings.Listen)
		}
		return nil, fmt.Errorf("listen on %s: %w", o.Settings.Listen, err)
	}
	set := o.Settings
	if needsOwn(set) {
		if set.Cert, set.CertKey, err = ownCertificate(set.State, set.HostNames, time.Now()); err != nil {
			s.Close()
			return nil, err
		}
		s.own = true
	}
	if set.Cert != "" {
		s.certFile = set.Cert
		if s.shows, err = openCertificate(set.Cert, set.CertKey, s.log); err != nil {
			s.Close()
			return nil, err
		}
	}
	s.face.set(api.Starting(o.Console, s.whyNotReady))
	if s.owner, err = ownerOf(o.Settings.State); err != nil {
		s.Close()
		return nil, err
	}
	if set.Together {
		return s, nil // whose turn it is is seen in Serve
	}
	if s.beginEarly(); s.early != nil {
		return s, nil
	}
	if err := s.open(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// openAtLast opens what Start did not wait for. It tries again while what is in the way
// may go by itself: a database that is away, a disk that is full.
func (s *Process) openAtLast(ctx context.Context) error {
	pause := time.Second
	for {
		err := s.open(ctx)
		var mendable *cannotStart
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return nil
		case !errors.Is(err, store.ErrAway) && !errors.As(err, &mendable):
			return err
		}
		s.face.because(err)
		s.log.Error("the database cannot be opened; measuring goes on, and it is tried again", "error", err, "after", pause)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
		pause = min(2*pause, 10*time.Second)
	}
}

// cannotStart is that the private database does not start.
type cannotStart struct{ error }

func (s *Process) open(ctx context.Context) (err error) {
	set := s.options.Settings
	owners, err := readOwners(set.Owners, s.options.Owners)
	if err != nil {
		return err
	}
	elsewhere, err := elsewhereOf(set)
	if err != nil {
		return err
	}
	judges, err := judgingOf(set)
	if err != nil {
		return err
	}
	dsn := set.Database
	if dsn == "" {
		if s.server == nil {
			if s.server, err = mariadb.Start(ctx, mariadb.Options{Dir: s.databaseFolder(), Log: s.log, Patience: s.patience()}); err != nil {
				return &cannotStart{err}
			}
		}
		dsn = s.server.DSN("woodlark")
	}
	if s.store == nil {
		holder := store.Holder{Owner: s.owner, Says: s.says(), Lost: func(err error) { s.lost <- err }}
		if set.Together {
			holder.Address, holder.Pin, holder.Over = s.reach(), s.ownPin(), s.over
		}
		if s.store, err = store.Open(ctx, store.Options{DSN: dsn, Log: s.log, Holder: &holder}); err != nil {
			return err
		}
	}
	s.service, err = service.New(ctx, service.Options{Store: s.store, Log: s.log, Zone: judges.zone, Holidays: judges.holidays, Tolerances: judges.tolerances, Maintenance: judges.maintenance, Training: set.Training, Keep: set.Keep, SiteOf: s.options.SiteOf, Owners: owners, PublicWebhooks: set.PublicHooks, Disk: s.fullDisk, Land: sync.OnceValue(s.land), Visitors: s.forVisitors(), TraceVisitors: s.tracer()})
	if err != nil {
		return err
	}
	s.door.open(s.service)
	_ = os.Remove(filepath.Join(set.State, "sessions.json")) // of a version before: they are in the database now
	if s.options.Local != nil {
		if err := s.addLocal(ctx); err != nil {
			return err
		}
	}
	s.metrics = metrics.New(metrics.Options{Service: s.service, Version: s.options.Version})
	records := s.store // of this turn
	made := api.New(api.Options{Metrics: s.metrics, Peers: s.store.Secret(), Service: s.service, Token: s.options.Token, Version: s.options.Version, Console: s.options.Console,
		Names: set.HostNames, Log: s.log, Pin: s.Pin, Elsewhere: elsewhere, Backup: func(ctx context.Context, to io.Writer) error {
			_, err := backUp(ctx, records, set.State, s.options.Version, to)
			return err
		}})
	if set.Together {
		made = while(s.during, made)
	}
	s.face.set(made)
	kill, cut := s.wouldLose(ctx)
	s.log.Info("what was taken would be lost so, were it to end now", "by a kill", kill, "by a power cut", cut, "beside that", "of the minute in progress the probes of up to 5 s")
	if s.options.Ready != nil && !set.Together {
		s.options.Ready()
	}
	return nil
}

// CertFile is the file of the certificate that the service shows; empty for HTTP in clear.
func (s *Process) CertFile() string { return s.certFile }

// Pin is what agents trust a service by that shows a certificate of its own making; empty for
// others, whom they trust by who vouches for them.
func (s *Process) Pin() string {
	if all := s.pins.Load(); all != nil && *all != "" {
		return *all
	}
	return s.ownPin()
}

func (s *Process) ownPin() string {
	if !s.own {
		return ""
	}
	c, err := s.shows.get(nil)
	if err != nil || c.Leaf == nil {
		return ""
	}
	return keys.Pin(c.Leaf)
}

// elsewhereOf is where people may sign in instead; nil when nowhere.
func elsewhereOf(set settings.Settings) (*oidc.Provider, error) {
	if set.Issuer == "" {
		if set.IssuerClient != "" || set.IssuerSecret != "" {
			return nil, errors.New("oidc-client and oidc-secret are of a provider: name it with oidc-issuer")
		}
		return nil, nil
	}
	return oidc.New(oidc.Options{Issuer: set.Issuer, Client: set.IssuerClient, Secret: set.IssuerSecret, Claim: set.IssuerClaim, Title: set.IssuerTitle})
}

// FirstLink is the one-time link by which the first administrator is made; empty when there are
// people already, or it could not be made.
func (s *Process) FirstLink(ctx context.Context) string {
	c := s.door.at.Load()
	if c == nil {
		return "" // another service works on the database
	}
	key, err := c.People.First(ctx)
	if err != nil {
		s.log.Warn("no link for the first administrator could be made", "error", err)
	}
	if key == "" {
		return ""
	}
	return s.URL() + api.WelcomePath(key)
}

// tracer is the agent that traces the way to visitors: our own, where that is allowed.
func (s *Process) tracer() string {
	if !s.options.Settings.TraceVisitors || s.options.Local == nil {
		return ""
	}
	return s.options.Local.Agent.Name
}

// forVisitors is where packets of visitors' browsers arrive: by UDP where HTTP does by TCP.
func (s *Process) forVisitors() netip.AddrPort {
	if !s.options.Settings.Visitors {
		return netip.AddrPort{}
	}
	at, err := netip.ParseAddrPort(s.listener.Addr().String())
	if err != nil {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

// outline is the file of the built console that holds the outlines of the land.
const outline = "land.json"

// land is the outline that maps have: none when the program was built without the console.
func (s *Process) land() []geo.Ring {
	if s.options.Console == nil {
		return nil
	}
	data, err := fs.ReadFile(s.options.Console, outline)
	if err != nil {
		s.log.Warn("maps have no outline", "error", err)
		return nil
	}
	rings, err := geo.ReadTopology(data, "land")
	if err != nil {
		s.log.Warn("maps have no outline", "error", err)
	}
	return rings
}

// patience is how long the database may take: who has run before measures meanwhile.
func (s *Process) patience() time.Duration {
	if s.early != nil {
		return 15 * time.Minute
	}
	return 0
}

func (s *Process) databaseFolder() string {
	return filepath.Join(s.options.Settings.State, databaseName)
}

// databaseName is the private database's folder within a state folder.
const databaseName = "database"

// readOwners reads the table of who has which prefixes: the file that the settings
// name, else what was given.
func readOwners(name string, given []byte) (route.Owners, error) {
	if name != "" {
		data, err := os.ReadFile(name)
		if err != nil {
			return route.Owners{}, fmt.Errorf("read the owners of prefixes: %w", err)
		}
		given = data
	}
	table, err := route.ParseOwners(bytes.NewReader(given))
	if err != nil {
		return table, fmt.Errorf("the owners of prefixes, %s: %w", name, err)
	}
	return table, nil
}

// Service is what is known and decided in it.
func (s *Process) Service() *service.Service { return s.service }

// Database is the private database server; nil when another is used.
func (s *Process) Database() *mariadb.Server { return s.server }

// URL is where the service is to be reached.
func (s *Process) URL() string {
	host, port, _ := net.SplitHostPort(s.listener.Addr().String())
	if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	scheme := "http"
	if s.shows != nil {
		scheme = "https"
	}
	return scheme + "://" + net.JoinHostPort(host, port)
}

// AddAgent starts an agent inside the service.
func (s *Process) AddAgent(ctx context.Context, a store.Agent, n network.Network, more ...func(*agent.Options)) error {
	a.Version = s.options.Version
	return s.service.AddAgent(ctx, a, func(id ident.ID) (protocol.Worker, error) {
		r, err := s.run(id, a, n, more...)
		if err != nil {
			return nil, err
		}
		return r.Agent, nil
	})
}

// Serve answers until ctx ends; then it ends the agents, which hand over what
// they have, and the database. The error wraps store.ErrHeld when another service has
// taken the database over.
func (s *Process) Serve(ctx context.Context) error {
	// Event streams end with the base context, for a graceful stop waits for
	// every call.
	base, endCalls := context.WithCancel(context.Background())
	defer endCalls()
	server := &http.Server{
		Handler:           &s.face,
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return base },
		ErrorLog:    slog.NewLogLogger(s.log.Handler(), slog.LevelWarn),
	}
	failed := make(chan error, 2)
	if s.shows != nil {
		server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: s.shows.get}
		go func() { failed <- server.ServeTLS(s.listener, "", "") }()
	} else {
		go func() { failed <- server.Serve(s.listener) }()
	}
	opening, stopOpening := context.WithCancel(ctx)
	opened := make(chan struct{})
	go func() {
		defer close(opened)
		if s.options.Settings.Together {
			if err := s.takeTurns(opening); err != nil {
				failed <- err
			}
			return
		}
		if s.service == nil {
			if err := s.openAtLast(opening); err != nil {
				failed <- err
			}
		}
		if s.door.at.Load() != nil {
			s.duties.Go(func() { s.duty(s.work) })
		}
	}()
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	case err = <-s.lostAlone():
		s.log.Error("this service stops", "error", err)
	}
	stopOpening()
	<-opened
	s.log.Info("stopping")
	endCalls()
	limit, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if stopped := server.Shutdown(limit); stopped != nil {
		_ = server.Close()
	}
	s.Close()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}

// duty is what the service does by itself, until ctx ends.
func (s *Process) duty(ctx context.Context) {
	var beside sync.WaitGroup
	defer beside.Wait()
	if set, figures := s.options.Settings, s.metrics; set.Push != "" {
		beside.Go(func() {
			if err := figures.Push(ctx, set.Push, set.PushEvery, s.options.Version, s.log); err != nil {
				s.log.Error("figures are not pushed", "error", err)
			}
		})
	}
	_ = s.door.at.Load().Run(ctx)
}

// lostAlone tells a service that works on its database alone that it does so no more; one of several
// goes on.
func (s *Process) lostAlone() <-chan error {
	if s.options.Settings.Together {
		return nil
	}
	return s.lost
}

// Close ends all that was started. It may be called twice.
func (s *Process) Close() {
	s.stopWork()
	s.agents.Wait()
	s.duties.Wait()
	if s.store != nil {
		_ = s.store.Close()
	}
	if s.server != nil {
		_ = s.server.Stop()
	}
	_ = s.listener.Close()
}
