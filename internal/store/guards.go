package store

import (
	"context"
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

// History is what of a path's readings is learnt from.
func (s *Store) History(ctx context.Context, path ident.ID, from, to time.Time) (*baseline.History, error) {
	beside, err := s.figures(ctx, path, from, to)
	if err != nil {
		return nil, err
	}
	rows, err := s.query(ctx, "SELECT at, span_ms, sent, answered, lost, rtt_median_ns, jitter_ns FROM readings WHERE path_id = ? AND at >= ? AND at < ? AND flags & ? = 0 ORDER BY at",
		path[:], from.UTC(), to.UTC(), protocol.NotJudged)
	if err != nil {
		return nil, wrap("read what is learnt from", err)
	}
	defer rows.Close()
	h := &baseline.History{}
	for rows.Next() {
		var p baseline.Point
		var span int64
		var row readingRow
		if err := rows.Scan(&p.At, &span, &p.Sent, &p.Answered, &p.Lost, &row.RTTMedianNs, &row.JitterNs); err != nil {
			return nil, wrap("read what is learnt from", err)
		}
		p.Span = time.Duration(span) * time.Millisecond
		if v, ok := duration(row.RTTMedianNs).Get(); ok {
			p.Set(baseline.RTT, figure.Millis(v))
		}
		if v, ok := duration(row.JitterNs).Get(); ok {
			p.Set(baseline.Jitter, figure.Millis(v))
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
