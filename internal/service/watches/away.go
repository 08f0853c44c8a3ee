package watches

import (
	"crypto/hmac"
	"crypto/sha256"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/runs"
)

// Measurements with two ends are begun by the service as long as it is there: both ends are
// to be ready, and load runs are to be in nobody's way. For the times when it is away, agents
// on other machines have the same in their plans, with tickets that last, one behind the
// other as far as that can be said beforehand.

// between is the time that is left between two of them.
const between = 10 * time.Second

// awayPlans are the plans for the times when the service is away.
type awayPlans struct {
	of    *Watches
	plans map[ident.ID]protocol.Plan
	laid  time.Duration // of the runs that are laid out
}

// add lays out what a watch wants.
func (x *awayPlans) add(w *Watch, k *kind.Kind) {
	for _, e := range x.of.now(w) {
		from := e.near.Name
		for _, to := range e.to {
			near, far, ok := x.of.bothAway(w.Spec.How, from, to)
			if !ok {
				continue
			}
			t, err := x.standing(w, k, near, far, to)
			if err != nil {
				x.of.Log.Error("a watch cannot be given to its agent for when this service is away", "watch", w.Name, "agent", from, "error", err)
				continue
			}
			p := x.plans[near.ID]
			p.Standing = append(p.Standing, t)
			x.plans[near.ID] = p
		}
	}
}

// bothAway finds the ends of a measurement that goes on without this service: agents on other
// machines, or one and a far end that is no agent.
func (x *Watches) bothAway(how kind.Spec, from, to string) (near, far *fleet.Agent, ok bool) {
	near, err := x.Fleet.Named(from)
	if err != nil {
		return nil, nil, false
	}
	if near.Proxy() == nil {
		return nil, nil, false
	}
	if f, is := how.(interface{ NoFar() bool }); is && f.NoFar() {
		return near, nil, true
	}
	far = x.Fleet.FarNamed(to)
	if far == nil || far == near || far.Responder() == "" {
		return nil, nil, false
	}
	return near, far, far.Proxy() != nil
}

func (x *awayPlans) standing(w *Watch, k *kind.Kind, near, far *fleet.Agent, to string) (t protocol.Standing, err error) {
	o := protocol.RunOrder{Kind: k.Name, Version: k.Version, Watch: w.ID, Targets: []string{to}}
	if o.Spec, err = k.Encode(w.Spec.How); err != nil {
		return t, err
	}
	g := k.Guest(w.Spec.How)
	if far == nil {
		if o.Targets, err = runs.WithPort(w.Spec.How, o.Targets); err != nil {
			return t, err
		}
	} else {
		ticket := protocol.Ticket{Name: "watch " + w.ID.String() + " from " + near.ID.String(), Key: lasting(far, near, w.ID), From: near.ID, Time: g.Session, Rate: float64(g.Rate), TCP: g.TCP}
		p := x.plans[far.ID]
		p.Tickets = append(p.Tickets, ticket)
		x.plans[far.ID] = p
		o.FarID, o.Far = far.ID, kind.Far{Address: far.Responder(), KeyName: ticket.Name, Key: ticket.Key}
	}
	for _, l := range k.Lanes(w.Spec.How).Split(o.Targets) {
		o.Lanes = append(o.Lanes, protocol.RunLane{Lane: l})
	}
	t = protocol.Standing{Every: w.Spec.Every, Times: w.Spec.Times, Seed: seedOf(w.ID), Order: o, Key: w.ID.String() + " to " + to, Away: true}
	if t.Phase = x.laid; w.Spec.Between() > 0 {
		t.Phase %= w.Spec.Between()
	}
	if t.Budget = w.Spec.DayBytes; t.Budget == 0 && k.Load {
		t.Budget = defaultBudget
	}
	x.laid += g.Whole + between
	return t, nil
}

// lasting is the key of a ticket that lasts. It follows from what only the service knows of
// both agents, so that their plans stay the same over restarts of this program.
func lasting(far, near *fleet.Agent, watch ident.ID) []byte {
	h := hmac.New(sha256.New, append(append([]byte("ticket"), far.KeyHash...), near.KeyHash...))
	h.Write(watch[:])
	return h.Sum(nil)
}

// givenAway reports whether an agent makes a measurement of a watch while this service is away.
func (x *Watches) givenAway(w *Watch, from, to string) bool {
	_, _, ok := x.bothAway(w.Spec.How, from, to)
	return ok
}

// surelyAway is how long an agent that holds no connection may take to know that.
const surelyAway = time.Minute

// seesToIt reports whether an agent, which is not connected, makes a measurement of a watch by
// its plan.
func (x *Watches) seesToIt(w *Watch, from, to string) bool {
	near, _, ok := x.bothAway(w.Spec.How, from, to)
	if !ok {
		return false
	}
	connected, since := near.Proxy().Connected()
	return !connected && time.Since(since) > surelyAway
}
