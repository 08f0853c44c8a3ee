package api

import (
	"fmt"
	"math"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

func readingOf(r *protocol.Record) *apitype.Reading {
	if r == nil {
		return nil
	}
	out := &apitype.Reading{Figures: r.Reading.Figures(), PathID: r.Path.String(), Notes: r.Notes()}
	if !r.Run.IsZero() {
		id := r.Run.String()
		out.RunID = &id
	}
	return out
}

func bandOf(n baseline.Normal) apitype.Band {
	return apitype.Band{Low: fine(n.Low), Median: fine(n.Expected), High: fine(n.High)}
}

// fine drops digits that arithmetic made up: below a nanosecond, or a
// millionth of a ratio.
func fine(v float64) float64 { return math.Round(v*1e6) / 1e6 }

func carriesOf(w loads.Way) apitype.CarriesWay {
	out := apitype.CarriesWay{Bps: w.Bps}
	if u := w.Usual; u != nil {
		low, high := float64(u.Low), float64(u.High)
		out.Low, out.High, out.Readings = &low, &high, u.Readings
	}
	return out
}

func pathOf(v service.View, zone *time.Location, now time.Time, trace bool) apitype.Path {
	p := apitype.Path{
		ID: v.ID.String(), From: v.Agent.Name, FromSite: v.Agent.Site, To: v.Target, ToSite: v.Site, Family: int(v.Family), Via: v.Via,
		Watches: orEmpty(v.Watches), Tags: orEmpty(v.Tags), State: string(v.Verdict.State), SinceAt: utc(v.Verdict.Since),
		Findings: apitype.FindingsOf(v.Findings), Last: readingOf(v.Last), Excesses: []apitype.Excess{}, Episodes: []apitype.Episode{}, Properties: []apitype.Property{},
	}
	if t := v.Throughput; t != nil {
		p.Carries = &apitype.Carries{At: t.At.UTC(), To: t.To, There: carriesOf(t.There), Back: carriesOf(t.Back)}
	}
	if t := v.Beside; t != nil {
		p.BesideCarries = &apitype.Carries{At: t.At.UTC(), To: t.To, There: carriesOf(t.There), Back: carriesOf(t.Back)}
	}
	for _, o := range v.Open {
		p.Episodes = append(p.Episodes, openEpisodeOf(o))
		p.Excesses = append(p.Excesses, excessesOf(o.Excesses)...)
	}
	for _, x := range v.Properties {
		p.Properties = append(p.Properties, propertyOf(x, zone))
	}
	p.LearningUntil = utc(v.Verdict.Learning)
	if v.Baseline != nil {
		b := baselineOf(v)
		p.Baseline = &b
		p.Normal = &apitype.Normal{Resolution: resolution(v.Baseline)}
		if v.Last != nil {
			for m, to := range map[baseline.Measure]**apitype.Band{baseline.RTT: &p.Normal.RTTMs, baseline.Jitter: &p.Normal.JitterMs, baseline.Loss: &p.Normal.LossRatio} {
				if n, ok := v.Baseline.At(m, v.Last.Reading.At); ok {
					band := bandOf(n)
					*to = &band
				}
			}
		}
	}
	if d := v.Rhythm(); d != nil {
		p.Daily = &apitype.Daily{From: clock(d.From), To: clock(d.To), Days: d.Days, OfDays: d.Days}
	}
	if v.Over != nil {
		e := episodeOf(*v.Over, finding.Why{}, ident.ID{}, zone, now)
		p.LastOver = &e
	}
	if trace {
		t := sketchOf(v, now)
		p.Trace = &t
	}
	return p
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func clock(minute int) string { return fmt.Sprintf("%02d:%02d", minute/60, minute%60) }

// resolution says how finely what is normal follows the clock.
func resolution(b *baseline.Baseline) string {
	n, _ := b.Overall(baseline.RTT)
	switch {
	case n.Days < 2:
		return "overall"
	case b.To.Sub(b.From) < 8*24*time.Hour:
		return "hour_of_day"
	}
	return "hour_of_week"
}

func baselineOf(v service.View) apitype.Baseline {
	b := apitype.Baseline{PathID: v.ID.String(), From: v.Agent.Name, To: v.Target, Family: int(v.Family), Via: v.Via, TakenAt: v.TakenAt.UTC(), Pinned: v.Pinned, Zone: v.Baseline.ZoneName,
		Readings: v.Baseline.Readings, FromAt: v.Baseline.From.UTC(), ToAt: v.Baseline.To.UTC(), Learning: utc(v.Verdict.Learning), Hours: []apitype.Hour{}, Measures: []apitype.BaselineMeasure{}}
	if n, ok := v.Baseline.Overall(baseline.RTT); ok {
		band := bandOf(n)
		b.RTTMs = &band
	}
	if n, ok := v.Baseline.Overall(baseline.Jitter); ok {
		band := bandOf(n)
		b.JitterMs = &band
	}
	if n, ok := v.Baseline.Overall(baseline.Loss); ok {
		ratio := fine(n.Expected)
		b.Loss = &ratio
	}
	return b
}

// traceOf puts the last day's rollups in their places; where there is none the
// values are null. The values of a path share one array, for there are many
// paths.
func sketchOf(v service.View, now time.Time) apitype.Sketch {
	const slots, hours = paths.TraceSlots, 24
	step := paths.TraceSpan
	start := now.Add(-24 * time.Hour).Truncate(step).Add(step)
	t := apitype.Sketch{StartAt: start.UTC(), StepS: int(step.Seconds()), RTTMedianMs: make([]*float64, slots),
		LossRatio: make([]*float64, slots), LowMs: make([]*float64, hours), HighMs: make([]*float64, hours)}
	values := make([]float64, 0, 2*slots+2*hours)
	put := func(at **float64, value, digits float64) {
		values = append(values, math.Round(value*digits)/digits)
		*at = &values[len(values)-1]
	}
	for _, s := range v.Trace {
		i := int(s.At.Sub(start) / step)
		if s.At.Before(start) || i >= slots {
			continue
		}
		if median, ok := s.Median.Get(); ok {
			put(&t.RTTMedianMs[i], figure.Millis(median), 1e3)
		}
		if s.Sent > 0 {
			put(&t.LossRatio[i], float64(s.Lost)/float64(s.Sent), 1e6)
		}
	}
	for i := range hours {
		if n, ok := v.Baseline.At(baseline.RTT, start.Add(time.Duration(i)*time.Hour)); ok {
			put(&t.LowMs[i], n.Low, 1e3)
			put(&t.HighMs[i], n.High, 1e3)
		}
	}
	if len(values) == 0 { // nothing is known
		t.RTTMedianMs, t.LossRatio, t.LowMs, t.HighMs = []*float64{}, []*float64{}, []*float64{}, []*float64{}
	}
	return t
}

func (s *server) runOf(r store.Run) apitype.Run {
	out := apitype.Run{ID: r.ID.String(), Kind: r.Kind, From: s.agentName(r.AgentID), To: r.Target, Family: int(r.Family), Via: r.Via, StartAt: r.StartedAt.UTC(), Address: r.Address, Outcome: string(r.Outcome), Reason: r.Reason,
		ThereBps: r.ThereBps, BackBps: r.BackBps, MOS: r.MOS, Answered: r.Answered, Asked: r.Asked, RTTsMs: []*float64{}, Findings: []apitype.Finding{}}
	if r.EndedAt != nil {
		out.EndedAt = utc(*r.EndedAt)
	}
	if !r.WatchID.IsZero() {
		out.Watch = "(removed)"
		if w, err := s.c.Watches.Find(r.WatchID.String()); err == nil {
			out.Watch = w.Name
		}
	}
	if !r.PathID.IsZero() {
		out.PathID = r.PathID.String()
	}
	if x, ok := s.c.Runs.SoFar(r.ID); ok && r.Outcome == protocol.Running {
		out.Heard, out.Of, out.Says = int(x.Done), int(x.Of), x.Says
		out.Live = liveOf(x.Live)
		if k, err := kind.Find(r.Kind); err == nil {
			out.Counts = k.Counts
		}
	}
	return out
}

func parseID(text string) (ident.ID, error) {
	id, err := ident.Parse(text)
	if err != nil {
		return id, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	return id, nil
}
