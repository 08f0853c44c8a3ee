package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// dropAtOnce is how many rows one statement removes: more would hold up who writes.
const dropAtOnce = 5000

// dropRows removes rows, some at a time, until none is left that the condition names.
func (s *Store) dropRows(ctx context.Context, what string, record any, condition string, args ...any) error {
	for {
		var gone int64
		err := s.transact(ctx, "remove old "+what, func(tx *gorm.DB) error {
			r := tx.Session(&gorm.Session{}).Where(condition, args...).Limit(dropAtOnce).Delete(record)
			gone = r.RowsAffected
			return r.Error
		})
		if err != nil || gone < dropAtOnce {
			return err
		}
	}
}

// longest is how long what is small and tells of the past is kept, where readings go
// sooner: episodes, changes, and rollups of hours and days.
const longest = 400 * 24 * time.Hour

// DropOld removes all that is from before a time; what is small only from a longer time
// back. Invites go a month after their end.
func (s *Store) DropOld(ctx context.Context, now, before time.Time) error {
	before = before.UTC()
	long := earlier(before, now.UTC().Add(-longest))
	_, err := s.DropBefore(ctx, before)
	return errors.Join(err,
		s.dropRows(ctx, "runs", &Run{}, "started_at < ?", before),
		s.dropRows(ctx, "notices", &Notice{}, "at < ?", before),
		s.dropRows(ctx, "sweeps", &Sweep{}, "started_at < ?", before),
		s.dropRows(ctx, "traces", &Trace{}, "started_at < ?", before),
		s.dropRows(ctx, "hops", &HopMinute{}, "at < ?", before),
		s.dropRows(ctx, "routes", &Route{}, "last_at < ?", before),
		s.dropRows(ctx, "measurements", &TwoEnded{}, "started_at < ?", before),
		s.dropRows(ctx, "invites", &Invite{}, "ends_at < ?", now.UTC().AddDate(0, -1, 0)),
		s.dropRows(ctx, "episodes", &Episode{}, "to_at < ?", long),
		s.dropRows(ctx, "figures", &Figure{}, "at < ?", before),
		s.dropRows(ctx, "incidents", &Incident{}, "to_at < ?", long),
		s.dropRows(ctx, "changes", &Change{}, "at < ?", long),
		s.dropRows(ctx, "evidence", &Evidence{}, "at < ?", long),
		s.dropRows(ctx, "messages", &Message{}, "at < ? AND state <> ?", long, Waiting),
		s.dropRows(ctx, "guest links", &GuestLink{}, "ends_at < ?", long),
		s.dropRows(ctx, "visits", &Visit{}, "started_at < ?", long),
		s.dropRows(ctx, "one-time links", &Welcome{}, "ends_at < ?", now.UTC()),
		s.dropRows(ctx, "sign-ins", &SignIn{}, "ends_at < ?", now.UTC()),
		s.dropRows(ctx, "tokens", &PersonToken{}, "ends_at < ?", long),
		s.dropRows(ctx, "tokens", &PersonToken{}, "ended_at < ?", long),
		s.dropRows(ctx, "services", &shownService{}, "seen_at < ?", now.UTC().AddDate(0, -1, 0)),
		s.dropRows(ctx, "openings", &GuestOpening{}, "at < ?", long),
		s.dropRows(ctx, "annotations", &Annotation{}, "COALESCE(until, at) < ?", long),
		s.dropRows(ctx, "conversations", &Conversation{}, "ended_at < ?", before),
		s.dropRows(ctx, "rollups", &rollupRow{}, "span_s = ? AND at < ?", rollupSpans[0], before),
		s.dropRows(ctx, "rollups", &rollupRow{}, "at < ?", long))
}

// Change is a line of the record of who changed what.
type Change struct {
	ID     ident.ID `gorm:"primaryKey"`
	At     time.Time
	Who    string
	What   string // such as watch_removed
	Name   string // of what was changed
	Detail string // JSON: what it was, and what it is
}

// mostDetail is how long a detail may be: the longest watch twice is less.
const mostDetail = 16_000_000

// NoteChange keeps a line of the record, of now where it says no time. The error wraps ErrTaken when one
// of its identifier is there.
func (s *Store) NoteChange(ctx context.Context, c Change) error {
	if c.ID.IsZero() {
		c.ID, c.At = ident.New(), time.Now().UTC()
	}
	c.Who, c.What, c.Name, c.Detail = clip(c.Who, 120), clip(c.What, 40), clip(c.Name, 253), clip(c.Detail, mostDetail)
	return s.transact(ctx, "note a change", func(tx *gorm.DB) error {
		return tx.Create(&c).Error
	})
}

// Changed is which lines of the record are asked for; the zero value is all.
type Changed struct {
	Who   string // a name, from wherever
	What  string
	Since time.Time
}

// Changes are lines of the record, newest first.
func (s *Store) Changes(ctx context.Context, of Changed, p Page) ([]Change, error) {
	var list []Change
	q := p.olderBy(s.db.WithContext(ctx), "at").Order("at DESC, id DESC").Limit(p.limit())
	if of.Who != "" {
		q = q.Where("(who = ? OR LEFT(who, CHAR_LENGTH(?)) = ?)", of.Who, of.Who+" from ", of.Who+" from ")
	}
	if of.What != "" {
		q = q.Where("what = ?", of.What)
	}
	if !of.Since.IsZero() {
		q = q.Where("at >= ?", of.Since.UTC())
	}
	return list, wrap("list changes", q.Find(&list).Error)
}
