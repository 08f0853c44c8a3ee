package watches

import (
	"context"
	"slices"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/runs"
)

// Talked is a server that a program of an agent's machine talks to now: it is measured for as
// long, by the watches of whose paths it is one.
type Talked struct {
	Conversation ident.ID
	Agent        ident.ID
	Server       string
	Paths        map[ident.ID][]ident.ID // by watch, or part of one
}

// Follows reports whether a watch is of whom programs talk to.
func (s Spec) Follows() bool { return slices.ContainsFunc(s.To, protocol.IsTalk) }

// talkWords are the words of a watch that say of which programs.
func (s Spec) talkWords() (list []string) {
	for _, t := range s.To {
		if protocol.IsTalk(t) {
			list = append(list, t)
		}
	}
	return list
}

// SetTalks replaces whom programs talk to now, and gives agents their plans.
func (x *Watches) SetTalks(list []Talked) {
	x.mu.Lock()
	x.talks = list
	x.mu.Unlock()
	x.SendPlans()
}

// talksOf are those that a watch, or a part of one, measures from an agent.
func (x *Watches) talksOf(watch, agent ident.ID) (list []Talked) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, t := range x.talks {
		if t.Agent == agent && t.Paths[watch] != nil {
			list = append(list, t)
		}
	}
	return list
}

func (x *Watches) allTalks() []Talked {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.talks
}

// PathsTo makes the paths by which a watch and its parts measure a server from an agent, by the
// watch. Of kinds without paths there are none, but the watch is there.
func (x *Watches) PathsTo(ctx context.Context, w Watch, agent ident.ID, server string) (map[ident.ID][]ident.ID, error) {
	out := map[ident.ID][]ident.ID{}
	for _, each := range append([]*Watch{&w}, w.Also...) {
		k := each.Spec.kindOf()
		out[each.ID] = []ident.ID{}
		if !k.Paths {
			continue
		}
		rule := k.Lanes(each.Spec.How)
		list, err := x.Paths.Ensure(ctx, runs.EndsOf(agent, rule, rule.Split([]string{server})))
		if err != nil {
			return nil, err
		}
		for _, p := range list {
			out[each.ID] = append(out[each.ID], p.ID)
		}
	}
	return out, nil
}

// NoteFollow notes why an agent does not tell whom programs talk to, for a watch; empty when it
// does.
func (x *Watches) NoteFollow(watch, agent ident.ID, why string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.unfollowed == nil {
		x.unfollowed = map[[2]ident.ID]string{}
	}
	if why == "" {
		delete(x.unfollowed, [2]ident.ID{watch, agent})
		return
	}
	x.unfollowed[[2]ident.ID{watch, agent}] = why
}

func (x *Watches) notFollowed(watch, agent ident.ID) string {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.unfollowed[[2]ident.ID{watch, agent}]
}
