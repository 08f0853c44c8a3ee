package fleet

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

// WrongClock is how far an agent's clock may be off before its readings are marked:
// they are filed by the minute.
const WrongClock = time.Minute

// troubles are what is told once and lasts: things that agents set aside, clocks that are
// wrong, other releases.
type troubles struct {
	mu     sync.Mutex
	aside  map[ident.ID]int
	clocks map[ident.ID]time.Duration // of agents, how far they are off; those that are right are not in it
	spoken map[ident.ID]string        // what was told of agents that are of another release
	speaks map[ident.ID]int           // which version of the protocol they speak
}

// NoteProtocol notes which version of the protocol an agent speaks, and says once what of its
// plan it does not make because that is another one than this service's.
func (f *Fleet) NoteProtocol(ctx context.Context, id ident.ID, version int, lacks []string) {
	text := ""
	switch list := append(slices.Clone(lacks), "runs on demand"); {
	case version > protocol.Version:
		text = "is of a newer release than this service: what it measures that this service does not know is refused, with that reason. Update the service."
	case version < protocol.Version:
		text = "is of an older release than this service: it does not make " + strings.Join(list, "; ") + ". What it does make is kept. Update it."
	}
	t := &f.troubles
	t.mu.Lock()
	told := t.spoken[id] == text
	if t.spoken == nil {
		t.spoken, t.speaks = map[ident.ID]string{}, map[ident.ID]int{}
	}
	t.speaks[id] = version
	t.spoken[id] = text
	t.mu.Unlock()
	a := f.ByID(id)
	if told || a == nil || text == "" {
		return
	}
	what := "agent_older"
	if version > protocol.Version {
		what = "agent_newer"
	}
	f.Notices.Notify(ctx, what, "Agent "+a.Name+" "+text)
}

// Speaks is which version of the protocol an agent speaks; that of this service when it has not
// been heard.
func (f *Fleet) Speaks(id ident.ID) int {
	f.troubles.mu.Lock()
	defer f.troubles.mu.Unlock()
	if v, known := f.troubles.speaks[id]; known {
		return v
	}
	return protocol.Version
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

// NoteClock notes how far an agent's clock is off, and says so once; off 0 is right.
func (f *Fleet) NoteClock(ctx context.Context, id ident.ID, off time.Duration) {
	f.troubles.mu.Lock()
	before, was := f.troubles.clocks[id]
	switch {
	case off == 0:
		delete(f.troubles.clocks, id)
	default:
		if f.troubles.clocks == nil {
			f.troubles.clocks = map[ident.ID]time.Duration{}
		}
		f.troubles.clocks[id] = off
	}
	f.troubles.mu.Unlock()
	a := f.ByID(id)
	if a == nil || was == (off != 0) && (before-off).Abs() < WrongClock {
		return
	}
	if off == 0 {
		f.Notices.Notify(ctx, "clock_right", fmt.Sprintf("The clock of agent %s is right again.", a.Name))
		return
	}
	how := "behind"
	if off > 0 {
		how = "ahead"
	}
	f.Notices.Notify(ctx, "clock_wrong", fmt.Sprintf("The clock of agent %s is %s %s. Its readings are kept under the times that it says, marked, and no path is judged by them: set its clock.", a.Name, off.Abs().Round(time.Second), how))
}

// Clocks are the agents whose clocks are off, and by how much.
func (f *Fleet) Clocks() map[string]time.Duration {
	f.troubles.mu.Lock()
	defer f.troubles.mu.Unlock()
	list := map[string]time.Duration{}
	for id, off := range f.troubles.clocks {
		if name := f.NameOf(id); name != "" {
			list[name] = off
		}
	}
	return list
}

// NoteAside tells of what agents have set aside since it was last told.
func (f *Fleet) NoteAside(ctx context.Context) {
	for _, v := range f.Views() {
		if v.Health == nil {
			continue
		}
		if more := f.troubles.noteAside(v.ID, v.Health.SetAside); more > 0 {
			f.Notices.Notify(ctx, "set_aside", fmt.Sprintf("Agent %s set %d things aside that cannot be taken, in the folder aside of its state; the rest goes on. The last one because: %s", v.Name, more, v.Health.AsideReason))
		}
	}
}

// SetAside is how many things agents have set aside.
func (f *Fleet) SetAside() (n int) {
	for _, v := range f.Views() {
		if v.Health != nil {
			n += v.Health.SetAside
		}
	}
	return n
}
