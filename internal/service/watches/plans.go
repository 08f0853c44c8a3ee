package watches

import (
	"cmp"
	"slices"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// SendPlans gives each agent what it is to do for all watches that are not paused. Two
// continuous watches of one path share one measurement.
func (x *Watches) SendPlans() {
	x.planning.Lock()
	defer x.planning.Unlock()
	agents := x.Fleet.All()
	plans := map[ident.ID]protocol.Plan{}
	continuous := map[ident.ID]int{} // which task of its agent measures a path
	away := awayPlans{of: x, plans: plans}
	var following []*Watch
	for _, w := range x.sorted() {
		k := w.Spec.kindOf()
		switch {
		case w.Paused:
			continue
		case k.TwoEnds:
			away.add(w, k)
			continue
		case w.Spec.Continuous():
			for _, id := range w.Paths {
				p := x.Paths.ByID(id)
				if p == nil {
					continue
				}
				plan := plans[p.AgentID]
				if i, has := continuous[id]; has {
					plan.Tasks[i].Times = either(plan.Tasks[i].Times, w.Spec.Times)
				} else {
					continuous[id] = len(plan.Tasks)
					plan.Tasks = append(plan.Tasks, x.taskOf(w, p))
				}
				plans[p.AgentID] = plan
			}
			following = append(following, w)
			continue
		}
		for _, e := range x.now(w) {
			if e.to = append(e.to, serversOf(x.talksOf(w.ID, e.near.ID))...); len(e.to) == 0 && w.Spec.Follows() {
				continue // nobody talks
			}
			t, err := x.standingOf(w, k, e)
			if err != nil {
				x.Log.Error("a watch cannot be given to its agent", "watch", w.Name, "agent", e.near.Name, "error", err)
				continue
			}
			plan := plans[e.near.ID]
			plan.Standing = append(plan.Standing, t)
			plans[e.near.ID] = plan
		}
	}
	// Whom programs talk to is measured for as long, unless it is anyway.
	for _, w := range following {
		if w.Spec.Follows() {
			x.followIn(plans, continuous, w)
		}
	}
	for _, w := range x.sorted() {
		if w.Paused || !w.Spec.Follows() || !w.Spec.Of.IsZero() {
			continue
		}
		for _, e := range x.now(w) {
			plan := plans[e.near.ID]
			plan.Follow = append(plan.Follow, protocol.Follow{Watch: w.ID, Words: w.Spec.talkWords()})
			plans[e.near.ID] = plan
		}
	}
	for _, a := range agents {
		if a.Worker != nil {
			a.Worker.SetPlan(plans[a.ID])
		}
	}
}

// followIn adds to the plans of agents what a continuous watch measures for as long as programs
// talk.
func (x *Watches) followIn(plans map[ident.ID]protocol.Plan, continuous map[ident.ID]int, w *Watch) {
	for _, e := range x.now(w) {
		plan := plans[e.near.ID]
		for _, t := range x.talksOf(w.ID, e.near.ID) {
			for _, id := range t.Paths[w.ID] {
				p := x.Paths.ByID(id)
				i, has := continuous[id]
				switch {
				case p == nil:
				case !has:
					task := x.taskOf(w, p)
					task.Talks = []ident.ID{t.Conversation}
					continuous[id] = len(plan.Tasks)
					plan.Tasks = append(plan.Tasks, task)
				case len(plan.Tasks[i].Talks) > 0:
					plan.Tasks[i].Talks = append(plan.Tasks[i].Talks, t.Conversation)
				}
			}
		}
		plans[e.near.ID] = plan
	}
}

func serversOf(list []Talked) (servers []string) {
	for _, t := range list {
		if !slices.Contains(servers, t.Server) {
			servers = append(servers, t.Server)
		}
	}
	return servers
}

// either are the times at which one of several watches measures: always, when one of them does.
func either(list []schedule.Times, more schedule.Times) []schedule.Times {
	switch {
	case len(list) == 0 || more.IsZero():
		return nil
	case slices.ContainsFunc(list, more.Equal):
		return list
	}
	return append(slices.Clone(list), more)
}

// standingOf is what a watch has an agent make again and again.
func (x *Watches) standingOf(w *Watch, k *kind.Kind, e ends) (protocol.Standing, error) {
	targets := make([]string, len(e.to))
	for i, t := range e.to {
		targets[i] = cmp.Or(x.Fleet.Stands(t, 0), t)
	}
	t := protocol.Standing{Every: w.Spec.Every, Times: w.Spec.Times, Seed: seedOf(w.ID), Order: protocol.RunOrder{Kind: k.Name, Version: k.Version, Targets: targets, Watch: w.ID}}
	var err error
	if t.Order.Spec, err = k.Encode(w.Spec.How); err != nil {
		return t, err
	}
	if !k.Paths {
		rule := k.Lanes(w.Spec.How)
		if t.Order.Lanes = x.lanesAt(rule.Split(e.to)); rule.Whole {
			t.Order.Lanes = []protocol.RunLane{{Lane: rule.Split(targets)[0]}}
		}
		return t, nil
	}
	of := slices.Clone(w.Paths)
	for _, talked := range x.talksOf(w.ID, e.near.ID) {
		for _, id := range talked.Paths[w.ID] {
			if !slices.Contains(of, id) {
				of = append(of, id)
			}
		}
	}
	for _, id := range of {
		if p := x.Paths.ByID(id); p != nil && p.AgentID == e.near.ID {
			t.Order.Lanes = append(t.Order.Lanes, protocol.RunLane{Path: id, Lane: x.laneAt(kind.Lane{Target: p.Target, Family: p.Family, Via: p.Via})})
		}
	}
	return t, nil
}

// taskOf is a path that a watch has measured without a pause.
func (x *Watches) taskOf(w *Watch, p *paths.Path) protocol.Task {
	e := w.Spec.How.(interface{ Endless() kind.Endless }).Endless()
	t := protocol.Task{Watch: w.ID, Path: p.ID, Target: cmp.Or(x.Fleet.Stands(p.Target, p.Family), p.Target), Family: p.Family, Via: viaOf(p.Path), Interval: e.Interval, Wait: e.Wait, Payload: e.Payload, DSCP: e.Out.DSCP, Phase: p.ID.Phase(e.Interval),
		Poisson: e.Poisson, Out: protocol.Out{TTL: e.Out.TTL, Source: e.Out.Source, Interface: e.Out.Interface, DontFragment: e.Out.DontFragment, StampKey: e.StampKey}}
	if !w.Spec.Times.IsZero() {
		t.Times = []schedule.Times{w.Spec.Times}
	}
	if e.Poisson { // each path in its own rhythm
		t.Seed = e.Seed + uint64(p.ID.Phase(1<<40))
	}
	return t
}

// viaOf reads by what a path is asked.
func viaOf(p store.Path) reading.Via {
	v, err := reading.ParseVia(p.Via)
	if err != nil { // of a later version of the program
		return reading.Via{}
	}
	return v
}
