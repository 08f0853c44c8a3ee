package baseline

import "math"

// drift is how a path goes on from one bin of the day to the next: how fast a running mean
// of what it lies above the curves follows, and how much of that stays.
type drift struct {
	Gain float64 `json:"gain"`
	Stay float64 `json:"stay"`
}

// follow finds the drift that foretells best, and what it would have foretold of each cell.
// No more is foretold than days lie apart, so that a change that stays is not got used to.
func (f *fitter) follow(sh *shape) {
	best, least := drift{}, math.Inf(1)
	for _, gain := range []float64{0.3, 0.6, 1} {
		for _, stay := range []float64{0, 0.5, 0.8, 0.95} {
			d := drift{gain, stay}
			if stay == 0 && gain < 1 {
				continue
			}
			if _, wrong := f.goOn(sh, d); wrong < least*0.98 {
				best, least = d, wrong
			}
		}
	}
	f.drift = best
	f.ahead, _ = f.goOn(sh, best)
}

// goOn is what a drift would have foretold of each cell, and the mean square by which it was
// wrong.
func (f *fitter) goOn(sh *shape, x drift) (ahead [][]float64, wrong float64) {
	ahead = make([][]float64, len(f.c.days))
	now, n, idle := 0.0, 0.0, 0
	for d, day := range f.c.days {
		ahead[d] = make([]float64, f.c.bins)
		k := day.kind()
		for b := range f.c.bins {
			ahead[d][b] = x.Stay * now
			if f.c.count[d][b] == 0 || f.c.weight[d][b] < 0.5 {
				if idle++; idle*f.c.length >= idleMinutes {
					now = 0
				}
				continue
			}
			idle = 0
			above := f.middleOf(d, b) - sh.middle[k][b] - f.pred[d]
			// One odd cell is not all that counts.
			off := min(sh.slack[k][b], math.Abs(above-ahead[d][b]))
			wrong += off * off
			n++
			now = x.next(now, above, sh.slack[k][b])
		}
	}
	return ahead, wrong / max(n, 1)
}

func (x drift) next(now, above, slack float64) float64 {
	now += x.Gain * (above - now)
	return min(slack, max(-slack, now))
}

// idleMinutes without a reading, it is not known any more how a path goes.
const idleMinutes = 120

// Following is how far one measure of one path lies above its curves now, as far as that is
// no further than days do. The zero value is at the curve. While Hold is set nothing is learnt.
type Following struct {
	Hold bool

	model  *Model
	bin    int64 // that is being gathered, in bins since 1970
	now    float64
	values []float64
	lost   float64
	sent   float64
	kept   bool // nothing was held in this bin
}

// take moves on to the bin of a time and returns what is foretold of it.
func (f *Following) take(m *Model, unix int64, t moment) float64 {
	bin := unix / int64(60*m.Minutes)
	if f.model != m {
		f.moveTo(m, t)
		f.bin = bin
	}
	if bin != f.bin {
		switch {
		case (bin-f.bin)*int64(m.Minutes) > idleMinutes:
			f.now = 0
		case len(f.values) > 0 && f.kept:
			p := m.place(t) // the bin before is near enough
			above := median(f.values)
			if m.Measure.Counted() {
				above = f.lost/max(f.sent, 1) - (p.on(m.Middle[p.kind]) + m.Level)
			}
			f.now = m.Drift.next(f.now, above, p.above(m.Middle[p.kind], m.Slack[p.kind]))
		}
		f.bin, f.values, f.lost, f.sent, f.kept = bin, f.values[:0], 0, 0, true
	}
	return m.Drift.Stay * f.now
}

func (f *Following) add(above float64, lost, sent int) {
	if f.Hold {
		f.kept = false
		return
	}
	if len(f.values) < 64 {
		f.values = append(f.values, above)
	}
	f.lost += float64(lost)
	f.sent += float64(sent)
}

// moveTo takes what is known over to another model.
func (f *Following) moveTo(m *Model, t moment) {
	old := f.model
	f.model = m
	f.values = f.values[:0]
	if old == nil || f.now == 0 {
		return
	}
	p, q := old.place(t), m.place(t)
	if m.Measure.Counted() {
		slack := q.above(m.Middle[q.kind], m.Slack[q.kind])
		f.now = min(slack, max(-slack, f.now))
		return
	}
	before := old.Scale.from(p.on(old.Middle[p.kind]) + old.Level + f.now)
	slack := q.above(m.Middle[q.kind], m.Slack[q.kind])
	f.now = min(slack, max(-slack, m.Scale.to(before)-q.on(m.Middle[q.kind])-m.Level))
}

// Forget takes the measure to be at its curve: what it was above it lately turned out to be
// something else.
func (f *Following) Forget() { f.now, f.values, f.kept = 0, f.values[:0], false }
