package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// TwoEnded is a measurement with two ends: a stream or a bandwidth test. Body is its
// report as JSON, packed; lists leave it out.
type TwoEnded struct {
	ID        ident.ID `gorm:"primaryKey"`
	WatchID   ident.ID
	AgentID   ident.ID // the near end
	FarID     ident.ID // the far end; none for a responder without a service
	Target    string
	Kind      string
	StartedAt time.Time
	EndedAt   *time.Time
	Outcome   protocol.Outcome
	Reason    string
	ThereBps  *float64
	BackBps   *float64
	MOS       *float64 `gorm:"column:mos"`
	SentBytes int64
	Body      []byte
}

// TableName of the records.
func (TwoEnded) TableName() string { return "two_ended" }

// Report is the report as JSON; nil when there is none.
func (t TwoEnded) Report() (json.RawMessage, error) {
	if len(t.Body) == 0 {
		return nil, nil
	}
	var raw json.RawMessage
	return raw, wrap("read "+t.Kind+" "+t.ID.String(), unpack(t.Body, &raw))
}

// TwoEndedOf is what is stored of one that was made or is going on.
func TwoEndedOf(agent ident.ID, p protocol.TwoEnded) (TwoEnded, error) {
	t := TwoEnded{ID: p.ID, WatchID: p.Watch, AgentID: agent, FarID: p.Far, Target: p.Target, Kind: p.Kind, StartedAt: p.Started.UTC(), Outcome: p.Outcome, Reason: clip(p.Reason, 500),
		ThereBps: p.ThereBps, BackBps: p.BackBps, MOS: p.MOS, SentBytes: p.SentBytes}
	if !p.Ended.IsZero() {
		ended := p.Ended.UTC()
		t.EndedAt = &ended
	}
	if p.Report == nil {
		return t, nil
	}
	var err error
	t.Body, err = pack(p.Report)
	return t, err
}

// SaveTwoEnded keeps one over what was there of it.
func (s *Store) SaveTwoEnded(ctx context.Context, t TwoEnded) error {
	return wrap("keep a measurement", saveTwoEnded(s.db.WithContext(ctx), t))
}

func saveTwoEnded(tx *gorm.DB, t TwoEnded) error {
	return tx.Clauses(clause.OnConflict{DoUpdates: untilDone("started_at", "ended_at", "reason", "there_bps", "back_bps", "mos", "sent_bytes", "body", "outcome")}).Create(&t).Error
}

// TwoEndedFilter chooses; what is empty does not matter.
type TwoEndedFilter struct {
	Agent        ident.ID
	Target, Kind string
	Kinds        []string
	From         time.Time
	Within       *Within // nil: everywhere
	Page         Page
}

const twoEndedWithoutBody = "id, watch_id, agent_id, far_id, target, kind, started_at, ended_at, outcome, reason, there_bps, back_bps, mos, sent_bytes"

// TwoEndedList are measurements, newest first, without their bodies.
func (s *Store) TwoEndedList(ctx context.Context, f TwoEndedFilter) ([]TwoEnded, error) {
	q := f.Within.on(s.db.WithContext(ctx).Select(twoEndedWithoutBody), true, "agent_id", "far_id")
	if !f.Agent.IsZero() {
		q = q.Where("agent_id = ?", f.Agent)
	}
	if f.Target != "" {
		q = q.Where("target = ?", f.Target)
	}
	if f.Kind != "" {
		q = q.Where("kind = ?", f.Kind)
	}
	if len(f.Kinds) > 0 {
		q = q.Where("kind IN ?", f.Kinds)
	}
	if !f.From.IsZero() {
		q = q.Where("started_at >= ?", f.From.UTC())
	}
	q = f.Page.older(q)
	var list []TwoEnded
	return list, wrap("list measurements", q.Order("started_at DESC, id DESC").Limit(f.Page.limit()).Find(&list).Error)
}

// TwoEndedByID is one with its body.
func (s *Store) TwoEndedByID(ctx context.Context, id ident.ID) (TwoEnded, error) {
	var t TwoEnded
	return t, wrap("find measurement "+id.String(), s.db.WithContext(ctx).Where("id = ?", id).Take(&t).Error)
}

// LoadsBeside are the runs of kinds that fill a path that one of some agents, near or far, took part in within a
// stretch of time, oldest first, without their bodies: those that failed only when they
// had sent something.
func (s *Store) LoadsBeside(ctx context.Context, kinds []string, agents []ident.ID, from, to time.Time) ([]TwoEnded, error) {
	var list []TwoEnded
	err := s.db.WithContext(ctx).Select(twoEndedWithoutBody).
		Where("kind IN ? AND (outcome <> ? OR sent_bytes > 0 OR reason = ?) AND (agent_id IN ? OR far_id IN ?) AND started_at < ? AND (ended_at > ? OR ended_at IS NULL AND outcome = ?)",
			kinds, protocol.Failed, CutOff, agents, agents, to.UTC(), from.UTC(), protocol.Running).
		Order("started_at").Limit(mostLoads).Find(&list).Error
	return list, wrap("list load runs", err)
}

// mostLoads is how many load runs are listed at most.
const mostLoads = 2000

// SentSince is how many bytes the load runs of an agent, near or far, sent since a time.
func (s *Store) SentSince(ctx context.Context, agent ident.ID, since time.Time) (int64, error) {
	var sum *int64
	err := s.db.WithContext(ctx).Model(&TwoEnded{}).Where("(agent_id = ? OR far_id = ?) AND started_at >= ?", agent, agent, since.UTC()).Select("SUM(sent_bytes)").Scan(&sum).Error
	if sum == nil {
		return 0, wrap("sum what was sent", err)
	}
	return *sum, wrap("sum what was sent", err)
}
