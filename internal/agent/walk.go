package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"woodlark.example/core/finding"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/walk"
	"woodlark.example/wire"
)

// Ground is what a walk asks of a host, and a sweep of its links; and where it
// stands.
type Ground interface {
	walk.Ground
	sweepLinks
	Standing() (json.RawMessage, error)
}

// Standing is this machine's own; see plan.Walker.
func (a *Agent) Standing() (json.RawMessage, error) {
	if a.options.Ground == nil {
		return nil, fmt.Errorf("agent %s %w", a.options.Name, plan.ErrNoStanding)
	}
	return a.options.Ground.Standing()
}

// Walk goes from near to far towards a target; see plan.Walker.
func (a *Agent) Walk(ctx context.Context, o plan.WalkOrder) (finding.WalkReport, error) {
	var ground walk.Ground
	if g, ok := a.options.Network.(walk.Ground); ok {
		ground = g
	} else if a.options.Ground != nil {
		ground = a.options.Ground
	} else {
		return finding.WalkReport{}, errors.New("this agent does not know its own links")
	}
	r, err := walk.Go(ctx, a.options.Network, ground, walk.Request{Target: o.Target, Address: o.Address, Family: wire.Family(o.Family), Port: o.Port, Probes: o.Probes, Interval: o.Interval})
	r.From = a.options.Name
	return r.WalkReport, err
}
