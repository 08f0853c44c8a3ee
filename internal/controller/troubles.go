package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// troubles are what is told once and lasts: things that agents set aside, clocks that are
// wrong, a disk that is full.
type troubles struct {
	mu     sync.Mutex
	aside  map[ident.ID]int
	clocks map[ident.ID]time.Duration // of agents, how far they are off; those that are right are not in it
	disk   string
	spoken map[ident.ID]string // what was told of agents that are of another release
}

// NoteProtocol notes which version of the protocol an agent speaks, and says once what of its
// plan it does not make because that is another one than this service's.
func (c *Controller) NoteProtocol(ctx context.Context, id ident.ID, version int, lacks []string) {
	text := ""
	switch list := append(slices.Clone(lacks), "runs on demand"); {
	case version > protocol.Version:
		text = "is of a newer release than this service: what it measures that this service does not know is refused, with that reason. Update the service."
	case version < protocol.Version:
		text = "is of an older release than this service: it does not make " + strings.Join(list, "; ") + ". What it does make is kept. Update it."
	}
	t := &c.troubles
	t.mu.Lock()
	told := t.spoken[id] == text
	if t.spoken == nil {
		t.spoken = map[ident.ID]string{}
	}
	t.spoken[id] = text
	t.mu.Unlock()
	c.mu.RLock()
	a := c.agents[id]
	c.mu.RUnlock()
	if told || a == nil || text == "" {
		return
	}
	kind := "agent_older"
	if version > protocol.Version {
		kind = "agent_newer"
	}
	c.Notify(ctx, kind, "Agent "+a.Name+" "+text)
}

// known takes what was told of an agent before this start.
func (t *troubles) known(a store.Agent) {
	var h protocol.Health
	if a.Health == nil || json.Unmarshal([]byte(*a.Health), &h) != nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.aside == nil {
		t.aside = map[ident.ID]int{}
	}
	t.aside[a.ID] = h.SetAside
}

// noteAside reports how many things more an agent has set aside than was told.
func (t *troubles) noteAside(id ident.ID, n int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.aside == nil {
		t.aside = map[ident.ID]int{}
	}
	more := n - t.aside[id]
	t.aside[id] = n
	return more
}

// noteClock notes how far an agent's clock is off, and says so once; off 0 is right.
func (c *Controller) noteClock(ctx context.Context, id ident.ID, off time.Duration) {
	c.troubles.mu.Lock()
	before, was := c.troubles.clocks[id]
	switch {
	case off == 0:
		delete(c.troubles.clocks, id)
	default:
		if c.troubles.clocks == nil {
			c.troubles.clocks = map[ident.ID]time.Duration{}
		}
		c.troubles.clocks[id] = off
	}
	c.troubles.mu.Unlock()
	c.mu.RLock()
	a := c.agents[id]
	c.mu.RUnlock()
	if a == nil || was == (off != 0) && (before-off).Abs() < wrongClock {
		return
	}
	if off == 0 {
		c.Notify(ctx, "clock_right", fmt.Sprintf("The clock of agent %s is right again.", a.Name))
		return
	}
	how := "behind"
	if off > 0 {
		how = "ahead"
	}
	c.Notify(ctx, "clock_wrong", fmt.Sprintf("The clock of agent %s is %s %s. Its readings are kept under the times that it says, marked, and no path is judged by them: set its clock.", a.Name, off.Abs().Round(time.Second), how))
}

// Clocks are the agents whose clocks are off, and by how much.
func (c *Controller) Clocks() map[string]time.Duration {
	c.mu.RLock()
	defer c.mu.RUnlock()
	c.troubles.mu.Lock()
	defer c.troubles.mu.Unlock()
	list := map[string]time.Duration{}
	for id, off := range c.troubles.clocks {
		if a := c.agents[id]; a != nil {
			list[a.Name] = off
		}
	}
	return list
}

// Disk says which disk is full; "" when none is.
func (c *Controller) Disk() string { return c.options.Disk() }

// noteTroubles tells of what agents have set aside since it was last told, and of a full
// disk.
func (c *Controller) noteTroubles(ctx context.Context) {
	for _, v := range c.AgentViews() {
		if v.Health == nil {
			continue
		}
		if more := c.troubles.noteAside(v.ID, v.Health.SetAside); more > 0 {
			c.Notify(ctx, "set_aside", fmt.Sprintf("Agent %s set %d things aside that cannot be taken, in the folder aside of its state; the rest goes on. The last one because: %s", v.Name, more, v.Health.AsideReason))
		}
	}
	now := c.options.Disk()
	c.troubles.mu.Lock()
	before := c.troubles.disk
	c.troubles.disk = now
	c.troubles.mu.Unlock()
	if now != "" && before == "" {
		c.Notify(ctx, "disk_full", "Of the service: "+now+". Measuring goes on; what cannot be written is held back in memory.")
	}
}

// SetAside is how many things agents have set aside.
func (c *Controller) SetAside() (n int) {
	for _, v := range c.AgentViews() {
		if v.Health != nil {
			n += v.Health.SetAside
		}
	}
	return n
}
