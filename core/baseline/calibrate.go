package baseline

import (
	"math"
	"slices"
)

const (
	// blockHours is the length of the stretches whose highest evidence is looked at.
	blockHours = 4
	// in how many years a detector may be wrong once.
	wrongIn = 20
	// A path whose own past is too restless is judged by what a detector can still tell.
	mostTimes = 6
)

// Sure is the evidence, in natural logarithms, at which each detector is right as good as
// surely if the readings of a path come independently of each other.
var Sure = [Detectors]float64{small: 16, large: 12.5, ragged: 16}

// calibrate finds the evidence at which each detector is to be believed, from what it would
// have held against the past that the model was made from: readings that depend on each other,
// or tails that were not thought of, drive evidence up by themselves.
func (m *Model) calibrate(f *fitter) {
	s := f.s
	var sum [Detectors]float64
	var blocks [Detectors][]float64
	var highest [Detectors]float64
	block := int64(-1)
	least := m.leastSlack()
	soiled := false
	flush := func() {
		if !soiled {
			for k := range highest {
				blocks[k] = append(blocks[k], highest[k])
			}
		}
		soiled = false
		highest = [Detectors]float64{}
	}
	for i, v := range s.v {
		if b := s.at[i] / (blockHours * 3600); b != block {
			if block >= 0 {
				flush()
			}
			block = b
		}
		if s.weight[i] < 0.5 {
			soiled = true
			sum = [Detectors]float64{}
			continue
		}
		if i > 0 && s.at[i]-s.at[i-1] > 2*3600 {
			sum = [Detectors]float64{}
		}
		if !m.Measure.Counted() && sum == ([Detectors]float64{}) && m.silent(f, i, least) {
			continue
		}
		evidence := m.evidence(f, i, v, least)
		for k := range sum {
			sum[k] = max(0, sum[k]+float64(evidence[k]))
			highest[k] = max(highest[k], sum[k])
		}
	}
	flush()
	for k := range m.Limits {
		m.Limits[k] = limitOf(blocks[k], m.sure(k), m.Measure.Counted())
	}
}

const (
	// lossyFrom is the ratio from which on a path is one that loses: what does so at all does so in
	// spells, the longest of which a fortnight need not hold.
	lossyFrom = 0.0008
	// spells is how much more evidence that takes; harshSpells, of much that is lost.
	spells      = 1.5
	harshSpells = 1.3
	// Up to seldomLost it loses in a few spells a fortnight, which say little of the longest; that
	// takes so many times as much.
	seldomLost   = 0.002
	seldomSpells = 1.4
)

// sure is the least evidence at which a detector is to be believed.
func (m *Model) sure(k int) float64 {
	switch {
	case !m.Measure.Counted() || m.Base < lossyFrom:
		return Sure[k]
	case k == large:
		return harshSpells * Sure[k]
	case m.Base < seldomLost:
		return seldomSpells * spells * Sure[k]
	}
	return spells * Sure[k]
}

// limitOf is the evidence that blocks like those reach once in so many years. seldom says that
// most of them hold nothing at all, so that the highest ones are of another kind.
func limitOf(blocks []float64, sure float64, seldom bool) float64 {
	if len(blocks) == 0 {
		return sure
	}
	slices.Sort(blocks)
	n := len(blocks)
	middle, high := quantile(blocks, 0.5), quantile(blocks, 0.92)
	// Gumbel's distribution of highest values, by two of its quantiles.
	width := max(0, (high-middle)/(2.484-0.3665))
	years := math.Log(wrongIn * 365 * 24 / blockHours)
	limit := middle - 0.3665*width + width*years
	// What is seldom shows in the highest blocks only: by how much they are above the edge of
	// the fourth quarter, on average; or, of what comes in a few blocks only, of the last tenth.
	// One of them alone is no habit.
	parts := []int{5}
	if seldom {
		parts = append(parts, 10)
	}
	for _, part := range parts {
		if n/part < 4 {
			break
		}
		edge, top := quantile(blocks, 1-1/float64(part)), blocks[n-n/part:]
		var excess float64
		for i, v := range top {
			if i == len(top)-1 {
				v = top[i-1]
			}
			excess += (v - edge) / float64(len(top))
		}
		limit = max(limit, edge+excess*(years-math.Log(float64(part))))
	}
	days := float64(len(blocks)) * blockHours / 24
	limit = max(limit, blocks[len(blocks)-1]*(1.1+1/days))
	return min(mostTimes*sure, max(sure, limit))
}

// leastSlack is, for each kind of day and bin, the slack that the tolerance gives, in spreads.
func (m *Model) leastSlack() (out [dayKinds][]float32) {
	if m.Measure.Counted() {
		return out
	}
	for k := range out {
		out[k] = make([]float32, len(m.Middle[k]))
		for b := range out[k] {
			expected := m.Scale.from(float64(m.Middle[k][b]) + m.Level)
			out[k][b] = float32(tolerated * m.Scale.worse(expected, m.tolerances.Of(m.Measure, expected)) / float64(m.Spread[k][b]))
		}
	}
	return out
}

// silent reports whether a reading surely speaks for no detector.
func (m *Model) silent(f *fitter, i int, least [dayKinds][]float32) bool {
	if m.Gap > 0 {
		return false
	}
	b, k := int(f.c.index[i])%f.c.bins, working
	if f.s.moments[i].off {
		k = offDay
	}
	return f.z[i]-max(f.slack[i], least[k][b]) < m.density.speaks
}

// evidence is that of a reading that the model was made from.
func (m *Model) evidence(f *fitter, i int, v float64, least [dayKinds][]float32) (e [Detectors]float32) {
	if m.Measure.Counted() {
		d, b := int(f.c.index[i])/f.c.bins, int(f.c.index[i])%f.c.bins
		k := f.c.days[d].kind()
		expected := max(0, float64(m.Middle[k][b])+f.foretold(d, b))
		e, _ = m.counts.weigh(int(math.Round(v*float64(f.s.n[i]))), int(f.s.n[i]), expected+m.Measure.allowed(f.foretold(d, b)-f.predicted(d), float64(m.Step[k][b]), float64(m.Slack[k][b]), float64(m.Top[k][b]))-m.Base)
		return e
	}
	b, k := int(f.c.index[i])%f.c.bins, working
	if f.s.moments[i].off {
		k = offDay
	}
	spread := float64(m.Spread[k][b])
	e, _ = m.density.weigh(float64(f.z[i]), float64(max(f.slack[i], least[k][b])), m.Gap/spread)
	return e
}
