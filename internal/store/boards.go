package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Board is a page of one's own. Body is JSON: its parts.
type Board struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Body      string
	Revision  int // grows with each change
	ChangedBy string
	ChangedAt time.Time
}

// ErrChanged is that something was changed by somebody else meanwhile.
var ErrChanged = errors.New("it was changed meanwhile")

// Boards are all of them, by name.
func (s *Store) Boards(ctx context.Context) (list []Board, err error) {
	return list, wrap("list boards", s.db.WithContext(ctx).Order("name").Find(&list).Error)
}

// AddBoard keeps a new board.
func (s *Store) AddBoard(ctx context.Context, b Board) error {
	return s.transact(ctx, "keep a board", func(tx *gorm.DB) error { return tx.Create(&b).Error })
}

// ChangeBoard keeps a board over that of the revision before; the error wraps ErrChanged when that
// is not what is there.
func (s *Store) ChangeBoard(ctx context.Context, b Board) error {
	return s.transact(ctx, "keep a board", func(tx *gorm.DB) error {
		r := tx.Model(&Board{}).Where("id = ? AND revision = ?", b.ID, b.Revision-1).
			Updates(map[string]any{"name": b.Name, "body": b.Body, "revision": b.Revision, "changed_by": b.ChangedBy, "changed_at": b.ChangedAt})
		if r.Error == nil && r.RowsAffected == 0 {
			return fmt.Errorf("board %q: %w", b.Name, ErrChanged)
		}
		return r.Error
	})
}

// DeleteBoard removes a board.
func (s *Store) DeleteBoard(ctx context.Context, id ident.ID) error {
	return s.transact(ctx, "remove a board", func(tx *gorm.DB) error { return tx.Delete(&Board{}, "id = ?", id).Error })
}
