package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/plans"
)

// OnePlan names a plan.
type OnePlan struct {
	ID string `path:"id" doc:"Identifier or name"`
}

func (s *server) registerPlans(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/plans", "list-plans", "Measurements that are kept under names, by name", "Plans"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Plan], error) {
			list, err := s.c.Plans.All(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Plan, len(list))
			for i, p := range list {
				if out[i], err = planOf(p); err != nil {
					return nil, s.problem(err)
				}
			}
			return &body[[]apitype.Plan]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/plans/{id}", "get-plan", "A plan", "Plans", http.StatusNotFound), func(ctx context.Context, in *OnePlan) (*body[apitype.Plan], error) {
		p, err := s.c.Plans.Find(ctx, in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		out, err := planOf(p)
		return &body[apitype.Plan]{out}, s.problem(err)
	})
	add := operation(http.MethodPost, "/plans", "add-plan", "Keep a new plan", "Plans", http.StatusConflict, http.StatusUnprocessableEntity)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.PlanChange]) (*body[apitype.Plan], error) {
		return s.keepPlan(ctx, plans.Plan{}, in.Body)
	})
	change := operation(http.MethodPut, "/plans/{id}", "change-plan", "Change a plan; runs keep what they were made by", "Plans", http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity)
	huma.Register(a, change, func(ctx context.Context, in *struct {
		OnePlan
		Body apitype.PlanChange
	}) (*body[apitype.Plan], error) {
		p, err := s.c.Plans.Find(ctx, in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		if in.Body.Revision != 0 {
			p.Revision = in.Body.Revision
		}
		return s.keepPlan(ctx, p, in.Body)
	})
	remove := operation(http.MethodDelete, "/plans/{id}", "remove-plan", "Remove a plan; its runs stay", "Plans", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *OnePlan) (*struct{}, error) {
		p, err := s.c.Plans.Find(ctx, in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		return nil, s.problem(s.c.Plans.Remove(ctx, p.ID))
	})
	huma.Register(a, operation(http.MethodPost, "/estimates", "estimate", "What a measurement would take, by time and bytes each way; nothing is sent", "Plans", http.StatusUnprocessableEntity),
		func(_ context.Context, in *body[apitype.Estimate]) (*body[any], error) {
			k, spec, err := planned(in.Body.Kind, in.Body.How)
			if err != nil {
				return nil, s.problem(err)
			}
			if err := spec.Check(); err != nil {
				return nil, s.problem(err)
			}
			out, err := k.Estimate(spec)
			return &body[any]{out}, s.problem(err)
		})
}

// planned reads what a kind that is planned is told.
func planned(name string, how map[string]json.RawMessage) (*kind.Kind, kind.Spec, error) {
	k, err := kind.Find(name)
	if err != nil {
		return nil, nil, err
	}
	if k.Estimate == nil {
		return nil, nil, fmt.Errorf("%w: a %s is not planned", kind.ErrInvalid, k.Name)
	}
	spec, err := k.Take(kind.Standing, how)
	return k, spec, err
}

func (s *server) keepPlan(ctx context.Context, p plans.Plan, c apitype.PlanChange) (*body[apitype.Plan], error) {
	var err error
	if p.Kind, p.Spec, err = planned(c.Kind, c.How); err != nil {
		return nil, s.problem(err)
	}
	p.Name = c.Name
	if p, err = s.c.Plans.Keep(ctx, p); err != nil {
		return nil, s.problem(err)
	}
	out, err := planOf(p)
	return &body[apitype.Plan]{out}, s.problem(err)
}

func planOf(p plans.Plan) (apitype.Plan, error) {
	how, err := p.Kind.Give(p.Spec)
	return apitype.Plan{ID: p.ID.String(), Name: p.Name, Kind: p.Kind.Name, How: how, Revision: p.Revision, ChangedBy: p.ChangedBy, ChangedAt: p.ChangedAt}, err
}
