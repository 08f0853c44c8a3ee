package guard

import (
	"math"
	"slices"

	"woodlark.example/core/baseline"
)

// remembered is how many of the last readings are kept to date a change back.
const remembered = 96

// sample is one reading of one measure, held against what was normal.
type sample struct {
	at, end    int64 // unix seconds
	value      float32
	shift      float32 // by how much it was worse than expected, in the measure's unit
	z          float32
	expected   float32
	tolerance  float32
	normal     float32
	sent, lost int32
	evidence   [baseline.Detectors]float32
}

// track follows one measure of one path.
type track struct {
	sum   [baseline.Detectors]float64
	since [baseline.Detectors]int64 // when the sum left zero
	past  []sample                  // the last ones, oldest first

	gap       int64 // that lies before the first of them; 0 when none does
	minute    minute
	following baseline.Following
}

// minute is what came of the minute of the last reading, of which there may be several: they tell
// of one and the same minute, so that together they count as little more than one.
type minute struct {
	at     int64
	before [baseline.Detectors]float64 // the sums, without it
	sum    [baseline.Detectors]float64 // of the evidence of its readings
	n      float64
}

// suspects reports whether there is some evidence already.
func (t *track) suspects(limits [baseline.Detectors]float64) bool {
	for k, sum := range t.sum {
		if sum > limits[k]/3 {
			return true
		}
	}
	return false
}

// looksWrong reports whether the last reading was off by as much as is worth caring about, and is
// some evidence: one that is far off suffices.
func (t *track) looksWrong(limits [baseline.Detectors]float64) bool {
	const part = 4.5
	if len(t.past) == 0 {
		return false
	}
	if last := t.past[len(t.past)-1]; last.shift < last.tolerance {
		return false
	}
	some := false
	for k, sum := range t.sum {
		if sum >= limits[k] {
			return false // there is no doubt: time is what it takes
		}
		some = some || sum > limits[k]/part
	}
	return some
}

// reset begins anew after a gap in measuring that began at a time.
func (t *track) reset(gap int64) {
	t.sum = [baseline.Detectors]float64{}
	t.past = t.past[:0]
	t.gap = gap
}

func (t *track) forget() { t.sum, t.minute = [baseline.Detectors]float64{}, minute{} }

func (t *track) add(s sample, limits [baseline.Detectors]float64, calm bool) {
	n := len(t.past)
	if n == 0 || t.minute.n == 0 || t.minute.at != s.at || t.past[n-1].at != s.at {
		if n == remembered {
			copy(t.past, t.past[remembered/4:])
			t.past = t.past[:remembered-remembered/4]
			t.gap = 0
		}
		t.past = append(t.past, s)
		t.minute = minute{at: s.at, before: t.sum, sum: [baseline.Detectors]float64{}}
		for k := range t.sum {
			if t.sum[k] <= 0 {
				t.since[k] = s.at
			}
		}
	} else {
		t.past[n-1] = t.past[n-1].with(s, float32(t.minute.n))
	}
	m := &t.minute
	m.n++
	most := 1.0
	if calm {
		most = calmMinute
	}
	for k := range t.sum {
		m.sum[k] += float64(s.evidence[k])
		t.past[len(t.past)-1].evidence[k] = float32(m.sum[k] / m.n * min(m.n, most))
		// It must not take for ever to cool down.
		t.sum[k] = min(max(0, m.before[k]+float64(t.past[len(t.past)-1].evidence[k])), 2*limits[k])
	}
}

// calmMinute is as how many readings those of one minute count on a path whose past has no
// moments of its own; where it has, they count as one.
const calmMinute = 2.5

// with is a sample of n readings with one more of the same minute.
func (s sample) with(o sample, n float32) sample {
	mean := func(a, b float32) float32 { return (a*n + b) / (n + 1) }
	s.value, s.shift, s.z, s.normal = mean(s.value, o.value), mean(s.shift, o.shift), mean(s.z, o.z), mean(s.normal, o.normal)
	s.end, s.sent, s.lost = max(s.end, o.end), s.sent+o.sent, s.lost+o.lost
	return s
}

// from is the index of the first remembered sample not before a time.
func (t *track) from(at int64) int {
	n, _ := slices.BinarySearchFunc(t.past, at, func(s sample, at int64) int {
		switch {
		case s.at < at:
			return -1
		case s.at > at:
			return 1
		}
		return 0
	})
	return n
}

// firing is the detector whose evidence suffices by most; ok is false when none does. ease
// lowers what suffices.
func (t *track) firing(limits [baseline.Detectors]float64, strict, ease float64) (detector int, ok bool) {
	best := 1.0
	for k, sum := range t.sum {
		limit := limits[k] * strict * ease
		if r := sum / limit; r >= best {
			best, detector, ok = r, k, true
		}
	}
	return detector, ok
}

// worth reports whether what came since a time is worth caring about.
func (t *track) worth(m baseline.Measure, detector int, since int64) bool {
	list := t.past[t.from(since):]
	if len(list) == 0 {
		return false
	}
	var tolerance float64
	shifts := make([]float64, len(list))
	beyond := 0
	for i, s := range list {
		shifts[i] = float64(s.shift)
		tolerance += float64(s.tolerance) / float64(len(list))
		if s.shift >= s.tolerance {
			beyond++
		}
	}
	switch {
	case m.Counted():
		var lost, sent, expected float64
		for _, s := range list {
			lost += float64(s.lost)
			sent += float64(s.sent)
			expected += float64(s.expected) * float64(s.sent)
		}
		return (lost-expected)/max(sent, 1) >= tolerance && beyond >= 2
	case detector == ragged:
		return beyond >= 3 && mean(shifts) >= tolerance/3
	default:
		slices.Sort(shifts)
		return middle(shifts) >= tolerance
	}
}

// The detectors, by their numbers in core/baseline.
const (
	small = iota
	large
	ragged
)

func mean(list []float64) (v float64) {
	for _, x := range list {
		v += x / float64(len(list))
	}
	return v
}

// middle of sorted values.
func middle(sorted []float64) float64 {
	n := len(sorted)
	if n == 0 {
		return 0
	}
	return (sorted[(n-1)/2] + sorted[n/2]) / 2
}

// began dates a change back: the split of the last readings into normal ones and worse ones
// that explains them best. It returns its time, and between which times it may as well be.
func (t *track) began(detector int) (at, low, high int64) {
	first := t.from(t.since[detector])
	list := t.past
	if first >= len(list) || t.since[detector] < list[0].at {
		return t.since[detector], t.since[detector], t.since[detector]
	}
	// Where the sum left zero is the likeliest start by the detector's own notion; by how bad it
	// really is, the start may be told more sharply.
	var zs []float64
	for _, s := range list[max(first, len(list)-8):] {
		zs = append(zs, float64(s.z))
	}
	slices.Sort(zs)
	center := middle(zs)
	from := max(0, first-10)
	if detector == ragged {
		from = first
	}
	best, bestAt := math.Inf(-1), len(list)-1
	gains := make([]float64, len(list))
	sum := 0.0
	for i := len(list) - 1; i >= from; i-- {
		sum += t.gain(list[i], center, detector)
		gains[i] = sum
		if sum > best {
			best, bestAt = sum, i
		}
	}
	lowAt, highAt := bestAt, bestAt
	for i := from; i < len(list); i++ {
		if gains[i] > best-2 {
			lowAt, highAt = min(lowAt, i), max(highAt, i)
		}
	}
	low = list[lowAt].at
	switch {
	case lowAt > 0:
		low = max(list[lowAt-1].at, low-600)
	case t.gap > 0:
		low = t.gap // it may have begun while nobody looked
	}
	return list[bestAt].at, low, list[highAt].end
}

// gain is how much better a reading fits what the path came to than what is normal.
func (t *track) gain(s sample, center float64, detector int) float64 {
	if detector == ragged || center < 1 {
		return float64(s.evidence[detector])
	}
	return max(-5, min(5, likely(float64(s.z), center, max(1, center/6))-float64(s.normal)))
}

// likely is the logarithm of Student's t with two degrees of freedom around a centre.
func likely(z, center, spread float64) float64 {
	x := (z - center) / spread
	return math.Log(0.354/spread) - 1.5*math.Log1p(x*x/2)
}
