package store

import (
	"cmp"
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
)

// spanSeconds is the length of a rollup.
type spanSeconds int

func (s spanSeconds) length() time.Duration { return time.Duration(s) * time.Second }

// rollupSpans are the lengths, each a multiple of the one before it: the first
// is made from readings, the others from the rollups before them.
var rollupSpans = []spanSeconds{600, 3600, 86400}

// RollupSpans are the lengths of the rollups that are kept.
func RollupSpans() []time.Duration {
	spans := make([]time.Duration, len(rollupSpans))
	for i, s := range rollupSpans {
		spans[i] = s.length()
	}
	return spans
}

type rollupRow struct {
	PathID      ident.ID
	SpanS       spanSeconds
	At          time.Time
	Readings    int
	Sent        int
	Answered    int
	Lost        int
	Refused     int
	RTTMinNs    sql.NullInt64 `gorm:"column:rtt_min_ns"`
	RTTMaxNs    sql.NullInt64 `gorm:"column:rtt_max_ns"`
	RTTSumNs    int64         `gorm:"column:rtt_sum_ns"`
	RTTMedianNs sql.NullInt64 `gorm:"column:rtt_median_ns"`
	RTTP95Ns    sql.NullInt64 `gorm:"column:rtt_p95_ns"`
	// Not known of those that were made before it was kept.
	MeasuredMs  sql.NullInt64
	AnsweringMs sql.NullInt64
	Sketch      []byte
}

func (rollupRow) TableName() string { return "rollups" }

type dueRow struct {
	SpanS  spanSeconds
	At     time.Time
	PathID ident.ID
}

func (dueRow) TableName() string { return "rollups_due" }

// sortDue orders rows by key, so that two writers lock them in one order.
func sortDue(rows []dueRow) {
	slices.SortFunc(rows, func(a, b dueRow) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		return slices.Compare(a.PathID[:], b.PathID[:])
	})
}

func rollupRowOf(path ident.ID, u reading.Rollup) (rollupRow, error) {
	sketch, err := u.Sketch.MarshalBinary()
	if err != nil {
		return rollupRow{}, err
	}
	row := rollupRow{PathID: path, SpanS: spanSeconds(u.Span / time.Second), At: u.At.UTC(), Readings: u.Readings, Sent: u.Sent,
		Answered: u.Answered, Lost: u.Lost, Refused: u.Refused, RTTSumNs: int64(u.Sum), MeasuredMs: sql.NullInt64{Int64: u.Measured.Milliseconds(), Valid: true}, AnsweringMs: sql.NullInt64{Int64: u.Answering.Milliseconds(), Valid: true}, Sketch: sketch}
	if median, ok := u.Quantile(0.5); ok {
		p95, _ := u.Quantile(0.95)
		row.RTTMinNs, row.RTTMaxNs = nanos(figure.Of(u.Min)), nanos(figure.Of(u.Max))
		row.RTTMedianNs, row.RTTP95Ns = nanos(figure.Of(median)), nanos(figure.Of(p95))
	}
	return row, nil
}

func (w rollupRow) rollup() (reading.Rollup, error) {
	u := reading.Rollup{At: w.At, Span: w.SpanS.length(), Readings: w.Readings, Sent: w.Sent, Answered: w.Answered, Lost: w.Lost,
		Refused: w.Refused, Min: time.Duration(w.RTTMinNs.Int64), Max: time.Duration(w.RTTMaxNs.Int64), Sum: time.Duration(w.RTTSumNs),
		Measured: time.Duration(w.MeasuredMs.Int64) * time.Millisecond, Answering: time.Duration(w.AnsweringMs.Int64) * time.Millisecond}
	return u, u.Sketch.UnmarshalBinary(w.Sketch)
}

// SaveRollups keeps rollups of a path, over those of the same time.
func (s *Store) SaveRollups(ctx context.Context, path ident.ID, rollups []reading.Rollup) error {
	rows := make([]rollupRow, len(rollups))
	for i, u := range rollups {
		var err error
		if rows[i], err = rollupRowOf(path, u); err != nil {
			return err
		}
	}
	return wrap("keep rollups", s.saveRollupRows(s.db.WithContext(ctx), rows))
}

func (s *Store) saveRollupRows(tx *gorm.DB, rows []rollupRow) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, batchRows).Error
}

// Slot is one point of a plot: a stretch of time and the figures over it.
type Slot struct {
	At       time.Time
	Span     time.Duration
	Sent     int
	Answered int
	Lost     int
	Min      figure.Duration
	Median   figure.Duration
	P95      figure.Duration
	Max      figure.Duration
	Approx   bool // the quantiles come from a sketch and are within 0.5 %
}

// Rollups are a path's rollups of one length, oldest first.
func (s *Store) Rollups(ctx context.Context, path ident.ID, span time.Duration, from, to time.Time) ([]Slot, error) {
	rows, err := s.query(ctx, "SELECT at, sent, answered, lost, rtt_min_ns, rtt_median_ns, rtt_p95_ns, rtt_max_ns FROM rollups WHERE path_id = ? AND span_s = ? AND at >= ? AND at < ? ORDER BY at",
		path[:], int(span/time.Second), from.UTC(), to.UTC())
	if err != nil {
		return nil, wrap("read rollups", err)
	}
	defer rows.Close()
	var slots []Slot
	for rows.Next() {
		row := rollupRow{SpanS: spanSeconds(span / time.Second)}
		if err := rows.Scan(&row.At, &row.Sent, &row.Answered, &row.Lost, &row.RTTMinNs, &row.RTTMedianNs, &row.RTTP95Ns, &row.RTTMaxNs); err != nil {
			return nil, wrap("read rollups", err)
		}
		slots = append(slots, row.slot())
	}
	return slots, wrap("read rollups", rows.Err())
}

// Sum is what was measured of a path over a stretch of time, with its mean.
type Sum struct {
	Path         ident.ID
	At           time.Time
	Sent, Lost   int
	Mean, Median time.Duration // of what was answered; 0 when it is not known
	Answered     int
}

// mostAsked is of how many paths a statement asks by name; of more, all are asked for.
const mostAsked = 500

// Sums are rollups of one length of many paths, oldest first.
func (s *Store) Sums(ctx context.Context, paths map[ident.ID]bool, span time.Duration, from, to time.Time) (list []Sum, err error) {
	query, args := "SELECT path_id, at, sent, answered, lost, rtt_sum_ns, rtt_median_ns FROM "+rollupsByPath, []any{from.UTC(), to.UTC(), int(span / time.Second)}
	if len(paths) <= mostAsked {
		if len(paths) == 0 {
			return nil, nil
		}
		query += " WHERE paths.id IN (?" + strings.Repeat(", ?", len(paths)-1) + ")"
		for id := range paths {
			args = append(args, id[:])
		}
	}
	rows, err := s.query(ctx, query, args...)
	if err != nil {
		return nil, wrap("read rollups", err)
	}
	defer rows.Close()
	for rows.Next() {
		var x Sum
		var sum int64
		var median sql.NullInt64
		if err := rows.Scan(&x.Path, &x.At, &x.Sent, &x.Answered, &x.Lost, &sum, &median); err != nil {
			return nil, wrap("read rollups", err)
		}
		if !paths[x.Path] {
			continue
		}
		if x.Median = time.Duration(median.Int64); x.Answered > 0 {
			x.Mean = time.Duration(sum / int64(x.Answered))
		}
		list = append(list, x)
	}
	slices.SortFunc(list, func(a, b Sum) int { return cmp.Or(a.At.Compare(b.At), slices.Compare(a.Path[:], b.Path[:])) })
	return list, wrap("read rollups", rows.Err())
}

// RollDue makes the rollups that are due and whose time is over by now, and
// calls each with those it made.
func (s *Store) RollDue(ctx context.Context, now time.Time, each func(path ident.ID, s Slot)) error {
	for i, span := range rollupSpans {
		for {
			var due []dueRow
			err := s.db.WithContext(ctx).Where("span_s = ? AND at <= ?", span, now.UTC().Add(-span.length())).Order("at").Limit(200).Find(&due).Error
			if err != nil || len(due) == 0 {
				if err != nil {
					return wrap("list due rollups", err)
				}
				break
			}
			for _, d := range due {
				slot, err := s.roll(ctx, i, d)
				if err != nil {
					return err
				}
				each(d.PathID, slot)
			}
		}
	}
	return nil
}

// roll makes one rollup anew from what it consists of.
func (s *Store) roll(ctx context.Context, level int, d dueRow) (slot Slot, err error) {
	err = s.transact(ctx, "make a rollup", func(tx *gorm.DB) error {
		whole := reading.Rollup{At: d.At, Span: d.SpanS.length()}
		end := d.At.Add(d.SpanS.length())
		timed, err := s.gather(tx, level, d, end, &whole)
		if err != nil {
			return err
		}
		row, err := rollupRowOf(d.PathID, whole)
		if err != nil {
			return err
		}
		row.MeasuredMs.Valid, row.AnsweringMs.Valid = timed, timed
		slot = row.slot()
		if err := s.saveRollupRows(tx, []rollupRow{row}); err != nil {
			return err
		}
		if level+1 < len(rollupSpans) {
			next := rollupSpans[level+1]
			above := dueRow{SpanS: next, At: d.At.Truncate(next.length()), PathID: d.PathID}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&above).Error; err != nil {
				return err
			}
		}
		return tx.Where("span_s = ? AND at = ? AND path_id = ?", d.SpanS, d.At, d.PathID).Delete(&dueRow{}).Error
	})
	return slot, err
}

func (w rollupRow) slot() Slot {
	return Slot{At: w.At, Span: w.SpanS.length(), Sent: w.Sent, Answered: w.Answered, Lost: w.Lost, Approx: w.SpanS != rollupSpans[0],
		Min: duration(w.RTTMinNs), Median: duration(w.RTTMedianNs), P95: duration(w.RTTP95Ns), Max: duration(w.RTTMaxNs)}
}

// gather sums up what a rollup consists of; timed tells whether it is known of all for how long it
// was measured.
func (s *Store) gather(tx *gorm.DB, level int, d dueRow, end time.Time, whole *reading.Rollup) (timed bool, err error) {
	timed = true
	if level > 0 {
		var parts []rollupRow
		if err := tx.Where("path_id = ? AND span_s = ? AND at >= ? AND at < ?", d.PathID, rollupSpans[level-1], d.At, end).Find(&parts).Error; err != nil {
			return false, err
		}
		for _, p := range parts {
			u, err := p.rollup()
			if err != nil {
				return false, err
			}
			whole.Merge(u)
			timed = timed && p.MeasuredMs.Valid
		}
		return timed, nil
	}
	var rows []readingRow
	if err := tx.Where("path_id = ? AND at >= ? AND at < ?", d.PathID, d.At, end).Order("at").Find(&rows).Error; err != nil {
		return false, err
	}
	for _, row := range rows {
		probes, err := reading.Unpack(row.At, row.Packed)
		if err != nil {
			s.log.Error("a reading's probes cannot be read", "path", d.PathID, "at", row.At, "error", err)
		}
		whole.Add(row.record().Reading, probes)
	}
	return true, nil
}
