package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Annotation is what a person wrote of a path, or of all, at a time or over a span.
type Annotation struct {
	ID     ident.ID  `gorm:"primaryKey"`
	PathID *ident.ID // nil when it is of all
	At     time.Time
	Until  *time.Time
	Author string
	Text   string
	MadeAt time.Time
}

// Annotations are those that touch a stretch of time, in its order; of a path those of all are
// among them. All paths' when path is none.
func (s *Store) Annotations(ctx context.Context, path ident.ID, from, to time.Time, most int) (list []Annotation, err error) {
	q := s.db.WithContext(ctx).Where("at < ? AND COALESCE(until, at) >= ?", to.UTC(), from.UTC()).Order("at, id").Limit(most)
	if !path.IsZero() {
		q = q.Where("path_id = ? OR path_id IS NULL", path)
	}
	return list, wrap("list annotations", q.Find(&list).Error)
}

// SaveAnnotation keeps an annotation.
func (s *Store) SaveAnnotation(ctx context.Context, a Annotation) error {
	return s.transact(ctx, "keep an annotation", func(tx *gorm.DB) error { return tx.Save(&a).Error })
}

// Annotation is one of them; the error wraps ErrNotFound.
func (s *Store) Annotation(ctx context.Context, id ident.ID) (a Annotation, err error) {
	return a, wrap(fmt.Sprintf("find annotation %s", id), s.db.WithContext(ctx).Where("id = ?", id).Take(&a).Error)
}

// DeleteAnnotation removes an annotation.
func (s *Store) DeleteAnnotation(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove an annotation", func(tx *gorm.DB) error { return tx.Delete(&Annotation{}, "id = ?", id).Error })
}
