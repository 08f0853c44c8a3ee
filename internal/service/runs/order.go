package runs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// checkRun says what of a request cannot be, and finds its ends; far is nil when that is no
// agent.
func (x *Runs) checkRun(r Request) (near, far *fleet.Agent, err error) {
	invalid := func(err error) error {
		if err == nil || errors.Is(err, kind.ErrInvalid) {
			return err
		}
		return fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	if err := r.How.Check(); err != nil {
		return nil, nil, invalid(err)
	}
	if err := r.Kind.CheckTargets(r.How, x.plain(r)); err != nil {
		return nil, nil, invalid(err)
	}
	if r.Kind.Agent != nil {
		if err := r.Kind.Agent(r.How, r.Targets); err != nil {
			return nil, nil, invalid(err)
		}
	}
	if err := x.disturbs(r); err != nil {
		return nil, nil, err
	}
	if near, err = x.Fleet.Named(r.From); err != nil {
		return nil, nil, err
	}
	if near.Worker == nil {
		return nil, nil, fmt.Errorf("%w: agent %q is not running", kind.ErrInvalid, r.From)
	}
	if !r.Kind.TwoEnds {
		return near, nil, nil
	}
	if x, ok := r.How.(interface{ NoFar() bool }); ok && x.NoFar() {
		return near, nil, nil
	}
	to := r.Targets[0]
	far = x.Fleet.FarNamed(to)
	switch {
	case far == near:
		return nil, nil, fmt.Errorf("%w: %q is both ends", kind.ErrInvalid, r.From)
	case far != nil && far.Worker == nil:
		return nil, nil, fmt.Errorf("%w: agent %q is not running", kind.ErrInvalid, to)
	case far == nil && r.Key == "":
		_, err = x.Fleet.Named(to)
		return nil, nil, fmt.Errorf("%w; a responder without a service needs its key", err)
	}
	return near, far, nil
}

// disturbs says why a measurement is not made where a watch measures.
func (x *Runs) disturbs(r Request) error {
	if r.Kind.Disturbs == nil || x.Measuring == nil {
		return nil
	}
	why := r.Kind.Disturbs(r.How)
	if why == "" {
		return nil
	}
	for _, t := range r.Targets {
		host := t
		if name, _, err := kind.SplitPort(t, kind.UsualPort); err == nil {
			host = name
		}
		if w := x.Measuring(r.From, host); w != "" {
			return fmt.Errorf("%w: watch %q measures between %s and %s: %s", kind.ErrInvalid, w, r.From, host, why)
		}
	}
	return nil
}

const mostLanes = 20_000

// plain are the targets of a request, with addresses for names of agents.
func (x *Runs) plain(r Request) []string {
	if r.Kind.TwoEnds {
		return r.Targets
	}
	list := slices.Clone(r.Targets)
	for i, t := range list {
		list[i] = cmp.Or(x.Fleet.Stands(t, 0), t)
	}
	return list
}

// orderOf is what the agent is told: its lanes with their runs and paths.
func (x *Runs) orderOf(ctx context.Context, r Request, near, far *fleet.Agent) (o protocol.RunOrder, err error) {
	o = protocol.RunOrder{Kind: r.Kind.Name, Version: r.Kind.Version, Targets: r.Targets, Watch: r.Watch, Extra: r.Extra, Before: r.Before}
	if o.Spec, err = r.Kind.Encode(r.How); err != nil {
		return o, err
	}
	rule := r.Kind.Lanes(r.How)
	if far == nil {
		if r.Targets, err = WithPort(r.How, r.Targets); err != nil {
			return o, err
		}
		o.Targets = r.Targets
	}
	agents, others := x.agentsAmong(r, rule)
	lanes := append(agents, rule.Split(others)...)
	if !rule.Definite(others) { // where names resolve is where it is measured from
		if lanes, err = near.Worker.Locate(ctx, protocol.LocateOrder{Kind: o.Kind, Version: o.Version, Spec: o.Spec, Targets: others}); err != nil {
			return o, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
		}
		lanes = append(agents, lanes...)
		for i := range lanes {
			if lanes[i].Family == 0 {
				lanes[i].Family = 4 // of what did not resolve
			}
		}
	}
	if len(lanes) > mostLanes {
		return o, fmt.Errorf("%w: %d targets, families and kinds of probes are more than %d runs", kind.ErrInvalid, len(lanes), mostLanes)
	}
	var list []*paths.Path
	if r.Kind.Paths {
		if list, err = x.Paths.Ensure(ctx, EndsOf(near.ID, rule, lanes)); err != nil {
			return o, err
		}
	}
	for i, l := range lanes {
		lane := protocol.RunLane{Run: ident.New(), Lane: l}
		if list != nil {
			lane.Path = list[i].ID
		}
		o.Lanes = append(o.Lanes, lane)
	}
	if far != nil {
		o.FarID = far.ID
	}
	if r.Key != "" && r.Kind.TwoEnds {
		o.Far.Key = kind.KeyFrom(r.Key)
	}
	return o, nil
}

// agentsAmong are the lanes of targets that are names of agents, with where those stand, and
// the other targets. Far ends are found otherwise.
func (x *Runs) agentsAmong(r Request, rule kind.Rule) (lanes []kind.Lane, others []string) {
	if r.Kind.TwoEnds || rule.Whole {
		return nil, r.Targets
	}
	for _, t := range r.Targets {
		if x.Fleet.Stands(t, 0) == "" {
			others = append(others, t)
			continue
		}
		for _, l := range rule.Split([]string{t}) {
			at := x.Fleet.Stands(t, l.Family)
			if addr, err := netip.ParseAddr(at); err == nil {
				l.Address = addr
			} else if at != "" {
				l.Target = at
			}
			lanes = append(lanes, l)
		}
	}
	return lanes, others
}

// EndsOf are the ends of the paths of lanes. Of a name all of whose addresses are measured
// each address is a path.
func EndsOf(agent ident.ID, rule kind.Rule, lanes []kind.Lane) []store.Ends {
	list := make([]store.Ends, len(lanes))
	for i, l := range lanes {
		list[i] = store.Ends{Agent: agent, Target: l.Target, Family: l.Family, Via: l.Via}
		if rule.All && l.Address.IsValid() {
			list[i].Target = l.Address.String()
		}
	}
	return list
}

// WithPort completes a target that is no agent of ours by the port that its kind means.
func WithPort(how kind.Spec, targets []string) ([]string, error) {
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
