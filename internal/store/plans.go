package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Plan is a measurement that is kept under a name. Spec is JSON: what its kind is told.
type Plan struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Kind      string
	Version   int // of the kind
	Spec      string
	Revision  int // grows with each change
	ChangedBy string
	ChangedAt time.Time
}

// Plans are all of them, by name.
func (s *Store) Plans(ctx context.Context) (list []Plan, err error) {
	return list, wrap("list plans", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// AddPlan keeps a new plan.
func (s *Store) AddPlan(ctx context.Context, p Plan) error {
	return s.transact(ctx, "keep a plan", func(tx *gorm.DB) error { return tx.Create(&p).Error })
}

// ChangePlan keeps a plan over that of the revision before; the error wraps ErrChanged when that is
// not what is there.
func (s *Store) ChangePlan(ctx context.Context, p Plan) error {
	return s.transact(ctx, "keep a plan", func(tx *gorm.DB) error {
		r := tx.Model(&Plan{}).Where("id = ? AND revision = ?", p.ID, p.Revision-1).
			Updates(map[string]any{"name": p.Name, "kind": p.Kind, "version": p.Version, "spec": p.Spec, "revision": p.Revision, "changed_by": p.ChangedBy, "changed_at": p.ChangedAt})
		if r.Error == nil && r.RowsAffected == 0 {
			return fmt.Errorf("plan %q: %w", p.Name, ErrChanged)
		}
		return r.Error
	})
}

// DeletePlan removes a plan.
func (s *Store) DeletePlan(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove a plan", func(tx *gorm.DB) error { return tx.Delete(&Plan{}, "id = ?", id).Error })
}
