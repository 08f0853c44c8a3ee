package api

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// The longest spans that are answered in a resolution.
const (
	probeSpan   = 20 * time.Minute
	readingSpan = 25 * time.Hour
	fineSpan    = 21 * 24 * time.Hour
	hourSpan    = 150 * 24 * time.Hour
	longestSpan = 5 * 366 * 24 * time.Hour
)

func (s *server) series(ctx context.Context, id ident.ID, from, to time.Time) (apitype.Series, error) {
	v, err := s.c.View(id)
	if err != nil {
		return apitype.Series{}, err
	}
	span := to.Sub(from)
	if span <= 0 || span > longestSpan {
		return apitype.Series{}, fmt.Errorf("%w: from_at %s and to_at %s are not a span of up to five years", kind.ErrInvalid, from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	c := columns{Series: apitype.Series{FromAt: from.UTC(), ToAt: to.UTC(), Outcome: []string{}}}
	switch {
	case span <= probeSpan:
		c.Resolution = "probe"
		err = s.probes(ctx, &c, id, from, to)
	case span <= readingSpan:
		c.Resolution = "reading"
		err = s.readings(ctx, &c, id, from, to)
	case span <= fineSpan:
		err = s.rollups(ctx, &c, id, "10m", 10*time.Minute, from, to)
	case span <= hourSpan:
		err = s.rollups(ctx, &c, id, "1h", time.Hour, from, to)
	default:
		err = s.rollups(ctx, &c, id, "1d", 24*time.Hour, from, to)
	}
	if err != nil {
		return apitype.Series{}, err
	}
	c.Normal = normalSteps(v.Baseline, from, to)
	if c.Episodes, err = s.episodes(ctx, id, from, to); err != nil {
		return apitype.Series{}, err
	}
	if c.Gaps, err = s.gaps(ctx, id, from, to); err != nil {
		return apitype.Series{}, err
	}
	c.Maintenance = spansOf(s.c.MaintenanceOf(id, from, to))
	taken, err := s.c.Store.EvidenceBetween(ctx, id, from, to)
	if err != nil {
		return apitype.Series{}, err
	}
	c.Evidence = []apitype.Taken{}
	for _, e := range taken {
		if e.RunID != nil {
			c.Evidence = append(c.Evidence, apitype.Taken{At: e.At.UTC(), What: e.What, Phase: e.Phase})
		}
	}
	if c.Annotations, err = s.annotations(ctx, id, from, to); err != nil {
		return apitype.Series{}, err
	}
	c.Loads, err = s.loads(ctx, id, from, to)
	return c.Series, err
}

// loads are the load runs beside a path.
func (s *server) loads(ctx context.Context, id ident.ID, from, to time.Time) ([]apitype.LoadBeside, error) {
	runs, err := s.c.LoadsBeside(ctx, id, from, to)
	out := []apitype.LoadBeside{}
	names := map[ident.ID]string{}
	for _, r := range runs {
		if names[r.AgentID] == "" {
			names[r.AgentID] = s.agentName(r.AgentID)
		}
		l := apitype.LoadBeside{FromAt: r.StartedAt.UTC(), From: names[r.AgentID], To: r.Target}
		if r.EndedAt != nil {
			l.ToAt = utc(*r.EndedAt)
		}
		out = append(out, l)
	}
	return out, err
}

// columns fills a series point by point.
type columns struct{ apitype.Series }

func (c *columns) add(at time.Time, span time.Duration, sent, lost int, low, median, p95, high figure.Duration) {
	c.At = append(c.At, at.UTC())
	c.SpanS = append(c.SpanS, span.Seconds())
	c.RTTMinMs = append(c.RTTMinMs, figure.Ms(low))
	c.RTTMedianMs = append(c.RTTMedianMs, figure.Ms(median))
	c.RTTP95Ms = append(c.RTTP95Ms, figure.Ms(p95))
	c.RTTMaxMs = append(c.RTTMaxMs, figure.Ms(high))
	c.Sent = append(c.Sent, sent)
	c.Lost = append(c.Lost, lost)
	var ratio *float64
	if sent > 0 {
		v := float64(lost) / float64(sent)
		ratio = &v
	}
	c.LossRatio = append(c.LossRatio, ratio)
}

func (s *server) probes(ctx context.Context, c *columns, id ident.ID, from, to time.Time) error {
	// A reading that began before the span may reach into it.
	records, err := s.c.Store.Readings(ctx, id, from.Add(-time.Hour), to, 0, true)
	if err != nil {
		return err
	}
	for _, r := range records {
		probes, err := reading.Unpack(r.Reading.At, r.Packed)
		if err != nil {
			return err
		}
		for _, p := range probes {
			if p.DueAt.Before(from) || !p.DueAt.Before(to) {
				continue
			}
			var rtt figure.Duration
			if p.Outcome == reading.Answered {
				rtt = figure.Of(p.RTT)
			}
			sent, lost := 1, 0
			switch p.Outcome {
			case reading.Unsent:
				sent = 0
			case reading.Lost, reading.Late:
				lost = 1
			}
			c.add(p.DueAt, 0, sent, lost, rtt, rtt, rtt, rtt)
			c.Outcome = append(c.Outcome, p.Outcome.String())
		}
	}
	return nil
}

func (s *server) readings(ctx context.Context, c *columns, id ident.ID, from, to time.Time) error {
	records, err := s.c.Store.Readings(ctx, id, from, to, 0, false)
	if err != nil {
		return err
	}
	for _, r := range records {
		c.addReading(r)
	}
	return nil
}

func (c *columns) addReading(r protocol.Record) {
	x := r.Reading
	c.add(x.At, x.Span, x.Sent, x.Lost, x.RTT.Min, x.RTT.Median, x.RTT.P95, x.RTT.Max)
}

// rollups gives rollups and, for the newest stretch that is not rolled up yet, shorter ones and at
// last the readings themselves: of a year those of the last minutes, and no others.
func (s *server) rollups(ctx context.Context, c *columns, id ident.ID, name string, span time.Duration, from, to time.Time) error {
	c.Resolution, c.Approximate = name, span > paths.TraceSpan
	return s.addRollups(ctx, c, id, span, from, to)
}

func (s *server) addRollups(ctx context.Context, c *columns, id ident.ID, span time.Duration, from, to time.Time) error {
	slots, err := s.c.Store.Rollups(ctx, id, span, from.Truncate(span), to)
	if err != nil {
		return err
	}
	tail := to.Add(-2 * span)
	for _, slot := range slots {
		c.add(slot.At, slot.Span, slot.Sent, slot.Lost, slot.Min, slot.Median, slot.P95, slot.Max)
		tail = slot.At.Add(slot.Span)
	}
	from = maxTime(from, tail)
	switch {
	case !from.Before(to):
		return nil
	case span > time.Hour:
		return s.addRollups(ctx, c, id, time.Hour, from, to)
	case span > paths.TraceSpan:
		return s.addRollups(ctx, c, id, paths.TraceSpan, from, to)
	}
	return s.readings(ctx, c, id, from, to)
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// normalSteps is the baseline's band, a step an hour where the span is short
// enough to tell hours apart, and over all hours where it is not.
func normalSteps(b *baseline.Baseline, from, to time.Time) apitype.NormalSteps {
	steps := apitype.NormalSteps{At: []time.Time{}, LowMs: []float64{}, HighMs: []float64{}}
	step := time.Hour
	if to.Sub(from) > fineSpan {
		step = 24 * time.Hour
	}
	for t := from.Truncate(step); t.Before(to); t = t.Add(step) {
		n, ok := b.At(baseline.RTT, t.Add(step/2))
		if ok && step > time.Hour {
			n, _ = b.Overall(baseline.RTT)
		}
		if !ok {
			continue
		}
		steps.At = append(steps.At, maxTime(t, from).UTC())
		steps.LowMs = append(steps.LowMs, fine(n.Low))
		steps.HighMs = append(steps.HighMs, fine(n.High))
	}
	return steps
}

// gaps are the failed and missed runs of a span, which say why there are no
// readings.
func (s *server) gaps(ctx context.Context, id ident.ID, from, to time.Time) ([]apitype.Gap, error) {
	out := []apitype.Gap{}
	for _, outcome := range []protocol.Outcome{protocol.Missed, protocol.Failed} {
		runs, err := s.c.Store.Runs(ctx, store.RunFilter{Path: id, Outcome: outcome, Page: store.Page{After: to, Limit: 500}})
		if err != nil {
			return nil, err
		}
		for _, r := range runs {
			if r.EndedAt != nil && r.EndedAt.Before(from) {
				continue
			}
			g := apitype.Gap{FromAt: r.StartedAt.UTC(), Outcome: string(r.Outcome), Reason: r.Reason}
			if r.EndedAt != nil {
				g.ToAt = utc(*r.EndedAt)
			}
			out = append(out, g)
		}
	}
	return out, nil
}
