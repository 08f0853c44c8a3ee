package agent

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

const (
	// lookEvery is how often is looked whom programs talk to; what is shorter may be missed.
	lookEvery = 2 * time.Second
	// silence is after how long without a socket a conversation is over: programs change theirs.
	silence = 10 * time.Second
	// stillEvery is how often is told of a conversation that it goes on.
	stillEvery = time.Minute
	// mostTalks are told of at a time.
	mostTalks = 200
	// AnyProgram stands for all programs.
	AnyProgram = "any"
)

// talkKey is what a conversation is known by.
type talkKey struct {
	watch             ident.ID
	program, protocol string
	server            netip.AddrPort
}

// talks are the conversations that go on.
type talks struct {
	mu    sync.Mutex
	open  map[talkKey]*talk
	said  map[ident.ID]string // why those of a watch are not told of
	wrong string              // why it could not be looked last
}

type talk struct {
	protocol.Conversation
	told time.Time
}

// goesOn reports whether what is measured for conversations is to be: without any always.
func (t *talks) goesOn(list []ident.ID) bool {
	if len(list) == 0 {
		return true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, x := range t.open {
		if slices.Contains(list, x.ID) {
			return true
		}
	}
	return false
}

// follow looks whom programs talk to, for as long as the plan has it.
func (a *Agent) follow(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			a.endTalks(time.Now())
			return
		case <-tick.C:
		}
		a.mu.Lock()
		wanted := a.given.Follow
		a.mu.Unlock()
		if len(wanted) == 0 && len(a.talks.open) == 0 {
			continue
		}
		a.lookAt(wanted, time.Now())
	}
}

// lookAt takes in whom programs talk to now.
func (a *Agent) lookAt(wanted []protocol.Follow, now time.Time) {
	var list []host.Talk
	var err error
	refused := a.mayNotFollow()
	if refused == "" {
		if list, err = a.options.Talks.Look(); err != nil {
			refused = err.Error()
		}
	}
	t := &a.talks
	t.mu.Lock()
	if t.open == nil {
		t.open, t.said = map[talkKey]*talk{}, map[ident.ID]string{}
	}
	changed := false
	var tell []protocol.Conversation
	for _, f := range wanted {
		why := refused
		for _, word := range f.Words {
			w, err := protocol.ParseTalk(word)
			switch {
			case why != "":
			case err != nil:
				why = err.Error()
			case w.Program != "" && !a.allowsTalks(w.Program):
				why = fmt.Sprintf("the owner of this agent allows conversations of %s only", strings.Join(a.options.Conversations, ", "))
			}
			for _, x := range list {
				if err == nil && w.Fits(x.Program, x.Server.Port()) && a.allowsTalks(x.Program) {
					changed = t.note(f.Watch, x, now) || changed
				}
			}
		}
		if t.said[f.Watch] != why {
			t.said[f.Watch] = why
			tell = append(tell, protocol.Conversation{ID: ident.New(), Watch: f.Watch, Began: now, Seen: now, Reason: why})
		}
	}
	for key, x := range t.open {
		wantedStill := slices.ContainsFunc(wanted, func(f protocol.Follow) bool { return f.Watch == key.watch })
		switch {
		case !wantedStill || now.Sub(x.Seen) >= silence:
			x.Ended = x.Seen
			delete(t.open, key)
			changed = true
		case now.Sub(x.told) < stillEvery:
			continue
		}
		x.told = now
		tell = append(tell, x.Conversation)
	}
	t.mu.Unlock()
	for _, x := range tell {
		a.spool.addTalk(x)
	}
	if changed {
		a.tellChanged()
	}
}

// note takes in that a program talks to a far end; it reports whether that is new. t.mu is held.
func (t *talks) note(watch ident.ID, x host.Talk, now time.Time) bool {
	key := talkKey{watch, x.Program, x.Protocol, x.Server}
	if open := t.open[key]; open != nil {
		open.Seen = now
		return false
	}
	if len(t.open) >= mostTalks {
		return false
	}
	t.open[key] = &talk{Conversation: protocol.Conversation{ID: ident.New(), Watch: watch, Program: x.Program, Protocol: x.Protocol, Server: x.Server, Began: now, Seen: now}}
	return true
}

// endTalks ends all of them.
func (a *Agent) endTalks(now time.Time) {
	t := &a.talks
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, x := range t.open {
		x.Ended = now
		a.spool.addTalk(x.Conversation)
		delete(t.open, key)
	}
}

// mayNotFollow is why this agent does not look whom programs talk to; empty when it does.
func (a *Agent) mayNotFollow() string {
	switch {
	case a.options.Talks == nil:
		return "a simulated host has no programs"
	case len(a.options.Conversations) == 0:
		return "the owner of this agent does not allow looking at whom programs talk to: start it with -conversations PROGRAM,…, or any"
	}
	return ""
}

// ownCommand is what this program is called: whom it talks to is no conversation.
const ownCommand = "woodlark"

func (a *Agent) allowsTalks(program string) bool {
	return program != ownCommand && (slices.Contains(a.options.Conversations, AnyProgram) || slices.Contains(a.options.Conversations, program))
}
