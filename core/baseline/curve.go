package baseline

import "math"

// Kinds of days.
const (
	working  = 0
	offDay   = 1
	dayKinds = 2
)

// shape is what is normal by the time of the day, in the scale of a measure, for working
// days and for days off.
type shape struct {
	middle  [dayKinds][]float64
	spread  [dayKinds][]float64 // of readings around it
	slack   [dayKinds][]float64 // by how much a day may lie above it, and be no other than days are
	step    [dayKinds][]float64 // by how much it may lie above what the hour before foretold
	top     [dayKinds][]float64 // by how much the worst day that was no episode lay above it
	seen    [dayKinds][]float64 // on how many days
	level   float64             // by how much the next day is expected above the curves
	alike   bool                // days off are as working days are
	swing   float64             // the highest of the curves above the lowest
	dayWide float64             // from day to day
}

// fitter holds what the steps of fitting share.
type fitter struct {
	s       *series
	c       *cells
	noise   float64     // of a reading
	gap     float64     // of the upper level above the lower; 0 where there is one level only
	upper   [][]bool    // the cells at the upper level
	pred    []float64   // of each day, by how much it was expected above the curves
	ahead   [][]float64 // of each cell, by how much it was expected beyond that, by the hour before
	drift   drift
	trusted bool
	z       []float32 // of each reading, by how many spreads it lies above what was expected
	slack   []float32 // of each reading, in spreads
}

// middleOf is a cell's middle at the lower level.
func (f *fitter) middleOf(d, b int) float64 {
	v := f.c.middle[d][b]
	if f.upper != nil && f.upper[d][b] {
		v -= f.gap
	}
	return v
}

// kindOf is the kind of a day.
func (d day) kind() int {
	if d.off {
		return offDay
	}
	return working
}

// sampling is the variance that a cell's middle has by the noise of its readings.
func (f *fitter) sampling(count float64) float64 {
	return 1.5 * f.noise * f.noise / max(count, 1)
}

// raw is the middle of each bin over the days that take selects, and on how many they rest.
func (f *fitter) raw(take func(day) bool) (curve, days []float64) {
	curve, days = make([]float64, f.c.bins), make([]float64, f.c.bins)
	var values, weights []float64
	for b := range curve {
		values, weights = values[:0], weights[:0]
		var count float64
		for d, x := range f.c.days {
			if take(x) && f.c.count[d][b] > 0 {
				values = append(values, f.middleOf(d, b)-f.predicted(d))
				weights = append(weights, f.c.weight[d][b]*min(1, f.c.count[d][b]/2))
				count += f.c.count[d][b]
				days[b]++
			}
		}
		curve[b] = math.NaN()
		if len(values) > 0 {
			curve[b] = robustMean(values, weights, math.Sqrt(f.sampling(count/float64(len(values)))))
		}
	}
	return curve, days
}

// foretold is by how much a cell was expected above the curves.
func (f *fitter) foretold(d, b int) float64 {
	if f.ahead == nil {
		return f.predicted(d)
	}
	return f.predicted(d) + f.ahead[d][b]
}

func (f *fitter) predicted(d int) float64 {
	if f.pred == nil {
		return 0
	}
	return f.pred[d]
}

// curves fits the middles. A curve is drawn in towards the one of all days, and that one
// towards a flat line, as far as what it shows may be chance.
func (f *fitter) curves() *shape {
	sh := &shape{}
	pooled, _ := f.raw(func(day) bool { return true })
	var own [dayKinds][]float64
	for k := range dayKinds {
		own[k], sh.seen[k] = f.raw(func(d day) bool { return d.kind() == k })
		sh.seen[k] = least(sh.seen[k])
	}
	known := make([]float64, 0, len(pooled))
	for _, v := range pooled {
		if !math.IsNaN(v) {
			known = append(known, v)
		}
	}
	level := median(known)
	days := f.dayVariance(pooled, pooled)
	n := float64(len(f.c.days))
	flat := chance(pooled, constant(level, len(pooled)), days/n)
	if len(f.c.days) < 2 {
		flat = 0.5
	}
	pooled = smooth(pooled, 1)
	fillGaps(pooled, level)
	for b := range pooled {
		pooled[b] = level + (1-flat)*(pooled[b]-level)
	}
	for k := range dayKinds {
		sh.middle[k] = pooled
	}
	if count(own[working]) > 0 && count(own[offDay]) > 0 {
		nw, no := most(sh.seen[working]), most(sh.seen[offDay])
		if nw > 1 && no > 1 {
			days = f.dayVariance(own[working], own[offDay]) // what the kinds differ by is no difference of days
		}
		same := chance(own[working], own[offDay], days*(1/max(nw, 1)+1/max(no, 1)))
		sh.alike = same > 0.7 && no >= 2
		for k := range dayKinds {
			curve := smooth(own[k], 1)
			fillGaps(curve, level)
			for b := range curve {
				curve[b] = same*pooled[b] + (1-same)*curve[b]
			}
			sh.middle[k] = curve
		}
	}
	lowest, highest := math.Inf(1), math.Inf(-1)
	for k := range dayKinds {
		for b, v := range sh.middle[k] {
			if sh.seen[k][b] > 0 {
				lowest, highest = min(lowest, v), max(highest, v)
			}
		}
	}
	sh.swing = max(0, highest-lowest)
	return sh
}

// least is the least of a bin and its neighbours: what was seen at 3 is not known of half past.
func least(days []float64) []float64 {
	out := make([]float64, len(days))
	for b := range days {
		out[b] = days[b]
		around(len(days), b, 1, func(k, _ int) { out[b] = min(out[b], days[k]) })
	}
	return out
}

func constant(v float64, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = v
	}
	return out
}

func count(curve []float64) (n int) {
	for _, v := range curve {
		if !math.IsNaN(v) {
			n++
		}
	}
	return n
}

func most(list []float64) (v float64) {
	for _, x := range list {
		v = max(v, x)
	}
	return v
}

// chance is the share of what two curves differ by that the noise of their bins explains.
func chance(a, b []float64, noise float64) float64 {
	var sum, n float64
	for i := range a {
		if d := a[i] - b[i]; !math.IsNaN(d) {
			sum += d * d
			n++
		}
	}
	if sum == 0 {
		return 1
	}
	return min(1, noise/(sum/n))
}

// dayVariance is the variance of the cells of one bin from day to day, around a curve of
// working days and one of days off.
func (f *fitter) dayVariance(curves ...[]float64) float64 {
	var sum, n float64
	for d, x := range f.c.days {
		curve := curves[x.kind()]
		for b := range curve {
			if f.c.count[d][b] > 0 && !math.IsNaN(curve[b]) {
				w := f.c.weight[d][b]
				v := f.middleOf(d, b) - f.predicted(d) - curve[b]
				sum += w * v * v
				n += w
			}
		}
	}
	days := float64(len(f.c.days))
	if n == 0 || days < 2 {
		return 0
	}
	return sum / n * days / (days - 1)
}

// levels finds how the whole of each day lies above the curves, and how well that foretells
// the next day; the level follows the last days as far as it does.
func (f *fitter) levels(sh *shape) {
	above := make([]float64, len(f.c.days))
	known := make([]bool, len(f.c.days))
	for d, x := range f.c.days {
		var values, weights []float64
		for b := range f.c.bins {
			if f.c.count[d][b] > 0 {
				values = append(values, f.middleOf(d, b)-sh.middle[x.kind()][b])
				weights = append(weights, f.c.weight[d][b])
			}
		}
		var usual float64
		for _, w := range weights {
			usual += w / float64(len(weights))
		}
		// A day that was an episode for most says nothing of the next.
		if len(values) > f.c.bins/4 && usual > 0.5 {
			above[d], known[d] = weightedMedian(values, weights), true
		}
	}
	best, gain := math.Inf(1), 0.0
	for _, g := range []float64{0, 0.25, 0.5, 0.8} {
		_, wrong := foretell(above, known, g)
		if wrong *= 1 + 0.1*g; wrong < best {
			best, gain = wrong, g
		}
	}
	if len(above) < 4 {
		gain = 0.25
	}
	f.pred, _ = foretell(above, known, gain)
	sh.level = f.pred[len(above)]
	f.pred = f.pred[:len(above)]
}

// foretell gives for each day, and for the one after the last, what a running mean of those
// before it says, and the mean square by which it was wrong.
func foretell(above []float64, known []bool, gain float64) (list []float64, wrong float64) {
	list = make([]float64, len(above)+1)
	var n float64
	for d, v := range above {
		list[d+1] = list[d]
		if !known[d] {
			continue
		}
		if d > 0 {
			wrong += (v - list[d]) * (v - list[d])
			n++
		}
		list[d+1] = list[d] + gain*(v-list[d])
	}
	return list, wrong / max(n, 1)
}

// strict is how many standard deviations days may lie apart, for how many were seen: few days
// say little of how far days lie apart.
func strict(days float64) float64 { return 2.9 + 6/max(days, 1) }

// days is on how many days a bin was seen that say how far such days lie apart.
func (sh *shape) days(k, b int) float64 {
	if sh.alike {
		return sh.seen[working][b] + sh.seen[offDay][b]
	}
	return sh.seen[k][b]
}

// trustedDays is as how many days what somebody says is normal counts at the least.
const trustedDays = 7

// beyondSeen is by how much further off than it was on any day that was no episode a bin may
// be: what was there once at that hour may be so weekly.
const beyondSeen = 1.3

// slacks finds by how much each bin differs from day to day beyond the noise of its
// readings: from the curve, and from what was foretold. prior is what is thought of it before
// anything was seen, as a standard deviation.
func (f *fitter) slacks(sh *shape, prior func(k, b int) float64) {
	sh.slack, sh.top = f.slackFrom(sh, prior, func(d, _ int) float64 { return f.pred[d] })
	f.follow(sh)
	sh.step, _ = f.slackFrom(sh, prior, f.foretold)
	for k := range dayKinds {
		for b := range sh.step[k] {
			sh.step[k][b] = min(sh.step[k][b], sh.slack[k][b])
		}
	}
}

// slackFrom is the slack, and by how much the worst day that was no episode lay off.
func (f *fitter) slackFrom(sh *shape, prior func(k, b int) float64, foretold func(d, b int) float64) (slack, furthest [dayKinds][]float64) {
	var apart [dayKinds]scatter
	for k := range dayKinds {
		apart[k] = f.scatter(sh, k, foretold)
	}
	total := float64(len(f.c.days))
	if f.trusted {
		total = max(total, trustedDays)
	}
	for k := range dayKinds {
		slack[k] = make([]float64, f.c.bins)
		for b := range slack[k] {
			days := sh.days(k, b)
			if f.trusted {
				days = max(days, trustedDays)
			}
			v := apart[k].variance[b]
			if math.IsNaN(v) {
				v = max(apart[working].usual, apart[offDay].usual)
			}
			v = (apart[k].usual + days*max(0, v)) / (1 + days)
			p := prior(k, b)
			w := 1 / max(total*total, 0.25)
			v = (w*p*p + days*v) / (w + days)
			slack[k][b] = max(strict(days)*math.Sqrt(v*(1+1/max(days, 1))), beyondSeen*apart[k].furthest[b])
		}
		reach := max(1, onset/f.c.length)
		slack[k], furthest[k] = early(sh.middle[k], slack[k], reach), early(sh.middle[k], apart[k].furthest, reach)
	}
	return slack, furthest
}

// scatter is how far days of a kind lie apart, by the bin.
type scatter struct {
	variance []float64 // beyond the noise of readings; NaN where no day was seen
	usual    float64   // the median of that
	furthest []float64 // by how much the worst day that was no episode lay off, beyond chance
}

const (
	// byChance is how many standard deviations of its noise a cell may lie off by chance, and
	// bySeldom a cell of what is seldom: a few probes of a path that hardly loses any.
	byChance = 2.0
	bySeldom = 3.5
)

func (f *fitter) scatter(sh *shape, k int, foretold func(d, b int) float64) scatter {
	spells, chances := f.s.measure.Counted(), byChance
	if spells && meanOf(f.s.v) < lossyFrom {
		spells, chances = false, bySeldom
	}
	out := scatter{variance: make([]float64, f.c.bins), furthest: make([]float64, f.c.bins)}
	weight, noises := make([]float64, f.c.bins), make([]float64, f.c.bins)
	for d, x := range f.c.days {
		if x.kind() != k && !sh.alike {
			continue
		}
		for b := range f.c.bins {
			if f.c.count[d][b] == 0 {
				continue
			}
			days := max(sh.days(k, b), 1)
			above := f.middleOf(d, b) - sh.middle[x.kind()][b]
			v := above - foretold(d, b)
			w, noise := f.c.weight[d][b], f.sampling(f.c.count[d][b])
			out.variance[b] += w * (v*v*days/max(days-1, 1) - noise)
			noises[b] += w * noise
			weight[b] += w
			if w > 0.5 {
				// What begins in the middle of a bin was half foretold to the next one; another day it
				// may come all at once.
				out.furthest[b] = max(out.furthest[b], above-f.lowest(d, b, foretold)-chances*math.Sqrt(noise))
			}
		}
	}
	known := make([]float64, 0, f.c.bins)
	for b, w := range weight {
		if w == 0 {
			out.variance[b], noises[b] = math.NaN(), math.NaN()
			continue
		}
		out.variance[b] /= w
		noises[b] /= w
		known = append(known, out.variance[b])
	}
	out.usual = max(0, median(known))
	out.variance = smooth(out.variance, 2)
	if spells { // of which a fortnight need not hold the worst
		return out
	}
	// What the noise of a few cells may make of the variance by itself is none of the days'.
	for b, noise := range smooth(noises, 2) {
		out.variance[b] -= noise * math.Sqrt(2/max(5*sh.days(k, b), 1))
	}
	return out
}

// onset is within how many minutes what begins may have been foretold in part.
const onset = 30

// lowest is the least that was foretold of a cell and of those shortly before.
func (f *fitter) lowest(d, b int, foretold func(d, b int) float64) float64 {
	least := foretold(d, b)
	for k := 1; k <= max(1, onset/f.c.length) && b-k >= 0; k++ {
		if f.c.count[d][b-k] > 0 {
			least = min(least, foretold(d, b-k))
		}
	}
	return least
}

// early lets each bin be as its neighbours may be: nobody's day begins on the minute.
func early(middle, slack []float64, reach int) []float64 {
	out := make([]float64, len(slack))
	for b := range slack {
		top := middle[b] + slack[b]
		around(len(slack), b, reach, func(i, _ int) { top = max(top, middle[i]+slack[i]) })
		out[b] = top - middle[b]
	}
	return out
}
