package trace

import (
	"context"
	"net/netip"
	"time"

	"woodlark.example/internal/network"
)

const (
	hopWait = 500 * time.Millisecond
	hopName = time.Second
)

// Hops finds the route to an address quickly, one way of it and without figures: each hop by its
// address, with its name where it has one; ? where nobody answers. The last is the target, where it
// answers.
func Hops(ctx context.Context, n network.Network, ground Ground, to netip.Addr) ([]string, error) {
	found, err := Measure(ctx, n, ground, Options{}, Request{Addr: to, OneFlow: true, Retries: 1, Wait: hopWait})
	if err != nil {
		return nil, err
	}
	r := found[0]
	if r.Err != nil {
		return nil, r.Err
	}
	names := Names(ctx, n, r, nil, hopName)
	list := make([]string, 0, len(r.Route.Hops))
	for _, h := range r.Route.Hops {
		text := "?"
		if len(h.Nodes) > 0 {
			a := h.Nodes[0].Addr
			if text = a.String(); names[a] != "" {
				text += " " + names[a]
			}
		}
		list = append(list, text)
	}
	return list, nil
}
