// Package plans keeps measurements under names, to be made again unchanged: a kind, and what it is
// told. A run keeps what it was told itself, so that a plan may change.
//
//	p, err := x.Keep(ctx, plans.Plan{Name: "Gannet fibre", Kind: k, Spec: spec})
package plans

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

// Plan is a measurement under a name.
type Plan struct {
	ID        ident.ID
	Name      string
	Kind      *kind.Kind
	Spec      kind.Spec
	Revision  int
	ChangedBy string
	ChangedAt time.Time
}

// Plans are all of them. It is safe for concurrent use.
type Plans struct {
	store   *store.Store
	notices *notices.Notices
	change  sync.Mutex // held by who changes them
}

// New keeps plans in a store.
func New(s *store.Store, n *notices.Notices) *Plans { return &Plans{store: s, notices: n} }

const (
	mostPlans = 1000
	mostName  = 100
)

// All are the plans, by name. One whose kind or version is not known any more is an error that
// names it.
func (x *Plans) All(ctx context.Context) ([]Plan, error) {
	rows, err := x.store.Plans(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]Plan, len(rows))
	for i, r := range rows {
		k, err := kind.Find(r.Kind)
		if err == nil && r.Version > k.Version {
			err = fmt.Errorf("%w version %d of the kind %s", kind.ErrUnknown, r.Version, r.Kind)
		}
		var spec kind.Spec
		if err == nil {
			spec, err = k.Decode(kind.Standing, []byte(r.Spec))
		}
		if err != nil {
			return nil, fmt.Errorf("read plan %q: %w", r.Name, err)
		}
		list[i] = Plan{r.ID, r.Name, k, spec, r.Revision, r.ChangedBy, r.ChangedAt}
	}
	return list, nil
}

// Find is a plan by its identifier or its name; the error wraps store.ErrNotFound, and says which
// there are.
func (x *Plans) Find(ctx context.Context, what string) (Plan, error) {
	all, err := x.All(ctx)
	if err != nil {
		return Plan{}, err
	}
	names := make([]string, len(all))
	for i, p := range all {
		if p.ID.String() == what || strings.EqualFold(p.Name, what) {
			return p, nil
		}
		names[i] = p.Name
	}
	there := "; there are " + strings.Join(names, ", ")
	if len(names) == 0 {
		there = ", and no other"
	}
	return Plan{}, fmt.Errorf("there is no plan %q%s: %w", kind.Shorten(what), there, store.ErrNotFound)
}

func (p *Plan) check() error {
	p.Name = strings.TrimSpace(p.Name)
	switch {
	case p.Name == "" || len(p.Name) > mostName || !utf8.ValidString(p.Name) || strings.ContainsFunc(p.Name, unicode.IsControl):
		return fmt.Errorf("%w: a plan needs a name of up to %d bytes in one line", kind.ErrInvalid, mostName)
	case p.Kind.Estimate == nil:
		return fmt.Errorf("%w: a %s is no measurement that is planned; make a watch of it", kind.ErrInvalid, p.Kind.Name)
	}
	if _, err := ident.Parse(p.Name); err == nil {
		return fmt.Errorf("%w: %q looks like an identifier; choose another name", kind.ErrInvalid, p.Name)
	}
	return p.Spec.Check()
}

// Keep keeps a plan: a new one, or over that of its identifier, whose revision it has to have. The
// error wraps kind.ErrInvalid, store.ErrTaken when another has its name, or store.ErrChanged.
func (x *Plans) Keep(ctx context.Context, p Plan) (Plan, error) {
	x.change.Lock()
	defer x.change.Unlock()
	if err := p.check(); err != nil {
		return p, err
	}
	all, err := x.All(ctx)
	if err != nil {
		return p, err
	}
	var before *Plan
	for i, o := range all {
		switch {
		case o.ID == p.ID:
			before = &all[i]
		case strings.EqualFold(o.Name, p.Name):
			return p, fmt.Errorf("plan %q is there already: the name %w", o.Name, store.ErrTaken)
		}
	}
	spec, err := p.Kind.Encode(p.Spec)
	if err != nil {
		return p, err
	}
	p.ChangedBy, p.ChangedAt = notices.Actor(ctx), time.Now().UTC()
	row := store.Plan{ID: p.ID, Name: p.Name, Kind: p.Kind.Name, Version: p.Kind.Version, Spec: string(spec), ChangedBy: p.ChangedBy, ChangedAt: p.ChangedAt}
	if before == nil {
		if len(all) >= mostPlans {
			return p, fmt.Errorf("%w: there are %d plans, as many as may be", kind.ErrInvalid, mostPlans)
		}
		p.ID, p.Revision = ident.New(), 1
		row.ID, row.Revision = p.ID, 1
		if err := x.store.AddPlan(ctx, row); err != nil {
			return p, err
		}
		x.notices.Changed(ctx, "plan_added", p.Name, nil, json.RawMessage(spec))
		return p, nil
	}
	p.Revision++
	row.Revision = p.Revision
	if err := x.store.ChangePlan(ctx, row); err != nil {
		return p, err
	}
	was, err := before.Kind.Encode(before.Spec)
	if err != nil {
		return p, err
	}
	x.notices.Changed(ctx, "plan_changed", p.Name, json.RawMessage(was), json.RawMessage(spec))
	return p, nil
}

// Remove removes a plan.
func (x *Plans) Remove(ctx context.Context, id ident.ID) error {
	x.change.Lock()
	defer x.change.Unlock()
	p, err := x.Find(ctx, id.String())
	if err != nil {
		return err
	}
	if err := x.store.DeletePlan(ctx, id); err != nil {
		return err
	}
	was, err := p.Kind.Encode(p.Spec)
	if err != nil {
		return err
	}
	x.notices.Changed(ctx, "plan_removed", p.Name, json.RawMessage(was), nil)
	return nil
}
