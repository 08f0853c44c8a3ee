package store

import (
	"context"
	"math"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/ident"
)

// Figure is a figure of a path that other measurements than its own readings gave: one-way
// delay, voice quality, throughput.
type Figure struct {
	PathID  ident.ID  `gorm:"primaryKey"`
	At      time.Time `gorm:"primaryKey"`
	Measure string    `gorm:"primaryKey"` // see baseline.Measure
	SpanMs  int64
	Value   float64
	Sent    int // packets that a ratio rests on
}

// FiguresOf are the figures of points.
func FiguresOf(path ident.ID, points ...baseline.Point) (list []Figure) {
	for _, p := range points {
		for _, m := range baseline.Measures() {
			if v, ok := p.Value(m); ok && m != baseline.Loss {
				list = append(list, Figure{PathID: path, At: p.At.UTC(), Measure: m.String(), SpanMs: p.Span.Milliseconds(), Value: v, Sent: packetsOf(p, m)})
			}
		}
	}
	return list
}

// packetsOf are the packets that a ratio rests on.
func packetsOf(p baseline.Point, m baseline.Measure) int {
	if !m.Counted() {
		return 0
	}
	_, of := p.Counts(m)
	return of
}

// SaveFigures keeps figures; what is kept already stays.
func (s *Store) SaveFigures(ctx context.Context, list []Figure) error {
	if len(list) == 0 {
		return nil
	}
	return s.transact(ctx, "keep figures", func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(list, batchRows).Error
	})
}

// figures are those of a path as points, oldest first.
func (s *Store) figures(ctx context.Context, path ident.ID, from, to time.Time) (list []baseline.Point, err error) {
	var rows []Figure
	if err := s.db.WithContext(ctx).Where("path_id = ? AND at >= ? AND at < ?", path, from.UTC(), to.UTC()).Order("at").Find(&rows).Error; err != nil {
		return nil, wrap("read figures", err)
	}
	for _, r := range rows {
		var m baseline.Measure
		if m.UnmarshalText([]byte(r.Measure)) != nil {
			continue // of a later version
		}
		p := baseline.Point{At: r.At, Span: time.Duration(r.SpanMs) * time.Millisecond}
		if n := len(list); n == 0 || !list[n-1].At.Equal(r.At) {
			list = append(list, p)
		}
		last := &list[len(list)-1]
		if m.Counted() {
			last.SetLost(m, int(math.Round(r.Value*float64(r.Sent))), r.Sent)
		} else {
			last.Set(m, r.Value)
		}
	}
	return list, nil
}

// FiguresOfPath are the figures of a path in a stretch of time, in the order of time.
func (s *Store) FiguresOfPath(ctx context.Context, path ident.ID, from, to time.Time) (list []Figure, err error) {
	return list, wrap("list figures", s.db.WithContext(ctx).Where("path_id = ? AND at >= ? AND at < ?", path, from.UTC(), to.UTC()).Order("at, measure").Find(&list).Error)
}
