package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// Sweep is a sweep as it is stored. Body is its report as JSON, packed; lists
// leave it out.
type Sweep struct {
	ID        ident.ID `gorm:"primaryKey"`
	WatchID   ident.ID
	AgentID   ident.ID
	Scope     []byte
	Prefixes  string
	StartedAt time.Time
	EndedAt   *time.Time
	Outcome   protocol.Outcome
	Reason    string
	Addresses uint64
	Answered  uint64
	Body      []byte
}

// Report reads what the sweep found; nil when there is nothing.
func (s Sweep) Report() (*sweep.Report, error) {
	if len(s.Body) == 0 {
		return nil, nil
	}
	var r sweep.Report
	if err := unpack(s.Body, &r); err != nil {
		return nil, fmt.Errorf("read sweep %s: %w", s.ID, err)
	}
	return &r, nil
}

// SweepOf is what is stored of a sweep of an agent.
func SweepOf(agent ident.ID, p protocol.Sweep) (Sweep, error) {
	s := Sweep{ID: p.ID, WatchID: p.Watch, AgentID: agent, Scope: p.Scope[:], StartedAt: p.Started.UTC(), Outcome: p.Outcome, Reason: clip(p.Reason, 500)}
	if !p.Ended.IsZero() {
		ended := p.Ended.UTC()
		s.EndedAt = &ended
	}
	if p.Report == nil {
		if p.Entries == nil {
			return s, nil
		}
		entries, err := json.Marshal(p.Entries)
		s.Prefixes, s.Addresses = string(entries), uint64(p.Size)
		return s, err
	}
	s.Addresses, s.Answered = p.Report.Addresses, p.Report.Answered
	prefixes, err := json.Marshal(p.Report.Prefixes)
	if err != nil {
		return s, err
	}
	s.Prefixes = string(prefixes)
	s.Body, err = pack(p.Report)
	return s, err
}

// saveSweeps keeps sweeps, over those that were going on.
func saveSweeps(tx *gorm.DB, list []Sweep) error {
	for _, s := range list {
		columns := []string{"ended_at", "reason", "addresses", "answered", "body", "scope", "outcome"}
		if s.Prefixes != "" {
			columns = append([]string{"prefixes"}, columns...)
		}
		if err := tx.Clauses(clause.OnConflict{DoUpdates: untilDone(columns...)}).Create(&s).Error; err != nil {
			return err
		}
	}
	return nil
}

// BeginSweep notes a sweep that is going on.
func (s *Store) BeginSweep(ctx context.Context, x Sweep) error {
	return s.transact(ctx, "note a sweep", func(tx *gorm.DB) error {
		return tx.Create(&x).Error
	})
}

const withoutBody = "id, watch_id, agent_id, scope, prefixes, started_at, ended_at, outcome, reason, addresses, answered"

// Sweeps are sweeps, newest first, without their bodies; of one watch, or of all
// when that is none.
func (s *Store) Sweeps(ctx context.Context, watches []ident.ID, within *Within, p Page) ([]Sweep, error) {
	q := s.db.WithContext(ctx).Select(withoutBody).Order("started_at DESC, id DESC").Limit(p.limit())
	if len(watches) > 0 {
		q = q.Where("watch_id IN ?", watches)
	}
	q = p.older(within.on(q, false, "agent_id"))
	var list []Sweep
	return list, wrap("list sweeps", q.Find(&list).Error)
}

// Sweep is one sweep with its body.
func (s *Store) Sweep(ctx context.Context, id ident.ID) (Sweep, error) {
	var x Sweep
	return x, wrap("find sweep "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).Take(&x).Error)
}

// SweepBefore is the last whole sweep of the same addresses by the same agent
// before a time, with its body; false when there is none.
func (s *Store) SweepBefore(ctx context.Context, agent ident.ID, scope [32]byte, t time.Time) (Sweep, bool, error) {
	var x Sweep
	err := s.db.WithContext(ctx).Where("agent_id = ? AND scope = ? AND started_at < ? AND outcome = ?", agent, scope[:], t.UTC(), protocol.Done).
		Order("started_at DESC").Take(&x).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return x, false, nil
	}
	return x, err == nil, wrap("find the sweep before", err)
}
