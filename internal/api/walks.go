package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/plan"
)

type oneAgent struct {
	Name string `path:"name"`
}

func (s *server) registerWalks(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/agents/{name}/standing", "get-standing", "The machine that an agent stands at, as 'woodlark here' tells it: interfaces, gateways, neighbours, resolvers, clock, sockets", "Agents", http.StatusNotFound, http.StatusUnprocessableEntity),
		func(_ context.Context, in *oneAgent) (*body[map[string]any], error) {
			standing, err := s.c.Standing(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[map[string]any]{}
			return out, s.problem(json.Unmarshal(standing, &out.Body))
		})
	op := operation(http.MethodPost, "/walks", "walk", "Go from near to far towards a target, at an agent: neighbour, gateway, resolvers, address, name, port. It is waited for", "Runs", http.StatusUnprocessableEntity)
	huma.Register(a, op, func(ctx context.Context, in *body[apitype.WalkOrder]) (*body[apitype.Walk], error) {
		w := in.Body
		o := plan.WalkOrder{Target: w.To, Port: uint16(w.Port), Probes: w.Probes, Interval: 20 * time.Millisecond, Family: map[string]int{"4": 4, "6": 6}[w.Family]}
		if o.Probes == 0 {
			o.Probes = 100
		}
		var err error
		if w.Interval != "" {
			if o.Interval, err = time.ParseDuration(w.Interval); err != nil {
				return nil, s.problem(fmt.Errorf("%w: interval %q is not a span of time such as 20ms", controller.ErrInvalid, cut(w.Interval)))
			}
		}
		if w.Address != "" {
			if o.Address, err = netip.ParseAddr(w.Address); err != nil {
				return nil, s.problem(fmt.Errorf("%w: address %q is not an IP address", controller.ErrInvalid, cut(w.Address)))
			}
		}
		r, err := s.c.Walk(ctx, w.From, o)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Walk]{apitype.Walk{From: r.From, Target: r.Target, Address: r.Address, Steps: r.Steps, Findings: apitype.FindingsOf(r.Findings)}}, nil
	})
}
