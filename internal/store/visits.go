package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Visit is what a browser measured that came by a guest link. Body is all of it, packed; lists
// leave it out.
type Visit struct {
	ID        ident.ID `gorm:"primaryKey"`
	LinkID    ident.ID
	Title     string // of the link
	StartedAt time.Time
	EndedAt   time.Time
	Address   string
	Outcome   string // done or left
	Need      string
	Seats     int
	Answer    string // see readiness.Answer; empty where the visitor went away
	Sentence  string
	Words     string // the visitor's own
	Body      []byte
}

const visitWithoutBody = "id, link_id, title, started_at, ended_at, address, outcome, need, seats, answer, sentence, words"

// SaveVisit keeps a visit and what was found.
func (s *Store) SaveVisit(ctx context.Context, v Visit, found json.RawMessage) (err error) {
	if v.Body, err = pack(found); err != nil {
		return err
	}
	v.Title, v.Address, v.Need, v.Sentence, v.Words = clip(v.Title, 200), clip(v.Address, 64), clip(v.Need, 100), clip(v.Sentence, 1000), clip(v.Words, 2000)
	return s.transact(ctx, "keep a visit", func(tx *gorm.DB) error { return tx.Create(&v).Error })
}

// Visits are visits, newest first, without what was found.
func (s *Store) Visits(ctx context.Context, p Page) (list []Visit, err error) {
	q := p.older(s.db.WithContext(ctx)).Select(visitWithoutBody).Order("started_at DESC, id DESC").Limit(p.limit())
	return list, wrap("list visits", q.Find(&list).Error)
}

// Visit is one of them, and what was found; the error wraps ErrNotFound.
func (s *Store) Visit(ctx context.Context, id ident.ID) (v Visit, found json.RawMessage, err error) {
	if err := s.db.WithContext(ctx).Where("id = ?", id).Take(&v).Error; err != nil {
		return v, nil, wrap("find visit "+id.String(), err)
	}
	return v, found, wrap("read visit "+id.String(), unpack(v.Body, &found))
}
