package controller

import (
	"encoding/json"
	"math"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	normal "woodlark.example/core/normal"
	"woodlark.example/internal/ident"
)

// guarding is how a path is guarded, and under which identifiers its episodes are kept.
type guarding struct {
	*guard.Path
	ids map[int]ident.ID // of episodes by number
	// known is what is normal in the words of those who ask by the hour.
	known *baseline.Baseline
}

// kept is a guarding as it is stored.
type kept struct {
	Guard guard.State      `json:"guard"`
	IDs   map[int]ident.ID `json:"ids"`
}

func newGuarding(p *guard.Path) guarding {
	g := guarding{Path: p, ids: map[int]ident.ID{}}
	g.refresh()
	return g
}

// state is what is to be stored.
func (g *guarding) state() (string, error) {
	data, err := json.Marshal(kept{g.State(), g.ids})
	return string(data), err
}

// spreadOf says when in the day a path is trained, always the same for a path.
func spreadOf(id ident.ID) float64 {
	const day = 24 * time.Hour
	return float64(Phase(id, day)) / float64(day)
}

// measuresOf are those that views show.
var measuresOf = map[normal.Measure]baseline.Measure{normal.RTT: baseline.RTT, normal.Jitter: baseline.Jitter, normal.Loss: baseline.Loss}

// refresh puts what is normal into the words of those who ask by the hour.
func (g *guarding) refresh() {
	b := g.Judge().Baseline()
	if b == nil {
		g.known = nil
		return
	}
	out := &baseline.Baseline{From: b.From, To: b.To, ZoneName: b.ZoneName, Readings: b.Readings, Profiles: map[baseline.Measure]*baseline.Profile{}}
	for m, old := range measuresOf {
		hours := b.Hours(m)
		if hours == nil {
			continue
		}
		p := &baseline.Profile{Day: map[int]*baseline.Normal{}, Week: map[int]*baseline.Normal{}}
		for i, n := range hours {
			if b.Models[m].Days < 2 {
				break // a day says nothing of hours yet
			}
			p.Week[i] = normalOf(n)
			if weekday := time.Weekday(i / 24); weekday == time.Monday {
				p.Day[i%24] = normalOf(n)
			}
		}
		p.Overall = normalOf(overall(hours))
		out.Profiles[old] = p
	}
	g.known = out
}

func normalOf(n normal.Normal) *baseline.Normal {
	return &baseline.Normal{Readings: n.Days, Median: n.Expected, Low: n.Low, High: n.High, MAD: n.Spread / 1.4826}
}

// overall is what is normal over all hours: the widest band about the mean.
func overall(hours []normal.Normal) normal.Normal {
	out := normal.Normal{Low: math.Inf(1)}
	for _, n := range hours {
		out.Expected += n.Expected / float64(len(hours))
		out.Spread += n.Spread / float64(len(hours))
		out.Low, out.High, out.Days = min(out.Low, n.Low), max(out.High, n.High), max(out.Days, n.Days)
	}
	return out
}

// episodeOf puts an episode into the words of views.
func episodeOf(e guard.Episode) baseline.Episode {
	out := baseline.Episode{Kind: baseline.Kind(e.Kind), From: e.From, To: e.To}
	for _, x := range e.Excesses {
		m, ok := measuresOf[x.Measure]
		if !ok {
			continue
		}
		out.Excesses = append(out.Excesses, baseline.Excess{Measure: m, Normal: x.Normal, Low: x.Low, High: x.High, Now: x.Now, Worst: x.Worst,
			Readings: x.Readings, Resolution: baseline.HourOfDay, Chance: math.Exp(-x.Evidence), Sent: x.Sent, Lost: x.Lost})
	}
	return out
}

// verdict is how the path stands at a time. One whose last reading ended more than patience
// ago is unmeasured since then.
func (g *guarding) verdict(now time.Time, patience time.Duration) baseline.Verdict {
	j := g.Judge()
	v := baseline.Verdict{State: baseline.StateUnmeasured, Silence: j.Silence(), Baseline: g.known}
	last := j.Last()
	if last.At.IsZero() {
		return v
	}
	v.Newest = pointOf(last)
	end := last.At.Add(last.Span)
	if now.Sub(end) > patience {
		v.Since = end
		return v
	}
	if e, ok := g.worst(); ok {
		v.Episode, v.Since, v.State = &e, e.From, baseline.StateDegraded
		if e.Kind == baseline.Lost {
			v.State = baseline.StateLost
		}
		return v
	}
	if !j.Answered() && j.Silence() >= leastSilence {
		v.State, v.Never = baseline.StateLost, true
		return v
	}
	v.State = baseline.StateSteady
	return v
}

// leastSilence is how many probes without an answer make a path that never answered lost.
const leastSilence = 20

// worst are the open episodes as one: the lost one counts for all.
func (g *guarding) worst() (out baseline.Episode, ok bool) {
	for i, e := range g.Judge().Open() {
		x := episodeOf(e)
		switch {
		case i == 0 || x.Kind == baseline.Lost && out.Kind != baseline.Lost:
			out, ok = x, true
		case out.Kind != baseline.Lost:
			out.Excesses = append(out.Excesses, x.Excesses...)
			if x.From.Before(out.From) {
				out.From = x.From
			}
		}
	}
	return out, ok
}

func millis(v float64) figure.Duration { return figure.Of(figure.FromMillis(v)) }

func pointOf(p normal.Point) baseline.Point {
	out := baseline.Point{At: p.At, Span: p.Span, Sent: p.Sent, Answered: p.Answered, Lost: p.Lost}
	if v, ok := p.Value(normal.RTT); ok {
		out.RTT = millis(v)
	}
	if v, ok := p.Value(normal.Jitter); ok {
		out.Jitter = millis(v)
	}
	return out
}

// daily is the stretch of the day in which the path keeps getting worse; nil when there is none.
func (g *guarding) daily() *baseline.Daily {
	for _, p := range g.Properties() {
		if (p.Kind == guard.Daily || p.Kind == guard.Weekly) && p.EndedAt.IsZero() {
			return &baseline.Daily{FromMinute: p.From, ToMinute: p.To, Days: p.Days, OfDays: p.Days}
		}
	}
	return nil
}
