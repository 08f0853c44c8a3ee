// Package service puts the rooms of the house together into one running
// service: database, controller, agents and HTTP interface.
//
//	s, err := service.Start(ctx, service.Options{Settings: set, Token: token, Log: log})
//	err = s.AddAgent(ctx, agent, network)
//	err = s.Serve(ctx) // until ctx ends
package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"woodlark.example/core/route"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/api"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/network"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/session"
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
	Log      *slog.Logger
}

// Service is a started service.
type Service struct {
	options    Options
	log        *slog.Logger
	listener   net.Listener
	server     *mariadb.Server // nil when the database is somebody else's
	store      *store.Store
	controller *controller.Controller

	stopWork context.CancelFunc
	work     context.Context
	agents   sync.WaitGroup
	duties   sync.WaitGroup
}

// Start listens, starts the database and loads what it knows. Nothing is
// measured before an agent is added.
func Start(ctx context.Context, o Options) (*Service, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Service{options: o, log: o.Log}
	s.work, s.stopWork = context.WithCancel(context.Background())
	var err error
	// The port is taken first: that it is free is known before anything is started.
	if s.listener, err = net.Listen("tcp", o.Settings.Listen); err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return nil, fmt.Errorf("the address %s is taken by another program; end that one, or choose another with -listen", o.Settings.Listen)
		}
		return nil, fmt.Errorf("listen on %s: %w", o.Settings.Listen, err)
	}
	if err := s.open(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) error {
	set := s.options.Settings
	dsn := set.Database
	owners, err := readOwners(set.Owners, s.options.Owners)
	if err != nil {
		return err
	}
	if dsn == "" {
		if s.server, err = mariadb.Start(ctx, mariadb.Options{Dir: filepath.Join(set.State, "database"), Log: s.log}); err != nil {
			return err
		}
		dsn = s.server.DSN("woodlark")
	}
	if s.store, err = store.Open(ctx, store.Options{DSN: dsn, Log: s.log}); err != nil {
		return err
	}
	s.controller, err = controller.New(ctx, controller.Options{Store: s.store, Log: s.log, Zone: set.Zone, Training: set.Training, Keep: set.Keep, SiteOf: s.options.SiteOf, Owners: owners})
	return err
}

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

// Controller is the service's controller.
func (s *Service) Controller() *controller.Controller { return s.controller }

// Database is the private database server; nil when another is used.
func (s *Service) Database() *mariadb.Server { return s.server }

// URL is where the service is to be reached.
func (s *Service) URL() string {
	host, port, _ := net.SplitHostPort(s.listener.Addr().String())
	if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	return "http://" + net.JoinHostPort(host, port)
}

// AddAgent starts an agent inside the service.
func (s *Service) AddAgent(ctx context.Context, a store.Agent, n network.Network, more ...func(*agent.Options)) error {
	a.Version = s.options.Version
	return s.controller.AddAgent(ctx, a, func(id ident.ID) (plan.Hand, error) {
		var ground agent.Ground
		if a.Kind != controller.Simulated {
			ground = host.Ground{}
		}
		o := agent.Options{ID: id, Ground: ground, Name: a.Name, Network: n, Service: s.controller, Log: s.log,
			Dir: filepath.Join(s.options.Settings.State, "agents", id.String()), End: func() session.End { return session.Here(a.Name, s.options.Version) }}
		for _, change := range more {
			change(&o)
		}
		running, err := agent.New(o)
		if err != nil {
			return nil, err
		}
		s.agents.Go(func() { _ = running.Run(s.work) })
		return running, nil
	})
}

// Serve answers until ctx ends; then it ends the agents, which hand over what
// they have, and the database.
func (s *Service) Serve(ctx context.Context) error {
	s.duties.Go(func() { _ = s.controller.Run(s.work) })
	// Event streams end with the base context, for a graceful stop waits for
	// every call.
	base, endCalls := context.WithCancel(context.Background())
	defer endCalls()
	server := &http.Server{
		Handler:           api.New(api.Options{Controller: s.controller, Token: s.options.Token, Version: s.options.Version, Console: s.options.Console, Log: s.log}),
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return base },
		ErrorLog:    slog.NewLogLogger(s.log.Handler(), slog.LevelWarn),
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(s.listener) }()
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
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

// Close ends all that was started. It may be called twice.
func (s *Service) Close() {
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
