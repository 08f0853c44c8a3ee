package runs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
)

// backs are who stands at the targets of an order to measure back, when that is asked for.
func (x *Runs) backs(r Request, near *fleet.Agent, o protocol.RunOrder) ([]*fleet.Agent, error) {
	b, is := r.How.(kind.Backward)
	if !is {
		return nil, nil
	}
	if _, both := b.Back(); !both {
		return nil, nil
	}
	list := make([]*fleet.Agent, len(o.Lanes))
	for i, l := range o.Lanes {
		var err error
		if list[i], err = x.Fleet.StandsAt(l.Lane.Target, near.ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// measureBothWays has the agent measure and, at the same time, who stands at each target back;
// both come back here, are laid beside each other and kept.
func (x *Runs) measureBothWays(ctx context.Context, r Request, near *fleet.Agent, g *activeRun, back kind.Spec, heard func(kind.Progress)) error {
	spec, err := r.Kind.Encode(back)
	if err != nil {
		return err
	}
	order := g.order
	order.Return = true
	type half struct {
		i    int
		made []protocol.Made
		err  error
	}
	forth := make([]chan protocol.Made, len(order.Lanes)) // for those who wait to know where it stands
	halves := make(chan half, len(order.Lanes))
	n := 0
	for i, l := range order.Lanes {
		other := g.backs[i]
		forth[i] = make(chan protocol.Made, 1)
		n++
		go func() {
			made, err := x.measureBack(ctx, r, near, other, l, spec, forth[i])
			halves <- half{i, made, err}
		}()
	}
	made, err := near.Worker.Do(ctx, order, heard)
	for i := range forth {
		if i < len(made) {
			forth[i] <- made[i]
		}
		close(forth[i])
	}
	for range n {
		h := <-halves
		if h.err != nil || h.i >= len(made) || len(h.made) != 1 || h.made[0].Body == nil || made[h.i].Body == nil {
			if h.err != nil && h.i < len(made) && made[h.i].Reason == "" {
				made[h.i].Reason = fmt.Sprintf("the way back is not measured: %v", h.err)
			}
			continue
		}
		if err := lay(r.Kind, &made[h.i], h.made[0]); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	keeping := context.WithoutCancel(ctx)
	return x.Service.Upload(keeping, protocol.Upload{Agent: near.ID, Made: made})
}

// measureBack measures from who stands at a target to where the near end stands.
func (x *Runs) measureBack(ctx context.Context, r Request, near, other *fleet.Agent, l protocol.RunLane, spec []byte, forth <-chan protocol.Made) ([]protocol.Made, error) {
	home := near.Address
	// Where it stands, by the family that was measured by, is known when it has measured.
	if home == "" || near.Kind == fleet.Remote {
		made := <-forth
		if there, err := r.Kind.ReadResult(made.Version, made.Body); err == nil {
			if t, ok := there.(kind.Routed); ok {
				home = t.Trace().Source
			}
		}
	}
	if home == "" {
		return nil, errors.New("it is not known where the near end stands")
	}
	lane := l.Lane
	lane = kind.Lane{Target: home, Family: lane.Family, Via: lane.Via}
	return other.Worker.Do(ctx, protocol.RunOrder{Kind: r.Kind.Name, Version: r.Kind.Version, Spec: spec, Targets: []string{home}, Lanes: []protocol.RunLane{{Run: ident.New(), Lane: lane}}, Return: true}, nil)
}

// lay lays the way back beside the way there.
func lay(k *kind.Kind, there *protocol.Made, back protocol.Made) error {
	one, err := k.ReadResult(there.Version, there.Body)
	if err != nil {
		return err
	}
	other, err := k.ReadResult(back.Version, back.Body)
	if err != nil {
		return err
	}
	r, ok := one.(kind.Routed)
	if !ok {
		return nil
	}
	r.Beside(other)
	there.Body, err = json.Marshal(one)
	return err
}
