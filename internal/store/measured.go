package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"woodlark.example/internal/ident"
)

// Measured is how much of a time a path was measured for, and what came of it.
type Measured struct {
	PathID ident.ID
	// SpanMs is for how long at least one probe was sent, AnsweredMs for how long of that at least
	// one was answered.
	SpanMs, AnsweredMs   int64
	Sent, Answered, Lost int64
	// MeanNs is the mean round trip; 0 when there was no answer.
	MeanNs float64
}

func (m *Measured) add(o Measured) {
	if n := m.Answered + o.Answered; n > 0 {
		m.MeanNs = (m.MeanNs*float64(m.Answered) + o.MeanNs*float64(o.Answered)) / float64(n)
	}
	m.PathID, m.SpanMs, m.AnsweredMs = o.PathID, m.SpanMs+o.SpanMs, m.AnsweredMs+o.AnsweredMs
	m.Sent, m.Answered, m.Lost = m.Sent+o.Sent, m.Answered+o.Answered, m.Lost+o.Lost
}

// stretch is a part of a time that is summed up by rollups of one length, or by readings when that
// is 0.
type stretch struct {
	span     spanSeconds
	from, to time.Time
}

// stretches split a time so that as little as can be is read: days and hours by their rollups,
// what is left at both ends by readings.
func stretches(from, to time.Time) (list []stretch) {
	add := func(span spanSeconds, from, to time.Time) {
		if to.After(from) {
			list = append(list, stretch{span, from, to})
		}
	}
	hour, day := rollupSpans[1], rollupSpans[2]
	h0, h1 := upTo(from, hour), to.Truncate(hour.length())
	if !h1.After(h0) {
		add(0, from, to)
		return list
	}
	add(0, from, h0)
	if d0, d1 := upTo(h0, day), h1.Truncate(day.length()); d1.After(d0) {
		add(hour, h0, d0)
		add(day, d0, d1)
		add(hour, d1, h1)
	} else {
		add(hour, h0, h1)
	}
	add(0, h1, to)
	return list
}

// upTo is the next begin of a rollup, or the time itself when it is one.
func upTo(t time.Time, span spanSeconds) time.Time {
	if b := t.Truncate(span.length()); !b.Equal(t) {
		return b.Add(span.length())
	}
	return t
}

const (
	sumOfReadings = `SELECT path_id, CAST(SUM(IF(sent > 0, span_ms, 0)) AS SIGNED) AS span_ms, CAST(SUM(IF(answered > 0, span_ms, 0)) AS SIGNED) AS answered_ms,
		CAST(SUM(sent) AS SIGNED) AS sent, CAST(SUM(answered) AS SIGNED) AS answered, CAST(SUM(lost) AS SIGNED) AS lost,
		COALESCE(SUM(rtt_mean_ns * answered) / NULLIF(SUM(IF(rtt_mean_ns IS NULL, 0, answered)), 0), 0) AS mean_ns
		FROM readings WHERE at >= ? AND at < ?`
	sumOfRollups = `SELECT path_id, CAST(COALESCE(SUM(measured_ms), 0) AS SIGNED) AS span_ms, CAST(COALESCE(SUM(answering_ms), 0) AS SIGNED) AS answered_ms,
		CAST(SUM(sent) AS SIGNED) AS sent, CAST(SUM(answered) AS SIGNED) AS answered, CAST(SUM(lost) AS SIGNED) AS lost,
		COALESCE(SUM(rtt_sum_ns) / NULLIF(SUM(answered), 0), 0) AS mean_ns, SUM(measured_ms IS NULL) AS untimed
		FROM ` + rollupsByPath + ` GROUP BY path_id`
	// rollupsByPath are the rollups of a time and length, read path after path: those of one lie
	// next to each other, those of one time do not.
	rollupsByPath = `paths STRAIGHT_JOIN rollups FORCE INDEX (PRIMARY) ON rollups.path_id = paths.id AND at >= ? AND at < ? AND span_s = ?`
)

// MeasuredBetween sums up what was measured in a time, by path: readings count that began in it.
// What is not rolled up yet, or was before it was kept for how long it was measured, is summed up
// reading by reading.
func (s *Store) MeasuredBetween(ctx context.Context, from, to time.Time) (map[ident.ID]Measured, error) {
	from, to = from.UTC(), to.UTC()
	db := s.db.WithContext(ctx)
	stale := map[ident.ID]bool{}
	out := map[ident.ID]Measured{}
	parts := stretches(from, to)
	for _, p := range parts {
		if p.span == 0 {
			continue
		}
		var due []ident.ID
		if err := db.Model(&dueRow{}).Distinct().Where("at >= ? AND at < ? AND span_s <= ?", p.from, p.to, p.span).Pluck("path_id", &due).Error; err != nil {
			return nil, wrap("list due rollups", err)
		}
		for _, id := range due {
			stale[id] = true
		}
	}
	for _, p := range parts {
		var rows []struct {
			Measured
			Untimed int
		}
		q := db.Raw(sumOfRollups, p.from, p.to, p.span)
		if p.span == 0 {
			q = db.Raw(sumOfReadings+" GROUP BY path_id", p.from, p.to)
		}
		if err := q.Scan(&rows).Error; err != nil {
			return nil, wrap("sum up what was measured", err)
		}
		for _, r := range rows {
			if r.Untimed > 0 {
				stale[r.PathID] = true
			}
			m := out[r.PathID]
			m.add(r.Measured)
			out[r.PathID] = m
		}
	}
	return out, s.sumAnew(db, stale, from, to, out)
}

// sumAnew sums up paths reading by reading.
func (s *Store) sumAnew(db *gorm.DB, stale map[ident.ID]bool, from, to time.Time, out map[ident.ID]Measured) error {
	var ids []ident.ID
	for id := range stale {
		ids = append(ids, id)
		delete(out, id)
	}
	for len(ids) > 0 {
		some := ids[:min(len(ids), batchRows)]
		ids = ids[len(some):]
		var rows []Measured
		if err := db.Raw(sumOfReadings+" AND path_id IN ? GROUP BY path_id", from, to, some).Scan(&rows).Error; err != nil {
			return wrap("sum up readings", err)
		}
		for _, r := range rows {
			out[r.PathID] = r
		}
	}
	return nil
}
