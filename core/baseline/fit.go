package baseline

import (
	"math"
	"slices"
)

// fit models one measure of a history; nil when there is too little of it.
func fit(m Measure, h *History, moments []moment, weights []float64, t Training) *Model {
	tolerances := t.Tolerances
	s := take(m, h, moments, weights, t.Shifts)
	if len(s.v) < MinReadings {
		return nil
	}
	days := 1
	for i := 1; i < len(s.moments); i++ {
		if s.moments[i].day > s.moments[i-1].day {
			days++
		}
	}
	model := &Model{Measure: m, Readings: len(s.v), tolerances: tolerances, Minutes: binsFor(len(s.v), days)}
	f := &fitter{s: s, trusted: t.Trusted}
	model.Trusted = t.Trusted
	if !m.Counted() {
		model.Scale = scaleOf(m, s.v, s.jumps())
		for i, v := range s.v {
			s.y[i] = model.Scale.to(v)
		}
	}
	f.c = s.lay(model.Minutes)
	model.Days, model.First = len(f.c.days), f.c.days[0].number
	f.noise = f.within()
	sh := f.curves()
	f.levels(sh)
	if !m.Counted() && (f.split(nil) || f.split(sh)) {
		model.Gap = f.gap
		f.pred = nil
		sh = f.curves()
		f.levels(sh)
	}
	if slices.ContainsFunc(f.pred, func(v float64) bool { return v != 0 }) {
		sh2 := f.curves() // with the days' own levels taken out
		sh2.level = sh.level
		sh = sh2
	}
	f.slacks(sh, func(k, b int) float64 {
		if m.Counted() {
			return 0.01
		}
		expected := model.Scale.from(sh.middle[k][b])
		return model.Scale.worse(expected, max(0.15*math.Abs(expected), 1.5*tolerances.Of(m, expected))) + sh.swing/2
	})
	if !m.Counted() {
		f.cap(sh, model)
	}
	f.spreads(sh, model)
	for k := range dayKinds {
		model.Middle[k], model.Spread[k] = narrow(sh.middle[k]), narrow(sh.spread[k])
		model.Slack[k], model.Step[k], model.Top[k], model.Seen[k] = narrow(sh.slack[k]), narrow(sh.step[k]), narrow(sh.top[k]), narrow(sh.seen[k])
	}
	model.Level, model.Drift = sh.level, f.drift
	model.Weekly = f.weeklies(model)
	if m.Counted() {
		f.tally(model)
	} else {
		f.deviations(model, sh)
	}
	model.ready()
	model.calibrate(f)
	return model
}

// beyondWorst is how far above the quiet hours a path may be, in its own unit, beside how far
// it was at that hour on its worst day.
const beyondWorst = 1.6

// unseenTimes is how many times what is expected a path may take, at the most, at an hour that
// was seen on less than three days.
const unseenTimes = 2.0

// cap holds the slack of hours that differ much from day to day to what was seen: twice as bad
// as on the worst day is no habit.
func (f *fitter) cap(sh *shape, m *Model) {
	quiet := math.Inf(1)
	for k := range dayKinds {
		for b, y := range sh.middle[k] {
			if sh.seen[k][b] > 0 {
				quiet = min(quiet, y)
			}
		}
	}
	if math.IsInf(quiet, 1) {
		return
	}
	low := m.Scale.from(quiet + sh.level)
	tolerance := m.tolerances.Of(m.Measure, low)
	for k := range dayKinds {
		worst := make([]float64, f.c.bins)
		for b := range worst {
			worst[b] = math.Inf(-1)
			for d, x := range f.c.days {
				if x.kind() == k && f.c.count[d][b] > 0 {
					worst[b] = max(worst[b], f.c.middle[d][b])
				}
			}
		}
		for b := range worst {
			top := worst[b]
			around(f.c.bins, b, max(1, 30/f.c.length), func(i, _ int) { top = max(top, worst[i]) })
			if sh.seen[k][b] < 3 {
				// In a scale of logarithms, what is not known of a day would know no bounds.
				expected := m.Scale.from(sh.middle[k][b] + sh.level)
				most := m.Scale.worse(expected, max((unseenTimes-1)*math.Abs(expected), 10*m.tolerances.Of(m.Measure, expected))) + sh.swing
				sh.slack[k][b] = min(sh.slack[k][b], most)
				sh.step[k][b] = min(sh.step[k][b], most)
				continue
			}
			off := math.Abs(m.Scale.from(top) - low)
			if off < 2*tolerance {
				continue
			}
			most := m.Scale.worse(low, beyondWorst*off) + quiet - sh.middle[k][b]
			sh.slack[k][b] = min(sh.slack[k][b], max(0, most))
			sh.step[k][b] = min(sh.step[k][b], max(0, most))
		}
	}
}

func take(m Measure, h *History, moments []moment, weights []float64, shifts []Shift) *series {
	n := h.Len()
	s := &series{measure: m, at: make([]int64, 0, n), moments: make([]moment, 0, n), v: make([]float64, 0, n), n: make([]int32, 0, n), weight: make([]float64, 0, n)}
	for i := range h.at {
		v, ok := h.value(m, i)
		if !ok || weights[i] == 0 || m.Counted() && h.sent[i] > 0 && h.answered[i] == 0 {
			continue
		}
		v, ok = moved(m, v, h.at[i], shifts)
		if !ok {
			continue
		}
		s.at = append(s.at, h.at[i])
		s.moments = append(s.moments, moments[i])
		s.v = append(s.v, v)
		s.n = append(s.n, max(1, h.sentOf(m, i)))
		s.weight = append(s.weight, weights[i])
	}
	s.y = make([]float64, len(s.v))
	if m.Counted() {
		copy(s.y, s.v)
	}
	return s
}

// moved is what a value of a time would be at the level of today; false where that cannot be
// said, because a ratio does not shift.
func moved(m Measure, v float64, at int64, shifts []Shift) (float64, bool) {
	for _, x := range shifts {
		if x.Measure != m {
			continue
		}
		inside := at >= x.From.Unix() && (x.To.IsZero() || at < x.To.Unix())
		over := !x.To.IsZero()
		if inside == !over {
			continue
		}
		// Before a level that holds, or in one that is over.
		if m.Counted() {
			return v, false
		}
		if over {
			v -= x.By
		} else {
			v += x.By
		}
	}
	return v, true
}

// jumps is the spread from one reading to the next, as that of single readings.
func (s *series) jumps() float64 {
	list := make([]float64, 0, len(s.v))
	step := 1 + len(s.v)/4000
	for i := 1; i < len(s.v); i += step {
		list = append(list, math.Abs(s.v[i]-s.v[i-1]))
	}
	return madScale * median(list) / math.Sqrt2
}

// within is the spread of readings around the middle of their cell; of a ratio the standard
// deviation, because what matters there is seldom.
func (f *fitter) within() float64 {
	var sum, n float64
	list := make([]float64, 0, len(f.s.y)/4)
	step := 1 + len(f.s.y)/4000
	for i := 0; i < len(f.s.y); i += step {
		d, b := int(f.c.index[i])/f.c.bins, int(f.c.index[i])%f.c.bins
		if f.s.weight[i] < 0.5 {
			continue
		}
		v := f.s.y[i] - f.c.middle[d][b]
		sum += v * v
		n++
		if k := f.c.count[d][b]; k >= 3 {
			list = append(list, math.Abs(v)*math.Sqrt(k/(k-1)))
		}
	}
	if f.s.measure.Counted() {
		return math.Sqrt(sum / max(n, 1))
	}
	if len(list) < MinReadings {
		list = list[:0]
		for i := 1; i < len(f.s.y); i++ {
			list = append(list, math.Abs(f.s.y[i]-f.s.y[i-1])/math.Sqrt2)
		}
	}
	return madScale * median(list)
}

// fold takes the gap between two levels out of a deviation.
func (f *fitter) fold(v float64) float64 {
	switch {
	case f.gap > 0 && v > f.gap/2:
		return v - f.gap
	case f.gap > 0 && v < -f.gap/2:
		return v + f.gap
	}
	return v
}

// spreads finds the spread of readings by the time of the day.
func (f *fitter) spreads(sh *shape, m *Model) {
	pool := f.pool()
	for i, y := range f.s.y {
		if f.s.weight[i] < 0.5 {
			continue
		}
		d, b := int(f.c.index[i])/f.c.bins, int(f.c.index[i])%f.c.bins
		k := f.c.days[d].kind()
		n := f.c.count[d][b]
		v := f.fold(y-f.c.middle[d][b]) * math.Sqrt(n/max(n-1, 1))
		if n < 3 {
			v = f.fold(y - sh.middle[k][b] - f.pred[d])
		}
		pool[k*f.c.bins+b] = append(pool[k*f.c.bins+b], math.Abs(v))
	}
	least := 1e-6
	if !f.s.measure.Counted() {
		least = math.Abs(m.Scale.worse(m.Scale.from(m.Level), kinds[m.Measure].grains))
	}
	all := max(f.noise, least)
	for k := range dayKinds {
		curve := make([]float64, f.c.bins)
		for b := range curve {
			list := pool[k*f.c.bins+b]
			curve[b] = math.NaN()
			if len(list) > 0 {
				w := float64(len(list)) / float64(len(list)+20)
				curve[b] = math.Log(w*max(madScale*median(list), all/4, least) + (1-w)*all)
			}
		}
		curve = smooth(curve, 2)
		fillGaps(curve, math.Log(all))
		for b, v := range curve {
			curve[b] = math.Exp(v)
		}
		sh.spread[k] = curve
	}
}

// pool is room for the readings of each bin, for each kind of day.
func (f *fitter) pool() [][]float64 {
	sizes := make([]int, dayKinds*f.c.bins)
	for d, x := range f.c.days {
		for b, n := range f.c.count[d] {
			sizes[x.kind()*f.c.bins+b] += int(n)
		}
	}
	all := make([]float64, len(f.s.y)+len(sizes))
	pool := make([][]float64, len(sizes))
	for i, n := range sizes {
		n = min(n, len(all)) // an hour that a clock goes through twice is not counted
		pool[i], all = all[:0:n], all[n:]
	}
	return pool
}

// minutes are the model's curves by the minute of the day, for each kind of day.
type minutes [dayKinds][minutesADay]struct{ middle, spread, step, slack, top float32 }

func (m *Model) minutes() *minutes {
	out := &minutes{}
	for k := range out {
		for t := range out[k] {
			p := m.place(moment{minute: t, off: k == offDay})
			x := &out[k][t]
			x.middle, x.spread = float32(p.on(m.Middle[k])), float32(p.on(m.Spread[k]))
			x.step, x.slack, x.top = float32(p.above(m.Middle[k], m.Step[k])), float32(p.above(m.Middle[k], m.Slack[k])), float32(p.above(m.Middle[k], m.Top[k]))
		}
	}
	return out
}

// deviations finds by how many spreads readings lie above what was expected of their day, and
// counts how they lie around the middle of it, as far as that lies no further off than days do.
func (f *fitter) deviations(m *Model, sh *shape) {
	var h histogram
	by := m.minutes()
	f.z, f.slack = make([]float32, len(f.s.y)), make([]float32, len(f.s.y))
	few := make([]float64, 0, 4200)
	step := 1 + len(f.s.y)/4000
	for i, y := range f.s.y {
		d, b := int(f.c.index[i])/f.c.bins, int(f.c.index[i])%f.c.bins
		k := f.c.days[d].kind()
		x := &by[k][f.s.moments[i].minute]
		spread, slack := float64(x.spread), float64(x.step)
		z := (y - float64(x.middle) - f.foretold(d, b)) / spread
		f.z[i], f.slack[i] = float32(z), float32(m.Measure.allowed(f.foretold(d, b)-f.predicted(d), slack, float64(x.slack), float64(x.top))/spread)
		if f.s.weight[i] < 0.5 {
			continue
		}
		off := f.middleOf(d, b) - sh.middle[k][b] - f.foretold(d, b)
		z = f.fold(z*spread) / spread
		z -= min(slack, max(-slack, off)) / spread
		h[gridIndex(z)]++
		if i%step == 0 {
			few = append(few, z)
		}
	}
	slices.Sort(few)
	m.Low, m.High = quantile(few, 0.05), quantile(few, 0.95)
	m.Around = make([]float32, gridSize)
	for i, v := range h {
		m.Around[i] = float32(v)
	}
}

// tally counts how many probes of readings are lost in the hours in which the path loses
// little.
func (f *fitter) tally(m *Model) {
	sizes := make([]float64, 0, len(f.s.n))
	for _, n := range f.s.n {
		sizes = append(sizes, float64(n))
	}
	m.Of = min(latticeMost, int(median(sizes)))
	m.counts = countsOf(make([]float64, len(lattice)), m.Of, 0)
	quiet, all := make([]float64, len(lattice)), make([]float64, len(lattice))
	var few, many, lost, lostAll float64
	for i, v := range f.s.v {
		if f.s.weight[i] < 0.5 {
			continue
		}
		p := m.place(f.s.moments[i])
		step := m.counts.step(int(math.Round(v*float64(f.s.n[i]))), int(f.s.n[i]))
		all[step]++
		many++
		lostAll += v
		if classOf(p.on(m.Middle[p.kind])+p.above(m.Middle[p.kind], m.Step[p.kind])) <= 4 {
			quiet[step]++
			few++
			lost += v
		}
	}
	if few < 0.3*many {
		quiet, few, lost = all, many, lostAll
	}
	m.Base = lost / max(few, 1)
	m.counts = nil
	m.Around = narrow(quiet)
}

func narrow(list []float64) []float32 {
	out := make([]float32, len(list))
	for i, v := range list {
		out[i] = float32(v)
	}
	return out
}
