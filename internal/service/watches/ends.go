package watches

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
)

// ends is an agent and what it measures to, for a watch.
type ends struct {
	near *fleet.Agent
	to   []string
}

// endsOf are who measures to what by a spec, as agents are now: words that mean several agents
// stand for each of them, nobody measures to itself, and where it goes back too those that are
// measured to measure to those that measure. The error says which words mean nobody.
func (x *Watches) endsOf(spec Spec) (list []ends, err error) {
	var errs []error
	var near []*fleet.Agent
	for _, word := range spec.From {
		some, err := x.Fleet.Select(word)
		errs = append(errs, err)
		for _, a := range some {
			if !slices.ContainsFunc(near, func(b *fleet.Agent) bool { return b.ID == a.ID }) {
				near = append(near, a)
			}
		}
	}
	var to []string
	for _, word := range spec.To {
		if protocol.IsTalk(word) {
			continue // who that is is known at the agent
		}
		names := []string{word}
		if fleet.IsSelector(word) {
			some, err := x.Fleet.Select(word)
			errs = append(errs, err)
			names = names[:0]
			for _, a := range some {
				names = append(names, a.Name)
			}
		}
		for _, n := range names {
			if !slices.Contains(to, n) {
				to = append(to, n)
			}
		}
	}
	add := func(a *fleet.Agent, targets []string) {
		others := slices.DeleteFunc(slices.Clone(targets), func(t string) bool { return t == a.Name })
		i := slices.IndexFunc(list, func(e ends) bool { return e.near.ID == a.ID })
		if i < 0 {
			if len(others) > 0 || len(spec.To) == 0 || spec.Follows() {
				list = append(list, ends{a, others})
			}
			return
		}
		for _, t := range others {
			if !slices.Contains(list[i].to, t) {
				list[i].to = append(list[i].to, t)
			}
		}
	}
	for _, a := range near {
		add(a, to)
	}
	if spec.Back {
		var names []string
		for _, a := range near {
			names = append(names, a.Name)
		}
		for _, t := range to {
			if far, err := x.Fleet.Named(t); err == nil {
				add(far, names)
			}
		}
	}
	if len(list) == 0 && len(near) > 0 && len(to) > 0 {
		errs = append(errs, fmt.Errorf("%w: %q is both ends", kind.ErrInvalid, near[0].Name))
	}
	n := 0
	for _, e := range list {
		n += len(e.to)
	}
	if n > mostPaths {
		errs = append(errs, fmt.Errorf("%w: %d pairs of agents and targets are more than %d; make several watches", kind.ErrInvalid, n, mostPaths))
	}
	return list, errors.Join(errs...)
}

// now are who measures to what by a watch; words that mean nobody any more are left out.
func (x *Watches) now(w *Watch) []ends {
	list, _ := x.endsOf(w.Spec)
	return list
}

// Measuring is a watch that goes on and measures between two ends, either way; nil when none does.
// Ends are names of agents, or targets by their names or addresses.
func (x *Watches) Measuring(from, to string) *Watch {
	for _, w := range x.All() {
		if w.Paused {
			continue
		}
		for _, e := range x.now(&w) {
			for _, t := range e.to {
				if e.near.Name == from && x.isOne(t, to) || x.isOne(from, t) && e.near.Name == to {
					return &w
				}
			}
		}
	}
	return nil
}

// isOne reports whether two words name one end: they are the same, or one is an agent that stands
// where the other says.
func (x *Watches) isOne(a, b string) bool {
	if a == b {
		return true
	}
	for _, pair := range [][2]string{{a, b}, {b, a}} {
		if at := x.Fleet.Stands(pair[0], 0); at != "" && at == pair[1] {
			return true
		}
	}
	return false
}

// IsByWords reports whether who takes part depends on which agents there are.
func (s Spec) IsByWords() bool {
	return s.Back || slices.ContainsFunc(s.From, fleet.IsSelector) || slices.ContainsFunc(s.To, fleet.IsSelector)
}

// Sizes are, of each agent that measures by a watch, to how many targets.
func (x *Watches) Sizes(w *Watch) (sizes [][]string) {
	for _, e := range x.now(w) {
		sizes = append(sizes, e.to)
	}
	return sizes
}

// laneAt is a lane, with where an agent stands that it is to.
func (x *Watches) laneAt(l kind.Lane) kind.Lane {
	at := x.Fleet.Stands(l.Target, l.Family)
	if addr, err := netip.ParseAddr(at); err == nil {
		l.Address = addr
	} else if at != "" {
		l.Target = at
	}
	return l
}

func (x *Watches) lanesAt(lanes []kind.Lane) (list []protocol.RunLane) {
	for _, l := range lanes {
		list = append(list, protocol.RunLane{Lane: x.laneAt(l)})
	}
	return list
}

// Measurers are the agents that measure by a spec, as agents are now; words that mean nobody are
// left out.
func (x *Watches) Measurers(spec Spec) (list []ident.ID) {
	some, _ := x.endsOf(spec)
	for _, e := range some {
		list = append(list, e.near.ID)
	}
	return list
}

// Selectors are the words of a spec that mean agents who measure by what they have in common.
func (s Spec) Selectors() (list []string) {
	words := s.From
	if s.Back {
		words = append(slices.Clone(words), s.To...)
	}
	for _, w := range words {
		if fleet.IsSelector(w) {
			list = append(list, w)
		}
	}
	return list
}
