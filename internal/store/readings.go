package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

const batchRows = 500

// rowsOf are readings as they are kept, and the rollups that are due then.
func rowsOf(records []protocol.Record) (rows []readingRow, list []dueRow) {
	rows = make([]readingRow, len(records))
	due := map[dueRow]struct{}{}
	for i, r := range records {
		rows[i] = rowOf(r)
		due[dueRow{SpanS: rollupSpans[0], At: rows[i].At.Truncate(rollupSpans[0].length()), PathID: r.Path}] = struct{}{}
	}
	list = make([]dueRow, 0, len(due))
	for d := range due {
		list = append(list, d)
	}
	sortDue(list)
	return rows, list
}

// SaveUpload keeps readings and runs, all or none. What is there already stays
// as it is, so an upload may come twice.
func (s *Store) SaveUpload(ctx context.Context, u protocol.Upload) error {
	if err := s.coverDays(ctx, u.Readings); err != nil {
		return err
	}
	rows, dueRows := rowsOf(u.Readings)
	runs, err := runsOf(u)
	if err != nil {
		return fmt.Errorf("keep a run: %w", err)
	}
	sweeps := make([]Sweep, len(u.Sweeps))
	for i, x := range u.Sweeps {
		if sweeps[i], err = SweepOf(u.Agent, x); err != nil {
			return fmt.Errorf("keep a sweep: %w", err)
		}
	}
	return s.transactAgain(ctx, "keep readings", func(tx *gorm.DB) error {
		if err := ownRecords(tx, u, runs); err != nil {
			return err
		}
		if err := saveSweeps(tx, sweeps); err != nil {
			return err
		}
		if err := saveTraces(tx, u.Agent, u.Traces); err != nil {
			return err
		}
		keep := tx.Clauses(clause.OnConflict{DoNothing: true})
		if len(rows) > 0 {
			if err := keep.CreateInBatches(rows, batchRows).Error; err != nil {
				return err
			}
			if err := saveDue(tx, dueRows); err != nil {
				return err
			}
		}
		for _, x := range u.TwoEnded {
			row, err := TwoEndedOf(u.Agent, x)
			if err == nil {
				err = saveTwoEnded(tx, row)
			}
			if err != nil {
				return err
			}
		}
		return saveRuns(tx, runs)
	})
}

// runsOf are the runs of an upload. What has a table of its own has its body there.
func runsOf(u protocol.Upload) ([]Run, error) {
	elsewhere := map[ident.ID]bool{}
	for _, x := range u.Sweeps {
		elsewhere[x.ID] = true
	}
	for _, x := range u.Traces {
		elsewhere[x.ID] = true
	}
	for _, x := range u.TwoEnded {
		elsewhere[x.ID] = true
	}
	runs := make([]Run, 0, len(u.Runs)+len(u.Made))
	for _, r := range u.Runs {
		m := protocol.Made{Run: r.ID, Watch: r.Watch, Path: r.Path, Kind: r.Kind, Version: 1, Lane: r.Lane, Started: r.Started, Ended: r.Ended, Address: r.Address, Outcome: r.Outcome, Reason: r.Reason}
		row, err := RunOf(u.Agent, m, false)
		if err != nil {
			return nil, err
		}
		runs = append(runs, row)
	}
	for _, m := range u.Made {
		row, err := RunOf(u.Agent, m, !elsewhere[m.Run] || m.Whole)
		if err != nil {
			return nil, err
		}
		runs = append(runs, row)
	}
	return runs, nil
}

// untilDone replaces columns of what is there, unless that is done: an agent that was killed
// behind the end of a run may not know any more that it told of it. The outcome, by which
// that is told, comes last: each is set by those before it.
func untilDone(columns ...string) (set clause.Set) {
	for _, c := range columns {
		set = append(set, clause.Assignment{Column: clause.Column{Name: c}, Value: gorm.Expr("IF(outcome = ?, "+c+", VALUES("+c+"))", protocol.Done)})
	}
	return set
}

// ImportReadings keeps readings with their rollups already made: for history.
func (s *Store) ImportReadings(ctx context.Context, records []protocol.Record) error {
	if err := s.coverDays(ctx, records); err != nil {
		return err
	}
	rows := make([]readingRow, len(records))
	for i, r := range records {
		rows[i] = rowOf(r)
	}
	return s.transact(ctx, "import readings", func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, batchRows).Error
	})
}

// saveDue notes which rollups are to be made.
func saveDue(tx *gorm.DB, due []dueRow) error {
	if len(due) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(due, batchRows).Error
}

// TakeReadings keeps readings of elsewhere, and has rollups made of them. What is there already
// stays as it is; taken is how many were not.
func (s *Store) TakeReadings(ctx context.Context, records []protocol.Record) (taken int, err error) {
	if err := s.coverDays(ctx, records); err != nil {
		return 0, err
	}
	rows, due := rowsOf(records)
	err = s.transact(ctx, "take readings in", func(tx *gorm.DB) error {
		taken = 0
		for some := range slices.Chunk(rows, batchRows) {
			made := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(some)
			if made.Error != nil {
				return made.Error
			}
			taken += int(made.RowsAffected)
		}
		return saveDue(tx, due)
	})
	return taken, err
}

// Page cuts a long list: at most Limit records that come after After (before
// it, where the newest come first). Limit 0 is 1,000.
type Page struct {
	Limit int
	After time.Time
	// AfterID is the identifier of the record at After that the page before ended with:
	// records may share a time. Without it those of that time are left out.
	AfterID ident.ID
}

// older limits a query of records, newest first by started_at and id, to those that come
// behind the page before.
func (p Page) older(q *gorm.DB) *gorm.DB { return p.olderBy(q, "started_at") }

// olderBy is older for records whose time has another name.
func (p Page) olderBy(q *gorm.DB, column string) *gorm.DB {
	at := p.After.UTC()
	switch {
	case p.After.IsZero():
		return q
	case p.AfterID.IsZero():
		return q.Where(column+" < ?", at)
	}
	return q.Where("("+column+" < ? OR "+column+" = ? AND id < ?)", at, at, p.AfterID)
}

func (p Page) limit() int {
	if p.Limit <= 0 {
		return 1000
	}
	return p.Limit
}

const readingColumns = "path_id, at, run_id, span_ms, expected, sent, answered, lost, late, refused, unsent, duplicates, late_sent, " +
	"rtt_min_ns, rtt_mean_ns, rtt_median_ns, rtt_p95_ns, rtt_p99_ns, rtt_max_ns, rtt_sd_ns, jitter_ns, jitter_rfc3550_ns, stamp, flags, cause"

// Readings are a path's readings from a time (inclusive) to another
// (exclusive), oldest first, without their probes unless packed is asked for.
func (s *Store) Readings(ctx context.Context, path ident.ID, from, to time.Time, limit int, packed bool) ([]protocol.Record, error) {
	q := s.db.WithContext(ctx).Where("path_id = ? AND at >= ? AND at < ?", path, from.UTC(), to.UTC()).Order("at")
	if !packed {
		q = q.Select(readingColumns)
	}
	if limit > 0 {
		q = q.Limit(limit)
	}
	var rows []readingRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, wrap("read readings", err)
	}
	return recordsOf(rows), nil
}

// LastReadings are the newest n readings of a path that watches made, oldest
// first.
// until is the latest time that they may have: a reading of the future was made
// by a wrong clock.
func (s *Store) LastReadings(ctx context.Context, path ident.ID, n int, until time.Time) ([]protocol.Record, error) {
	for _, since := range []time.Time{until.Add(-lately), {}} {
		var rows []readingRow
		q := s.db.WithContext(ctx).Select(readingColumns).Where("path_id = ? AND at <= ? AND flags & ? = 0", path, until.UTC(), protocol.NotJudged)
		if !since.IsZero() {
			q = q.Where("at > ?", since.UTC())
		}
		if err := q.Order("at DESC").Limit(n).Find(&rows).Error; err != nil {
			return nil, wrap("read the last readings", err)
		}
		if len(rows) < n && !since.IsZero() {
			continue
		}
		slices.Reverse(rows)
		return recordsOf(rows), nil
	}
	return nil, nil
}

// ReadingsOfRun are the readings of one run, with their probes.
func (s *Store) ReadingsOfRun(ctx context.Context, r Run) ([]protocol.Record, error) {
	var rows []readingRow
	q := s.db.WithContext(ctx).Where("path_id = ? AND at >= ? AND run_id = ?", r.PathID, r.StartedAt.Add(-time.Second), r.ID)
	if err := q.Order("at").Find(&rows).Error; err != nil {
		return nil, wrap("read the readings of a run", err)
	}
	return recordsOf(rows), nil
}

func recordsOf(rows []readingRow) []protocol.Record {
	records := make([]protocol.Record, len(rows))
	for i, row := range rows {
		records[i] = row.record()
	}
	return records
}

// Answered reports whether a path has ever answered.
func (s *Store) Answered(ctx context.Context, path ident.ID) (bool, error) {
	var one []int
	err := s.db.WithContext(ctx).Raw("SELECT 1 FROM readings WHERE path_id = ? AND answered > 0 LIMIT 1", path).Scan(&one).Error
	return len(one) > 0, wrap("ask whether a path ever answered", err)
}

// Bounds are the times of a path's first and last reading; zero when there is
// none.
func (s *Store) Bounds(ctx context.Context, path ident.ID) (first, last time.Time, err error) {
	var rows []readingRow
	q := s.db.WithContext(ctx).Select("at").Where("path_id = ?", path)
	if err := q.Session(&gorm.Session{}).Order("at").Limit(1).Find(&rows).Error; err != nil || len(rows) == 0 {
		return first, last, wrap("read the first reading", err)
	}
	first = rows[0].At
	rows = nil
	if err := q.Session(&gorm.Session{}).Order("at DESC").Limit(1).Find(&rows).Error; err != nil || len(rows) == 0 {
		return first, last, wrap("read the last reading", err)
	}
	return first, rows[0].At, nil
}

// coverDays makes the partitions for the days of readings.
func (s *Store) coverDays(ctx context.Context, records []protocol.Record) error {
	if len(records) == 0 {
		return nil
	}
	first, last := records[0].Reading.At, records[0].Reading.At
	for _, r := range records {
		if r.Reading.At.Before(first) {
			first = r.Reading.At
		}
		if r.Reading.At.After(last) {
			last = r.Reading.At
		}
	}
	return s.CoverDays(ctx, first, last.Add(24*time.Hour))
}

// ownRecords refuses to write over records that are another agent's.
func ownRecords(tx *gorm.DB, u protocol.Upload, runs []Run) error {
	if len(runs) > 0 {
		own := make(map[ident.ID]Run, len(runs))
		ids := make([]ident.ID, len(runs))
		for i, r := range runs {
			ids[i], own[r.ID] = r.ID, r
		}
		var there []Run
		if err := tx.Select("id, kind, path_id, agent_id").Where("id IN ?", ids).Find(&there).Error; err != nil {
			return err
		}
		for _, r := range there {
			switch o := own[r.ID]; {
			case o.PathID != r.PathID:
				return fmt.Errorf("%w: run %s is of another path", ErrUnfit, r.ID)
			case !r.AgentID.IsZero() && o.AgentID != r.AgentID:
				return fmt.Errorf("%w: run %s is another agent's", ErrUnfit, r.ID)
			case o.Kind != r.Kind:
				return fmt.Errorf("%w: run %s is a %s", ErrUnfit, r.ID, r.Kind)
			}
		}
	}
	sweeps, traces, ends := make([]ident.ID, len(u.Sweeps)), make([]ident.ID, len(u.Traces)), make([]ident.ID, len(u.TwoEnded))
	for i, x := range u.TwoEnded {
		ends[i] = x.ID
	}
	for i, x := range u.Sweeps {
		sweeps[i] = x.ID
	}
	for i, x := range u.Traces {
		traces[i] = x.ID
	}
	for what, ids := range map[string][]ident.ID{"sweeps": sweeps, "traces": traces, "two_ended": ends} {
		if len(ids) == 0 {
			continue
		}
		var others int64
		if err := tx.Table(what).Where("id IN ? AND agent_id <> ?", ids, u.Agent).Count(&others).Error; err != nil {
			return err
		}
		if others > 0 {
			return fmt.Errorf("%w: %d of its %s are another agent's", ErrUnfit, others, what)
		}
	}
	return nil
}
