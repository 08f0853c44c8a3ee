package reports

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// within is how much of a stretch lies within the period.
func (m *making) within(from, to time.Time) time.Duration {
	if to.IsZero() || to.After(m.spec.To) {
		to = m.spec.To
	}
	if from.Before(m.spec.From) {
		from = m.spec.From
	}
	return max(0, to.Sub(from))
}

func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// tellEpisodes tells when which paths were worse.
func (m *making) tellEpisodes(ctx context.Context) (err error) {
	if m.incidents, err = m.Incidents.Between(ctx, m.spec.From, m.spec.To); err != nil {
		return err
	}
	rows, err := m.Store.Episodes(ctx, ident.ID{}, m.spec.From, m.spec.To)
	if err != nil {
		return err
	}
	chosen := map[ident.ID]int{}
	for _, v := range m.views {
		chosen[v.ID] = -1
	}
	m.keys = m.Paths.Keys()
	for _, row := range rows {
		at, is := chosen[row.PathID]
		if !is {
			continue
		}
		e := paths.EpisodeOf(row)
		if at < 0 {
			at = len(m.out.Degraded)
			chosen[row.PathID] = at
			m.out.Degraded = append(m.out.Degraded, DegradedTold{Ends: m.endsOf(row.PathID), Episodes: []EpisodeTold{}, Picture: []PictureStep{}, Flags: []RouteFlag{}})
		}
		d := &m.out.Degraded[at]
		d.Episodes = append(d.Episodes, m.episode(e))
		d.CostS += m.within(e.From, e.To).Seconds()
		if r := e.Route; r != nil && !r.At.Before(m.spec.From) && r.At.Before(m.spec.To) {
			says := "The route changed"
			if r.Hop != "" {
				says += ": by " + m.nameOf(r.Hop)
				if r.Was != "" {
					says += ", not " + m.nameOf(r.Was)
				}
			}
			d.Flags = append(d.Flags, RouteFlag{r.At.UTC(), says + "."})
		}
	}
	slices.SortStableFunc(m.out.Degraded, func(a, b DegradedTold) int {
		return cmp.Or(cmp.Compare(b.CostS, a.CostS), figure.Order(a.From, b.From), figure.Order(a.To, b.To))
	})
	// Of the first so many there is a picture.
	return sideBySide(min(len(m.out.Degraded), mostPictures), func(i int) error { return m.picture(ctx, &m.out.Degraded[i]) })
}

func (m *making) episode(e paths.Episode) (out EpisodeTold) {
	why := finding.Why{Route: e.Route, Seen: e.Seen, Name: m.Devices.Call}
	key := m.keys[e.Path]
	var incident ident.ID
	for i := range m.incidents {
		if e.Number > 0 && m.incidents[i].Has(key, e.Number) {
			why.Shared, incident = &m.incidents[i].Incident, m.incidents[i].ID
		}
	}
	out = EpisodeTold{ID: e.ID.String(), Kind: string(e.Kind), BeganAt: e.From.UTC(), EarliestAt: e.Doubt.From.UTC(), LatestAt: e.Doubt.To.UTC(), ToldAt: e.ToldAt.UTC(), EndedAt: optional(e.To), TimesCount: len(e.Pauses) + 1, Excesses: []ExcessTold{}}
	if !incident.IsZero() {
		out.Incident = incident.String()
	}
	out.tell(finding.OfEpisode(finding.Told{Episode: e.Episode, Zone: m.Zone, Now: m.spec.To, Why: why}))
	for _, u := range e.Unmeasured {
		out.UnmeasuredS += u.To.Sub(u.From).Seconds()
	}
	for _, x := range e.Excesses {
		out.Excesses = append(out.Excesses, ExcessTold{Measure: x.Measure.String(), Unit: string(x.Measure.Unit()), Normal: x.Normal, Low: x.Low, High: x.High, Now: x.Now, NowLow: x.NowLow, NowHigh: x.NowHigh, Worst: x.Worst, Sent: x.Sent, Lost: x.Lost})
	}
	return out
}

const (
	mostPictures = 60
	finest       = 12 * time.Hour
	fine, coarse = 3 * 24 * time.Hour, 30 * 24 * time.Hour
)

// picture is the round trip over the period in steps, over what was normal.
func (m *making) picture(ctx context.Context, d *DegradedTold) error {
	id, err := ident.Parse(d.Path)
	if err != nil {
		return err
	}
	var base *baseline.Baseline
	if i := slices.IndexFunc(m.views, func(v View) bool { return v.ID == id }); i >= 0 {
		base = m.views[i].Baseline
	}
	step, steps, err := m.steps(ctx, id, base, m.spec.From, m.spec.To)
	d.StepS, d.Picture = step.Seconds(), append(d.Picture, steps...)
	return err
}

// steps are the round trip of a path over a time in steps, over what was normal.
func (x *Reports) steps(ctx context.Context, id ident.ID, base *baseline.Baseline, from, to time.Time) (step time.Duration, list []PictureStep, err error) {
	step = 24 * time.Hour
	expect := func(one PictureStep, middle time.Time) PictureStep {
		if base != nil {
			if n, ok := base.At(baseline.RTT, middle); ok {
				low, high := n.Low, n.High
				one.LowMs, one.HighMs = &low, &high
			}
		}
		return one
	}
	switch span := to.Sub(from); {
	case span <= finest: // what is not rolled up yet is seen, too
		records, err := x.Store.Readings(ctx, id, from, to, 0, false)
		for _, r := range records {
			f := r.Reading.Figures()
			one := PictureStep{At: r.Reading.At.UTC(), MedianMs: f.RTTMedianMs}
			if r.Reading.Sent > 0 {
				v := float64(r.Reading.Lost) / float64(r.Reading.Sent)
				one.Lost = &v
			}
			list = append(list, expect(one, r.Reading.At.Add(r.Reading.Span/2)))
			step = r.Reading.Span
		}
		return step, list, err
	case span <= fine:
		step = 10 * time.Minute
	case span <= coarse:
		step = time.Hour
	}
	slots, err := x.Store.Rollups(ctx, id, step, from.Truncate(step), to)
	if err != nil {
		return step, nil, err
	}
	for _, s := range slots {
		one := PictureStep{At: s.At.UTC(), MedianMs: figure.Ms(s.Median)}
		if s.Sent > 0 {
			v := float64(s.Lost) / float64(s.Sent)
			one.Lost = &v
		}
		list = append(list, expect(one, s.At.Add(s.Span/2)))
	}
	return step, list, nil
}

// tellIncidents tells what one segment explains, where a chosen path is part of it.
func (m *making) tellIncidents(context.Context) error {
	ids := m.Paths.IDs()
	chosen := map[ident.ID]bool{}
	for _, v := range m.views {
		chosen[v.ID] = true
	}
	for _, x := range m.incidents {
		if !slices.ContainsFunc(x.Members, func(p guard.Member) bool { return chosen[ids[p.Path]] }) {
			continue
		}
		out := IncidentTold{ID: x.ID.String(), BeganAt: x.From.UTC(), EndedAt: optional(x.To), Sentence: x.Finding.Sentence, Advice: x.Finding.Advice, Confidence: x.Sure, Segments: m.segments(x), Paths: []Ends{}}
		for _, p := range x.Members {
			if !m.spec.all() && !chosen[ids[p.Path]] {
				out.Others++ // who sees some paths sees no others
				continue
			}
			out.Paths = append(out.Paths, m.endsOf(ids[p.Path]))
		}
		m.out.Incidents = append(m.out.Incidents, out)
	}
	return nil
}

func (m *making) segments(x incidents.Incident) []SegmentTold {
	out := []SegmentTold{}
	for _, e := range x.Ends() {
		out = append(out, SegmentTold{e[0], e[1], m.nameOf(e[0]), m.nameOf(e[1])})
	}
	return out
}

// tellStanding tells what comes back, crept or stayed, and what could not be judged.
func (m *making) tellStanding(context.Context) error {
	live := m.now.Sub(m.spec.To) < isNow
	for _, v := range m.views {
		ends := m.endsOf(v.ID)
		for _, p := range v.Properties {
			if !p.EndedAt.IsZero() && p.EndedAt.Before(m.spec.From) || p.ToldAt.After(m.spec.To) || !p.AcceptedAt.IsZero() && p.AcceptedAt.Before(m.spec.From) {
				continue
			}
			f := finding.OfProperty(p, m.Zone)
			m.out.Standing = append(m.out.Standing, Standing{ends, string(p.Kind), p.Since.UTC(), f.Sentence, f.Advice, p.Waits()})
		}
		if v.Verdict.Never {
			m.out.NotJudged = append(m.out.NotJudged, NotJudgedTold{ends, "never_answered", v.Findings[0].Sentence})
		} else if n, is := v.NotJudged(m.Zone); is && live {
			m.out.NotJudged = append(m.out.NotJudged, NotJudgedTold{ends, n.Why, n.Says})
		}
	}
	return nil
}

// measure tells how available paths were, and what they carried.
func (m *making) measure(ctx context.Context) error {
	sums, err := m.Store.MeasuredBetween(ctx, m.spec.From, m.spec.To)
	if err != nil {
		return err
	}
	worse := map[string]DegradedTold{}
	for _, d := range m.out.Degraded {
		worse[d.Path] = d
	}
	m.out.Watched = len(m.views)
	for _, v := range m.views {
		x := PathTold{Ends: m.endsOf(v.ID), State: string(v.Verdict.State)}
		s := sums[v.ID]
		x.MeasuredS, x.Sent, x.Lost = float64(s.SpanMs)/1000, s.Sent, s.Lost
		if s.SpanMs > 0 {
			a := float64(s.AnsweredMs) / float64(s.SpanMs)
			x.Availability = &a
		}
		if s.Sent > 0 {
			l := float64(s.Lost) / float64(s.Sent)
			x.Loss = &l
		}
		if s.MeanNs > 0 {
			ms := s.MeanNs / 1e6
			x.MeanMs = &ms
		}
		d, was := worse[x.Path]
		x.Episodes, x.WorseS = len(d.Episodes), d.CostS
		if !was && s.Sent > 0 && !v.Verdict.Never {
			m.out.Healthy++
		}
		if s.SpanMs == 0 && !slices.ContainsFunc(m.out.NotJudged, func(n NotJudgedTold) bool { return n.Path == x.Path }) {
			m.out.NotJudged = append(m.out.NotJudged, NotJudgedTold{x.Ends, "unmeasured", "Nothing was measured in that time."})
		}
		m.out.Paths = append(m.out.Paths, x)
		m.carried(v, x.Ends)
	}
	slices.SortStableFunc(m.out.Paths, func(a, b PathTold) int {
		return cmp.Or(cmp.Compare(b.WorseS, a.WorseS), figure.Order(a.From, b.From), figure.Order(a.To, b.To), cmp.Compare(a.Family, b.Family))
	})
	return nil
}

// carried tells throughput against what is usual.
func (m *making) carried(v View, ends Ends) {
	t := v.Throughput
	if t == nil || t.At.Before(m.spec.From) || !t.At.Before(m.spec.To) {
		return
	}
	for _, way := range []struct {
		name  string
		bps   *float64
		usual *capacity.Usual
	}{{"there", t.There.Bps, t.There.Usual}, {"back", t.Back.Bps, t.Back.Usual}} {
		if way.bps == nil {
			continue
		}
		x := Carried{Ends: ends, At: t.At.UTC(), Way: way.name, Bps: *way.bps, Says: "what is usual is not known yet"}
		if u := way.usual; u != nil {
			median, low, high := float64(u.Median), float64(u.Low), float64(u.High)
			x.UsualBps, x.UsualLow, x.UsualHigh, x.Says = &median, &low, &high, "as usual"
			switch {
			case x.Bps < low:
				x.Says = "less than usual"
			case x.Bps > high:
				x.Says = "more than usual"
			}
		}
		m.out.Throughput = append(m.out.Throughput, x)
	}
}

// hold holds paths against the objective.
func (m *making) hold(ctx context.Context) error {
	if m.spec.Objective == "" {
		return nil
	}
	return sideBySide(len(m.out.Paths), func(i int) error {
		x := &m.out.Paths[i]
		id, err := ident.Parse(x.Path)
		if err != nil {
			return err
		}
		_, f, err := m.Objectives.Fitness(ctx, id, m.spec.Objective, m.spec.From, m.spec.To)
		if err != nil {
			return err
		}
		share, ok := f.Share()
		if !ok {
			return nil
		}
		met := true
		for _, l := range f.Lines {
			if l.Measured > 0 && !l.Met {
				met = false
				x.Missed = append(x.Missed, string(l.Measure))
			}
		}
		x.Within, x.Met = &share, &met
		return nil
	})
}

// mostSweeps are looked at for a report.
const mostSweeps = 500

// tellSweeps tells which addresses came and went.
func (m *making) tellSweeps(ctx context.Context) error {
	only := m.spec.Selection
	only.Agents = nil
	if len(m.spec.Paths) > 0 || !only.All() {
		return nil // they are not of the paths that were chosen
	}
	page := store.Page{Limit: 200}
	for {
		list, err := m.Store.Sweeps(ctx, nil, nil, page)
		if err != nil {
			return err
		}
		for _, s := range list {
			switch {
			case s.StartedAt.Before(m.spec.From):
				return nil
			case !s.StartedAt.Before(m.spec.To) || s.Outcome != protocol.Done:
				continue
			case m.out.SweepsLooked >= mostSweeps:
				m.out.SweepsLeft++
				continue
			}
			m.out.SweepsLooked++
			if err := m.sweep(ctx, s); err != nil {
				return err
			}
		}
		if len(list) < page.Limit {
			return nil
		}
		last := list[len(list)-1]
		page.After, page.AfterID = last.StartedAt, last.ID
	}
}

func (m *making) sweep(ctx context.Context, s store.Sweep) error {
	agent := m.Fleet.NameOf(s.AgentID)
	if len(m.spec.Agents) > 0 && !slices.Contains(m.spec.Agents, agent) {
		return nil
	}
	whole, err := m.Store.Sweep(ctx, s.ID)
	if err != nil {
		return err
	}
	r, err := whole.Report()
	if err != nil || r == nil || len(r.New)+len(r.Gone)+len(r.Slower) == 0 {
		return err
	}
	x := Swept{ID: s.ID.String(), At: s.StartedAt.UTC(), Agent: agent, Prefixes: r.Prefixes, Answered: r.Answered, New: append([]string{}, r.New...), Gone: append([]string{}, r.Gone...), Slower: []string{}}
	for _, w := range r.Slower {
		x.Slower = append(x.Slower, fmt.Sprintf("%s (%s, was %s)", w.Address, figure.FormatMs(w.RTTMs), figure.FormatMs(w.BeforeMs)))
	}
	m.out.Sweeps = append(m.out.Sweeps, x)
	return nil
}

// tellNotes tells what people wrote of chosen paths, and of all.
func (m *making) tellNotes(ctx context.Context) error {
	list, err := m.Annotations.Between(ctx, ident.ID{}, m.spec.From, m.spec.To)
	if err != nil {
		return err
	}
	chosen := map[ident.ID]bool{}
	for _, v := range m.views {
		chosen[v.ID] = true
	}
	for _, a := range list {
		n := NoteTold{ID: a.ID.String(), At: a.At.UTC(), Author: a.Author, Text: a.Text}
		if a.Until != nil {
			n.Until = optional(*a.Until)
		}
		if a.PathID == nil && len(m.spec.Paths) > 0 {
			continue
		}
		if a.PathID != nil {
			if !chosen[*a.PathID] {
				continue
			}
			n.Ends = m.endsOf(*a.PathID)
		}
		m.out.Notes = append(m.out.Notes, n)
	}
	return nil
}
