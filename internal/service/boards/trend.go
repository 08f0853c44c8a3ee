package boards

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/gonum/stat"

	"woodlark.example/core/figure"
	"woodlark.example/core/objective"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/store"
)

// past is a trend as it was a moment ago: what is over does not change.
type past struct {
	at    time.Time
	shown *TrendShown
}

const (
	pastFor  = time.Minute
	mostPast = 200
)

// stepOf is in how long steps so much is shown: lengths that rollups have.
func stepOf(last time.Duration) time.Duration {
	switch {
	case last <= 36*time.Hour:
		return 10 * time.Minute
	case last <= 21*24*time.Hour:
		return time.Hour
	}
	return 24 * time.Hour
}

func (m *making) trend(ctx context.Context, p *ShownPart, views []reports.View) error {
	last, err := p.span()
	if err != nil {
		return err
	}
	if p.Title == "" {
		p.Heading = fmt.Sprintf("%s of %d paths", named(p.Measure), len(views))
		if len(views) == 1 {
			p.Heading = named(p.Measure) + ", " + views[0].Agent.Name + " → " + views[0].Target
		}
	}
	key := strings.Join([]string{p.Measure, p.Last, p.of().String()}, "|")
	m.mu.Lock()
	kept, known := m.past[key]
	m.mu.Unlock()
	if !known || m.now.Sub(kept.at) >= pastFor {
		chosen := map[ident.ID]bool{}
		for _, v := range views {
			chosen[v.ID] = true
		}
		step := stepOf(last)
		from := m.now.Add(-last).Truncate(step)
		sums, err := m.Store.Sums(ctx, chosen, step, from, m.now)
		if err != nil {
			return err
		}
		kept = past{m.now, &TrendShown{Unit: measures[p.Measure], StepS: step.Seconds(), FromAt: m.now.Add(-last).UTC(), ToAt: m.now.UTC(), Steps: steps(sums, p.Measure)}}
		m.mu.Lock()
		if len(m.past) >= mostPast {
			clear(m.past)
		}
		m.past[key] = kept
		m.mu.Unlock()
	}
	p.Trend = kept.shown
	if len(p.Trend.Steps) == 0 {
		p.Says = "Nothing was measured in that time."
	} else if p.Measure == "loss" {
		p.Says = "The line is the loss of all packets; the ribbon reaches to the worst path."
	} else {
		p.Says = "The line is the median over the paths; the ribbon leaves out a tenth of them above and below."
	}
	if m.printed && len(p.Trend.Steps) > 0 {
		p.drawn = append(p.drawn, p.Trend.plot(p.Heading, m.Zone))
	}
	return nil
}

// steps are sums of many paths, oldest first, by their time.
func steps(sums []store.Sum, measure string) []TrendStep {
	list := []TrendStep{}
	for len(sums) > 0 {
		n := slices.IndexFunc(sums, func(s store.Sum) bool { return !s.At.Equal(sums[0].At) })
		if n < 0 {
			n = len(sums)
		}
		if s, is := stepAt(sums[:n], measure); is {
			list = append(list, s)
		}
		sums = sums[n:]
	}
	return list
}

func stepAt(sums []store.Sum, measure string) (s TrendStep, is bool) {
	var values []float64
	sent, lost := 0, 0
	for _, x := range sums {
		if x.Sent == 0 {
			continue
		}
		ratio := float64(x.Lost) / float64(x.Sent)
		sent, lost = sent+x.Sent, lost+x.Lost
		switch {
		case measure == "loss":
			values = append(values, ratio)
		case measure == "mos" && x.Mean > 0:
			values = append(values, objective.CallQuality(x.Mean, ratio))
		case measure == "rtt" && x.Median > 0:
			values = append(values, *figure.Ms(figure.Of(x.Median)))
		}
	}
	if len(values) == 0 {
		return s, false
	}
	slices.Sort(values)
	at := func(q float64) float64 { return stat.Quantile(q, stat.Empirical, values, nil) }
	s = TrendStep{At: sums[0].At.UTC(), Paths: len(values), Value: at(0.5), Low: at(0.1), High: at(0.9)}
	if measure == "loss" {
		s.Value, s.Low, s.High = float64(lost)/float64(sent), 0, values[len(values)-1]
	}
	return s, true
}

// plot is a trend to be drawn: of loss in percent.
func (t *TrendShown) plot(title string, zone *time.Location) document.Plot {
	p := document.Plot{Title: title, Unit: t.Unit, From: t.FromAt, To: t.ToAt, Zone: zone}
	by := 1.0
	switch t.Unit {
	case "ratio":
		p.Unit, by = "%", 100
	case "mos":
		p.Unit = "MOS"
	}
	for _, s := range t.Steps {
		value, low, high := s.Value*by, s.Low*by, s.High*by
		p.Points = append(p.Points, document.PlotPoint{At: s.At, Span: time.Duration(t.StepS * float64(time.Second)), Value: &value, Low: &low, High: &high})
	}
	return p
}
