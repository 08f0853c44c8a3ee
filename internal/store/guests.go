package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// GuestLink is a link by which somebody outside sees one thing until a time. Its secret is not
// kept, only its hash.
type GuestLink struct {
	ID         ident.ID `gorm:"primaryKey"`
	SecretHash []byte
	Title      string
	Notes      string
	What       string // path, incident, report or run
	Subject    string // JSON
	FromAt     *time.Time
	ToAt       *time.Time
	Frozen     []byte // the page, packed, of one that does not change
	IsFrozen   bool   `gorm:"->"` // also where the page was left out
	Passphrase string // its hash; empty when none is asked for
	MadeBy     string
	MadeAt     time.Time
	EndsAt     time.Time
	EndedAt    *time.Time // by hand, before its time
}

// GuestOpening is that somebody came by a link.
type GuestOpening struct {
	ID      ident.ID `gorm:"primaryKey"`
	LinkID  ident.ID
	At      time.Time
	Address string
	Outcome string // opened, asked, wrong passphrase, over
}

const withoutFrozen = "id, secret_hash, title, notes, what, subject, from_at, to_at, passphrase, made_by, made_at, ends_at, ended_at, frozen IS NOT NULL AS is_frozen"

// GuestLinks are all, newest first, without frozen pages.
func (s *Store) GuestLinks(ctx context.Context) (list []GuestLink, err error) {
	return list, wrap("list guest links", s.db.WithContext(ctx).Select(withoutFrozen).Order("made_at DESC, id DESC").Find(&list).Error)
}

// SaveGuestLink keeps a link.
func (s *Store) SaveGuestLink(ctx context.Context, l GuestLink) error {
	return s.transact(ctx, "keep a guest link", func(tx *gorm.DB) error { return tx.Create(&l).Error })
}

// GuestLink is one of them; the error wraps ErrNotFound.
func (s *Store) GuestLink(ctx context.Context, id ident.ID) (l GuestLink, err error) {
	return l, wrap(fmt.Sprintf("find guest link %s", id), s.db.WithContext(ctx).Where("id = ?", id).Take(&l).Error)
}

// EndGuestLink ends a link now.
func (s *Store) EndGuestLink(ctx context.Context, id ident.ID, at time.Time) error {
	return s.transact(ctx, "end a guest link", func(tx *gorm.DB) error {
		return tx.Model(&GuestLink{}).Where("id = ? AND ended_at IS NULL", id).Update("ended_at", at.UTC()).Error
	})
}

// NoteGuest keeps that somebody came.
func (s *Store) NoteGuest(ctx context.Context, o GuestOpening) error {
	return s.transact(ctx, "note a guest", func(tx *gorm.DB) error {
		return tx.Create(&o).Error
	})
}

// GuestOpenings are those of a link, newest first.
func (s *Store) GuestOpenings(ctx context.Context, link ident.ID, most int) (list []GuestOpening, err error) {
	return list, wrap("list openings", s.db.WithContext(ctx).Where("link_id = ?", link).Order("at DESC, id DESC").Limit(most).Find(&list).Error)
}
