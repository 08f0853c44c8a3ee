package controller

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"net"
	"strconv"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

// Measurements with two ends are begun by the service as long as it is there: both ends are
// to be ready, and load runs are to be in nobody's way. For the times when it is away, agents
// on other machines have the same in their plans, with tickets that last, one behind the
// other as far as that can be said beforehand.

// between is the time that is left between two of them.
const between = 10 * time.Second

// awayPlans are the plans for the times when the service is away.
type awayPlans struct {
	c     *Controller
	plans map[ident.ID]protocol.Plan
	laid  time.Duration // of the runs that are laid out
}

// add lays out what a watch wants; c.mu is held.
func (x *awayPlans) add(w *Watch, k *kind.Kind) {
	for _, from := range w.Spec.From {
		for _, to := range w.Spec.To {
			near, far, ok := x.c.bothAway(w.Spec.How, from, to)
			if !ok {
				continue
			}
			t, err := x.standing(w, k, near, far, to)
			if err != nil {
				x.c.log.Error("a watch cannot be given to its agent for when this service is away", "watch", w.Name, "agent", from, "error", err)
				continue
			}
			p := x.plans[near.ID]
			p.Standing = append(p.Standing, t)
			x.plans[near.ID] = p
		}
	}
}

// bothAway finds the ends of a measurement that goes on without this service: agents on other
// machines, or one and a far end that is no agent; c.mu is held.
func (c *Controller) bothAway(how kind.Spec, from, to string) (near, far *agentState, ok bool) {
	near, err := c.agentNamed(from)
	if err != nil {
		return nil, nil, false
	}
	if _, is := near.worker.(*remote.Proxy); !is {
		return nil, nil, false
	}
	if f, is := how.(interface{ NoFar() bool }); is && f.NoFar() {
		return near, nil, true
	}
	far = c.farNamed(to)
	if far == nil || far == near || far.responder() == "" {
		return nil, nil, false
	}
	_, is := far.worker.(*remote.Proxy)
	return near, far, is
}

// farNamed is the agent that a target is as a far end; nil when it is none. c.mu is held.
func (c *Controller) farNamed(to string) (far *agentState) {
	for _, a := range c.agents {
		if a.Name == to || a.Address == to && a.Kind != Remote {
			far = a
		}
	}
	return far
}

// responder is where an agent on another machine says that it answers as a far end.
func (a *agentState) responder() string {
	if a.Health == nil {
		return ""
	}
	var h protocol.Health
	if json.Unmarshal([]byte(*a.Health), &h) != nil {
		return ""
	}
	return h.Responder
}

func (x *awayPlans) standing(w *Watch, k *kind.Kind, near, far *agentState, to string) (t protocol.Standing, err error) {
	o := protocol.RunOrder{Kind: k.Name, Version: k.Version, Watch: w.ID, Targets: []string{to}}
	if o.Spec, err = k.Encode(w.Spec.How); err != nil {
		return t, err
	}
	g := k.Guest(w.Spec.How)
	if far == nil {
		if o.Targets, err = withPort(w.Spec.How, o.Targets); err != nil {
			return t, err
		}
	} else {
		ticket := protocol.Ticket{Name: "watch " + w.ID.String() + " from " + near.ID.String(), Key: lasting(far, near, w.ID), From: near.ID, Time: g.Session, Rate: float64(g.Rate), TCP: g.TCP}
		p := x.plans[far.ID]
		p.Tickets = append(p.Tickets, ticket)
		x.plans[far.ID] = p
		o.FarID, o.Far = far.ID, kind.Far{Address: far.responder(), KeyName: ticket.Name, Key: ticket.Key}
	}
	for _, l := range k.Lanes(w.Spec.How).Split(o.Targets) {
		o.Lanes = append(o.Lanes, protocol.RunLane{Lane: l})
	}
	t = protocol.Standing{Every: w.Spec.Every, Order: o, Key: w.ID.String() + " to " + to, Phase: x.laid % w.Spec.Every, Away: true}
	if t.Budget = w.Spec.DayBytes; t.Budget == 0 && k.Load {
		t.Budget = defaultBudget
	}
	x.laid += g.Whole + between
	return t, nil
}

// lasting is the key of a ticket that lasts. It follows from what only the service knows of
// both agents, so that their plans stay the same over restarts of this program.
func lasting(far, near *agentState, watch ident.ID) []byte {
	h := hmac.New(sha256.New, append(append([]byte("ticket"), far.KeyHash...), near.KeyHash...))
	h.Write(watch[:])
	return h.Sum(nil)
}

// withPort completes a target that is no agent of ours by the port that its kind means.
func withPort(how kind.Spec, targets []string) ([]string, error) {
	x, ok := how.(interface{ FarPort() uint16 })
	if !ok {
		return targets, nil
	}
	name, port, err := kind.SplitPort(targets[0], x.FarPort())
	if err != nil {
		return nil, err
	}
	return []string{net.JoinHostPort(name, strconv.Itoa(int(port)))}, nil
}

// givenAway reports whether an agent makes a measurement of a watch while this service is away.
func (c *Controller) givenAway(w *Watch, from, to string) bool {
	c.mu.RLock()
	defer c.mu.RUnlock()
	_, _, ok := c.bothAway(w.Spec.How, from, to)
	return ok
}

// surelyAway is how long an agent that holds no connection may take to know that.
const surelyAway = time.Minute

// seesToIt reports whether an agent, which is not connected, makes a measurement of a watch by
// its plan.
func (c *Controller) seesToIt(w *Watch, from, to string) bool {
	c.mu.RLock()
	defer c.mu.RUnlock()
	near, _, ok := c.bothAway(w.Spec.How, from, to)
	if !ok {
		return false
	}
	connected, since := near.worker.(*remote.Proxy).Connected()
	return !connected && time.Since(since) > surelyAway
}
