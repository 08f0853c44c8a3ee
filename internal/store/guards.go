package store

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// Guard is what has to be kept of how a path is guarded, beside its readings and its baseline.
// State is JSON.
type Guard struct {
	PathID    ident.ID `gorm:"primaryKey"`
	State     string
	UpdatedAt time.Time
}

// SaveGuards keeps how paths are guarded.
func (s *Store) SaveGuards(ctx context.Context, list []Guard) error {
	return wrap("keep how paths are guarded", saveGuards(s.db.WithContext(ctx), list))
}

func saveGuards(tx *gorm.DB, list []Guard) error {
	if len(list) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 20).Error
}

// Guards are how all paths are guarded.
func (s *Store) Guards(ctx context.Context) (map[ident.ID]Guard, error) {
	var list []Guard
	if err := s.db.WithContext(ctx).Find(&list).Error; err != nil {
		return nil, wrap("read how paths are guarded", err)
	}
	by := make(map[ident.ID]Guard, len(list))
	for _, g := range list {
		by[g.PathID] = g
	}
	return by, nil
}

const pointColumns = "at, span_ms, sent, answered, lost, rtt_median_ns, jitter_ns"

// pointOf is what is judged of a reading, of a row of pointColumns.
func pointOf(rows *sql.Rows) (p baseline.Point, err error) {
	var span int64
	var median, jitter sql.NullInt64
	if err := rows.Scan(&p.At, &span, &p.Sent, &p.Answered, &p.Lost, &median, &jitter); err != nil {
		return p, err
	}
	p.Span = time.Duration(span) * time.Millisecond
	if v, ok := duration(median).Get(); ok {
		p.Set(baseline.RTT, figure.Millis(v))
	}
	if v, ok := duration(jitter).Get(); ok {
		p.Set(baseline.Jitter, figure.Millis(v))
	}
	return p, nil
}

// lately is where most paths have as many readings as are asked for. Only where that is not so all
// days are looked through: each has a file of its own.
const lately = 48 * time.Hour

// LastPoints are what is judged of the newest n readings of a path that watches made, oldest first.
func (s *Store) LastPoints(ctx context.Context, path ident.ID, n int, until time.Time) (points []baseline.Point, err error) {
	for _, since := range []time.Time{until.Add(-lately), time.Unix(-1, 0)} {
		if points, err = s.lastPoints(ctx, path, n, since, until); err != nil || len(points) == n {
			break
		}
	}
	slices.Reverse(points)
	return points, wrap("read the last readings", err)
}

func (s *Store) lastPoints(ctx context.Context, path ident.ID, n int, since, until time.Time) (points []baseline.Point, err error) {
	rows, err := s.query(ctx, "SELECT "+pointColumns+" FROM readings WHERE path_id = ? AND at > ? AND at <= ? AND flags & ? = 0 ORDER BY at DESC LIMIT ?", path[:], since.UTC(), until.UTC(), protocol.NotJudged, n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		p, err := pointOf(rows)
		if err != nil {
			return nil, err
		}
		points = append(points, p)
	}
	return points, rows.Err()
}

// History is what of a path's readings is learnt from.
func (s *Store) History(ctx context.Context, path ident.ID, from, to time.Time) (*baseline.History, error) {
	beside, err := s.figures(ctx, path, from, to)
	if err != nil {
		return nil, err
	}
	rows, err := s.query(ctx, "SELECT "+pointColumns+" FROM readings WHERE path_id = ? AND at >= ? AND at < ? AND flags & ? = 0 ORDER BY at",
		path[:], from.UTC(), to.UTC(), protocol.NotJudged)
	if err != nil {
		return nil, wrap("read what is learnt from", err)
	}
	defer rows.Close()
	h := &baseline.History{}
	for rows.Next() {
		p, err := pointOf(rows)
		if err != nil {
			return nil, wrap("read what is learnt from", err)
		}
		for len(beside) > 0 && beside[0].At.Before(p.At) {
			h.Add(beside[0])
			beside = beside[1:]
		}
		h.Add(p)
	}
	for _, p := range beside {
		h.Add(p)
	}
	return h, wrap("read what is learnt from", rows.Err())
}
