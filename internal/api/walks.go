package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/store"
)

type oneAgent struct {
	Name string `path:"name"`
}

func (s *server) registerWalks(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/agents/{name}/standing", "get-standing", "The machine that an agent stands at, as 'woodlark here' tells it: interfaces, gateways, neighbours, resolvers, clock, sockets", "Agents", http.StatusNotFound, http.StatusUnprocessableEntity),
		func(_ context.Context, in *oneAgent) (*body[map[string]any], error) {
			standing, err := s.c.Fleet.Standing(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[map[string]any]{}
			return out, s.problem(json.Unmarshal(standing, &out.Body))
		})
	walk := kind.In("walks").Name
	op := operation(http.MethodPost, "/walks", walk, "Go from near to far towards a target, at an agent: neighbour, gateway, resolvers, address, name, port. It is waited for", "Runs", http.StatusUnprocessableEntity)
	huma.Register(a, op, func(ctx context.Context, in *body[apitype.EndOrder]) (*body[apitype.Walk], error) {
		in.Body.Kind = walk
		run, err := s.startEnd(ctx, in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		if run, err = s.awaitRun(ctx, run.ID); err != nil {
			return nil, s.problem(err)
		}
		raw, err := s.c.Store.ResultOf(ctx, run)
		if err == nil && raw == nil {
			err = fmt.Errorf("%w: %s: %s", kind.ErrInvalid, run.Outcome, run.Reason)
		}
		var r finding.WalkReport
		if err == nil {
			err = json.Unmarshal(raw, &r)
		}
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Walk]{apitype.Walk{From: r.From, Target: r.Target, Address: r.Address, Steps: r.Steps, Findings: apitype.FindingsOf(r.Findings)}}, nil
	})
}

// awaitRun waits until a run is over; one that the caller does not wait for any more is ended.
func (s *server) awaitRun(ctx context.Context, id ident.ID) (store.Run, error) {
	heard, stop := s.c.Events.Listen()
	defer stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		r, err := s.c.Store.Run(ctx, id)
		if err != nil || r.Outcome != protocol.Running {
			if ctx.Err() != nil {
				s.c.Runs.Stop(id)
			}
			return r, err
		}
		for waiting := true; waiting; {
			select {
			case e, ok := <-heard:
				if !ok {
					heard = nil
				}
				waiting = ok && e.Kind != events.NewRun
			case <-look.C:
				waiting = false
			case <-ctx.Done():
				s.c.Runs.Stop(id)
				return r, ctx.Err()
			}
		}
	}
}
