package serve

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"

	"woodlark.example/internal/agent"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/store"
)

// door is where agents within the service hand over: to the service, once it stands.
type door struct {
	at atomic.Pointer[service.Service]
}

func (d *door) open(c *service.Service) { d.at.Store(c) }

// Upload hands over; see protocol.Service.
func (d *door) Upload(ctx context.Context, u protocol.Upload) error {
	c := d.at.Load()
	if c == nil {
		return fmt.Errorf("the service is starting: %w", store.ErrAway)
	}
	return c.Upload(ctx, u)
}

// face answers calls: as the service does, or how far it is with its start.
type face struct {
	at  atomic.Pointer[http.Handler]
	mu  sync.Mutex
	why error
}

func (f *face) set(h http.Handler) { f.at.Store(&h) }

func (f *face) because(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.why = err
}

// ServeHTTP answers.
func (f *face) ServeHTTP(w http.ResponseWriter, r *http.Request) { (*f.at.Load()).ServeHTTP(w, r) }

// whyNotReady says, for anybody, how far the start is.
func (s *Process) whyNotReady() string {
	if full := s.fullDisk(); full != "" {
		return full
	}
	s.face.mu.Lock()
	defer s.face.mu.Unlock()
	switch {
	case s.face.why == nil:
		return "the database is starting"
	case errors.Is(s.face.why, errAlone):
		return errAlone.Error()
	case errors.Is(s.face.why, store.ErrAway):
		return "the database is away"
	}
	return "the database does not start; the log says why"
}

// leastFree is what a database needs to work at all.
const leastFree = 16 << 20

// fullDisk says which disk is full of those that the service writes to; "" when none is.
func (s *Process) fullDisk() string {
	folders := []string{s.options.Settings.State}
	if s.options.Settings.Database == "" {
		folders = append(folders, s.databaseFolder())
	}
	for _, folder := range folders {
		var disk syscall.Statfs_t
		if err := syscall.Statfs(folder, &disk); err == nil && disk.Blocks > 0 && disk.Bavail*uint64(disk.Bsize) < leastFree {
			return fmt.Sprintf("the disk that holds %s is full (%d MB free): free some space", folder, disk.Bavail*uint64(disk.Bsize)>>20)
		}
	}
	return ""
}

// ownerOf is who a service is to its database, the same at each start on a state folder.
func ownerOf(state string) (id ident.ID, err error) {
	name := filepath.Join(state, "service.id")
	data, err := os.ReadFile(name)
	if err == nil {
		if id, err = ident.Parse(string(data)); err == nil {
			return id, nil
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return id, fmt.Errorf("read who this service is: %w", err)
	}
	id = ident.New()
	if err := os.MkdirAll(state, 0o700); err != nil {
		return id, fmt.Errorf("make the state folder: %w", err)
	}
	if err := os.WriteFile(name, []byte(id.String()), 0o600); err != nil {
		return id, fmt.Errorf("keep who this service is: %w", err)
	}
	return id, nil
}

// running is an agent within the service.
type running struct {
	*agent.Agent
	id    ident.ID
	stop  context.CancelFunc
	ended chan struct{}
}

// run starts an agent.
func (s *Process) run(id ident.ID, a store.Agent, n network.Network, more ...func(*agent.Options)) (*running, error) {
	var ground agent.Ground
	if a.Kind != fleet.Simulated {
		ground = host.Ground{}
	}
	o := agent.Options{ID: id, Ground: ground, Name: a.Name, Network: n, Service: &s.door, Log: s.log,
		Dir: filepath.Join(s.options.Settings.State, "agents", id.String()), End: func() session.End { return session.Here(a.Name, s.options.Version) }}
	for _, change := range more {
		if change != nil {
			change(&o)
		}
	}
	made, err := agent.New(o)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(s.work)
	r := &running{made, id, stop, make(chan struct{})}
	s.agents.Go(func() {
		defer close(r.ended)
		_ = made.Run(ctx)
	})
	return r, nil
}

// whoLocal is who the service's own agent was when it last ran.
type whoLocal struct {
	ID   ident.ID `json:"id"`
	Name string   `json:"name"`
}

func (s *Process) localFile() string {
	return filepath.Join(s.options.Settings.State, "agents", "local.json")
}

// beginEarly has the service's own agent measure by the plan that it kept, if it is the
// same as before.
func (s *Process) beginEarly() {
	l := s.options.Local
	if l == nil {
		return
	}
	var who whoLocal
	data, err := os.ReadFile(s.localFile())
	if err != nil || json.Unmarshal(data, &who) != nil || who.Name != l.Agent.Name || who.ID.IsZero() {
		return
	}
	if s.early, err = s.run(who.ID, l.Agent, l.Network, l.More); err != nil {
		s.log.Error("the agent cannot measure before the database is there", "error", err)
	}
}

// addLocal makes the service's own agent known, which may be measuring already.
func (s *Process) addLocal(ctx context.Context) error {
	l := s.options.Local
	a := l.Agent
	a.Version = s.options.Version
	return s.service.AddAgent(ctx, a, func(id ident.ID) (protocol.Worker, error) {
		if s.early != nil && s.early.id == id {
			return s.early.Agent, nil
		}
		if s.early != nil { // the database is another one
			s.early.stop()
			<-s.early.ended
		}
		var err error
		if s.early, err = s.run(id, l.Agent, l.Network, l.More); err != nil {
			return nil, err
		}
		data, _ := json.Marshal(whoLocal{id, a.Name})
		if err := os.WriteFile(s.localFile(), data, 0o600); err != nil {
			s.log.Error("who the agent is cannot be kept; at the next start it waits for the database", "error", err)
		}
		return s.early.Agent, nil
	})
}
