// Package fleet knows the agents: who they are, how they join and leave, where they stand, and
// what is wrong with them.
//
//	f := fleet.New(fleet.Options{Store: s, Service: takesUploads, Changed: sendPlans})
//	err := f.Load(ctx)
//	quay, err := f.Named("quay")
package fleet

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

// The kinds of agents that matter here.
const (
	Remote    = "remote"    // on another machine
	Simulated = "simulated" // in a simulated network
	Imported  = "imported"  // of elsewhere: it measured what was taken in, and measures nothing here
)

// Options of a Fleet; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Notices *notices.Notices
	// Service takes what agents on other machines could not measure.
	Service protocol.Service
	// Changed is called when agents came, left, or are to be found elsewhere.
	Changed func()
	// SiteOf names the site of a target, if that is known.
	SiteOf func(target string) string
}

// Fleet are the agents. It is safe for concurrent use.
type Fleet struct {
	Options
	mu       sync.RWMutex
	agents   map[ident.ID]*Agent
	troubles troubles
}

// Agent is an agent as it stands at a time: one that changes is replaced by another.
type Agent struct {
	store.Agent
	Worker protocol.Worker // nil when it does not run
}

// New is without an agent.
func New(o Options) *Fleet { return &Fleet{Options: o, agents: map[ident.ID]*Agent{}} }

// Load takes up the agents that the database knows.
func (f *Fleet) Load(ctx context.Context) error {
	agents, err := f.Store.Agents(ctx)
	if err != nil {
		return err
	}
	for _, a := range agents {
		if a.Kind == store.Removed {
			continue
		}
		one := &Agent{Agent: a}
		if a.Kind == Remote && len(a.KeyHash) > 0 {
			one.Worker = remote.NewProxy(a.ID, a.Name, f.Service)
			f.troubles.known(a)
		}
		f.put(one)
	}
	return nil
}

func (f *Fleet) put(a *Agent) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.agents[a.ID] = a
}

// change replaces an agent by what with makes of it; it reports whether there is such.
func (f *Fleet) change(id ident.ID, with func(*Agent)) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	a := f.agents[id]
	if a == nil {
		return false
	}
	other := *a
	with(&other)
	f.agents[id] = &other
	return true
}

// Add makes an agent known. join is given its identifier and returns the worker that holds
// it; without join it is known but does not run yet. What it is to do is not sent to it.
func (f *Fleet) Add(ctx context.Context, a store.Agent, join func(ident.ID) (protocol.Worker, error)) (*Agent, error) {
	now := time.Now().UTC()
	a.SeenAt = &now
	kept, err := f.Store.EnsureAgent(ctx, a)
	if err != nil {
		return nil, err
	}
	one := &Agent{Agent: kept}
	if join != nil {
		if one.Worker, err = join(kept.ID); err != nil {
			return nil, fmt.Errorf("start agent %q: %w", a.Name, err)
		}
	}
	f.put(one)
	return one, nil
}

// All are the agents, by name.
func (f *Fleet) All() []*Agent {
	f.mu.RLock()
	list := make([]*Agent, 0, len(f.agents))
	for _, a := range f.agents {
		list = append(list, a)
	}
	f.mu.RUnlock()
	slices.SortFunc(list, func(a, b *Agent) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// Agents are the agents as they are kept, by name.
func (f *Fleet) Agents() []store.Agent {
	all := f.All()
	list := make([]store.Agent, len(all))
	for i, a := range all {
		list[i] = a.Agent
	}
	return list
}

// ByID is an agent; nil when there is none.
func (f *Fleet) ByID(id ident.ID) *Agent {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.agents[id]
}

// NameOf is what an agent is called; "" when there is none.
func (f *Fleet) NameOf(id ident.ID) string {
	if a := f.ByID(id); a != nil {
		return a.Name
	}
	return ""
}

// Named is the agent of a name. The error, which wraps kind.ErrInvalid, says which there are.
func (f *Fleet) Named(name string) (*Agent, error) {
	all := f.All()
	names := make([]string, len(all))
	for i, a := range all {
		if a.Name == name {
			return a, nil
		}
		names[i] = a.Name
	}
	return nil, fmt.Errorf("%w: there is no agent %q; there are %q", kind.ErrInvalid, kind.Shorten(name), names)
}

// FarNamed is the agent that a target is as a far end; nil when it is none.
func (f *Fleet) FarNamed(to string) (far *Agent) {
	for _, a := range f.All() {
		if a.Name == to || a.Address == to && a.Kind != Remote {
			far = a
		}
	}
	return far
}

// StandsAt is the agent that stands at a target, or at its site.
func (f *Fleet) StandsAt(target string, besides ident.ID) (*Agent, error) {
	var near *Agent
	for _, a := range f.All() {
		if a.ID == besides || a.Worker == nil || a.Address == "" {
			continue
		}
		if a.IsAt(target) {
			return a, nil
		}
		if site := f.SiteOf(target); site != "" && a.Site == site && near == nil {
			near = a
		}
	}
	if near == nil {
		return nil, fmt.Errorf("%w: no agent stands at %s or at its site to trace back from; leave out both ways, or add an agent there", kind.ErrInvalid, kind.Shorten(target))
	}
	return near, nil
}

// Here reports whether the agent can be told something now.
func (a *Agent) Here() bool {
	if far := a.Proxy(); far != nil {
		connected, _ := far.Connected()
		return connected
	}
	return a.Worker != nil
}

// Proxy stands for an agent on another machine; nil for one within the service.
func (a *Agent) Proxy() *remote.Proxy {
	far, _ := a.Worker.(*remote.Proxy)
	return far
}

// Responder is where an agent on another machine says that it answers as a far end.
func (a *Agent) Responder() string {
	if a.Health == nil {
		return ""
	}
	var h protocol.Health
	if json.Unmarshal([]byte(*a.Health), &h) != nil {
		return ""
	}
	return h.Responder
}

// addresses are those that an agent says its machine has.
func (a *Agent) addresses() []string {
	if far := a.Proxy(); far != nil {
		h, _ := far.Health()
		return h.Addresses
	}
	return nil
}

// IsAt reports whether a target names the agent, or an address of its machine.
func (a *Agent) IsAt(target string) bool {
	return a.Name == target || a.Address != "" && a.Address == target || slices.Contains(a.addresses(), target)
}

// See notes that agents are here.
func (f *Fleet) See(ctx context.Context, now time.Time) {
	seen := now.UTC()
	var here []ident.ID
	for _, a := range f.All() {
		if a.Here() {
			here = append(here, a.ID)
			f.change(a.ID, func(a *Agent) { a.SeenAt = &seen })
		}
	}
	switch err := f.Store.SeenAgents(ctx, here, now); {
	case err != nil:
		f.Notices.NoteAway(err)
	case len(here) > 0:
		f.Notices.NoteTakes(ctx)
	}
}

// HeldBack is how many readings wait at agents for the database.
func (f *Fleet) HeldBack() (n int) {
	for _, a := range f.All() {
		if a.Worker != nil {
			n += a.Worker.HeldBack()
		}
	}
	return n
}

// Standing is where an agent stands, as JSON; see protocol.Stander.
func (f *Fleet) Standing(name string) (json.RawMessage, error) {
	a, err := f.Named(name)
	switch {
	case err != nil:
		return nil, notThere(err)
	case a.Worker == nil:
		return nil, fmt.Errorf("%w: agent %q is not running", kind.ErrInvalid, name)
	}
	s, err := a.Worker.Standing()
	if errors.Is(err, protocol.ErrNoStanding) {
		err = fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	return s, err
}

// notThere makes of an agent that a call is about, and that there is not, one that is not
// found.
func notThere(err error) error {
	return fmt.Errorf("%w: %s", store.ErrNotFound, strings.TrimPrefix(err.Error(), kind.ErrInvalid.Error()+": "))
}

// View is an agent and how it stands.
type View struct {
	store.Agent
	Connected bool
	LostAt    time.Time // when an agent on another machine last was connected
	Health    *protocol.Health
}

// Views are all agents, by name.
func (f *Fleet) Views() (list []View) {
	for _, a := range f.All() {
		v := View{Agent: a.Agent, Connected: a.Here()}
		if far := a.Proxy(); far != nil {
			_, v.LostAt = far.Connected()
		}
		if a.Agent.Health != nil {
			var h protocol.Health
			if json.Unmarshal([]byte(*a.Agent.Health), &h) == nil {
				v.Health = &h
			}
		} else if local, ok := a.Worker.(interface{ Health() protocol.Health }); ok {
			h := local.Health()
			v.Health = &h
		}
		list = append(list, v)
	}
	return list
}
