package baseline

import (
	"math"
	"time"
)

// Overall is what is normal of a measure over all hours of the week: the median of what is
// expected of them, of a ratio the mean, with the lowest and the highest that any of their bands
// reaches. False when nothing is known of it.
func (b *Baseline) Overall(m Measure) (out Normal, ok bool) {
	hours := b.Hours(m)
	if hours == nil {
		return out, false
	}
	out.Low = math.Inf(1)
	var expected, spreads []float64
	for _, n := range hours {
		expected, spreads = append(expected, n.Expected), append(spreads, n.Spread)
		out.Low, out.High, out.Days = min(out.Low, n.Low), max(out.High, n.High), max(out.Days, n.Days)
	}
	out.Expected, out.Spread = median(expected), median(spreads)
	if m.Counted() {
		out.Expected = meanOf(expected)
	}
	return out, true
}

// Difference is what differs of a measure between two baselines.
type Difference struct {
	Measure Measure `json:"measure"`
	// Overall, of the first and of the second.
	A Normal `json:"a"`
	B Normal `json:"b"`
	// Worst is the hour of the week, from Sunday 00:00 on, at which they differ most, and what
	// is normal then.
	Weekday time.Weekday `json:"weekday"`
	Hour    int          `json:"hour"`
	WorstA  Normal       `json:"worst_a"`
	WorstB  Normal       `json:"worst_b"`
	// Differs: at that hour what one expects lies outside the other's band, both ways, and
	// further than the tolerance.
	Differs bool `json:"differs"`
}

// Compare says how the second baseline differs from the first, by measure that both know.
func Compare(a, b *Baseline) (list []Difference) {
	for _, m := range Measures() {
		x, ok := a.Overall(m)
		y, ok2 := b.Overall(m)
		if !ok || !ok2 {
			continue
		}
		d := Difference{Measure: m, A: x, B: y}
		as, bs := a.Hours(m), b.Hours(m)
		most := -1.0
		for i := range as {
			if gap := math.Abs(as[i].Expected - bs[i].Expected); gap > most {
				most = gap
				d.Weekday, d.Hour, d.WorstA, d.WorstB = time.Weekday(i/24), i%24, as[i], bs[i]
			}
		}
		outside := func(v float64, n Normal) bool { return v < n.Low || v > n.High }
		d.Differs = most > a.Tolerances.Of(m, d.WorstA.Expected) && outside(d.WorstA.Expected, d.WorstB) && outside(d.WorstB.Expected, d.WorstA)
		list = append(list, d)
	}
	return list
}

// Only is the baseline of some of its measures.
func (b *Baseline) Only(list ...Measure) *Baseline {
	out := *b
	out.Models, out.list = map[Measure]*Model{}, [measures]*Model{}
	for _, m := range list {
		if model := b.Models[m]; model != nil {
			out.Models[m], out.list[m] = model, model
		}
	}
	return &out
}

// With is the baseline with the measures of another in the place of its own.
func (b *Baseline) With(other *Baseline) *Baseline {
	out := *b
	out.Models = map[Measure]*Model{}
	for m, model := range b.Models {
		out.Models[m] = model
	}
	for m, model := range other.Models {
		out.Models[m], out.list[m] = model, model
	}
	return &out
}
