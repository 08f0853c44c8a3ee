package guard

import (
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

const (
	// silentProbes unanswered in a row, over two readings at least, make a path lost: one that
	// loses half its probes does so once in a million.
	silentProbes = 20
	// pause is how long an episode may be over and still be the same when it comes back.
	pause = 30 * time.Minute
	// together is how far apart measures may get worse and be one matter.
	together = 45 * time.Minute
	// resumes is which part of the usual evidence suffices to say that it is back.
	resumes = 0.4
	// job is how long what a timetable starts goes on at the most: until the hour of the week was
	// seen before, what is shorter may be just that.
	job = 6 * time.Hour
	// gap is how long a path may go without a reading before what was gathered is worth nothing.
	gapReadings = 4
	gapLeast    = 30 * time.Minute
	// recovered is the evidence at which a measure is normal again.
	recovered        = 4.5
	recoveredCounted = 10.0
)

// Judge follows one path. It is not safe for concurrent use.
type Judge struct {
	baseline *baseline.Baseline
	strict   float64
	tracks   map[baseline.Measure]*track
	open     []*matter // what goes on, and what is over for less than half an hour
	episodes int       // so far
	last     baseline.Point
	silent   int // unanswered probes in a row
	quiet    int // readings without any answer in a row
	hushed   int64
	answered bool
	before   baseline.Point // the last reading with an answer
	loaded   time.Time      // end of the last reading beside which load runs went on
	// calm says whether the past has no moments of their own: of what is counted, and of delays.
	calm [2]bool
}

// matter is an episode as it is followed.
type matter struct {
	Episode
	number  int
	measure map[baseline.Measure]*ending
	closed  bool
	back    map[baseline.Measure]*back // former levels, of what became a new one
}

// ending gathers evidence that a measure is normal again.
type ending struct {
	sum     float64
	since   int64
	shift   float64 // by how much the readings of the episode are worse than expected, in the measure's unit
	n       int
	normals int
	told    float64 // the shift that was told last; 0 when none was yet
	// Of a lossy episode: its readings, and those of them that lost nothing; and those since
	// it may be over, which count once it is known that it is not.
	readings, spared   float64
	maybe, maybeSpared float64
	maybeShift         float64
}

// NewJudge returns a judge that has seen nothing yet.
func NewJudge() *Judge { return &Judge{strict: 1, tracks: map[baseline.Measure]*track{}} }

// SetBaseline gives the judge what is normal; nil takes it away.
func (j *Judge) SetBaseline(b *baseline.Baseline) {
	j.baseline, j.calm = b, [2]bool{b != nil, b != nil}
	if b == nil {
		return
	}
	for m := range b.Models {
		if limits := b.Limits(m); limits[large] > 1.01*baseline.Sure[large] || limits[small] > 1.2*baseline.Sure[small] {
			j.calm[0] = false
			j.calm[1] = j.calm[1] && m.Counted()
		}
	}
}

func (j *Judge) isCalm(m baseline.Measure) bool {
	if m.Counted() {
		return j.calm[0]
	}
	return j.calm[1]
}

// SetStrict multiplies the evidence that is asked for.
func (j *Judge) SetStrict(v float64) { j.strict = v }

// Baseline is what the judge holds for normal; nil when it has none.
func (j *Judge) Baseline() *baseline.Baseline { return j.baseline }

// Add judges the next reading and returns what happened. Readings must come in order of time.
func (j *Judge) Add(p baseline.Point) []Change {
	var changes []Change
	if p.Sent == 0 && j.last.Sent > 0 {
		return j.beside(p)
	}
	if !j.last.At.IsZero() {
		j.noteGap(p)
	}
	j.countSilence(p)
	changes = j.judgeSilence(p, changes)
	if !p.Silent() {
		for m := range baseline.Measures() {
			changes = j.judge(baseline.Measure(m), p, changes)
		}
	}
	changes = j.settle(p, changes)
	j.last = p
	if p.Answered > 0 {
		j.before = p
	}
	return changes
}

// Beside judges a reading that lies in the time of another, which comes as well: more probes of
// the same time.
func (j *Judge) Beside(p baseline.Point) (changes []Change) {
	if j.last.Sent == 0 {
		return nil // its own readings come first
	}
	j.countSilence(p)
	changes = j.judgeSilence(p, changes)
	if !p.Silent() {
		for m := range baseline.Measures() {
			changes = j.judge(baseline.Measure(m), p, changes)
		}
	}
	return j.settle(p, changes)
}

// AddLoaded judges a reading beside which load runs went on by whether there was any answer: no load of
// ours silences a path for two readings in a row.
func (j *Judge) AddLoaded(p baseline.Point) (changes []Change) {
	j.loaded = end(p)
	j.countSilence(p)
	if !p.Silent() || j.quiet >= 2 {
		changes = j.judgeSilence(p, changes)
	}
	if p.Answered > 0 {
		j.before = p
	}
	return j.settle(p, changes)
}

// Suspects reports whether there is some evidence that it got worse, which does not suffice yet.
func (j *Judge) Suspects() bool {
	if j.baseline == nil {
		return false
	}
	if j.quiet > 0 && j.answered {
		return j.find(func(m *matter) bool { return m.Kind == Lost && !m.closed }) == nil
	}
	for m, t := range j.tracks {
		if j.baseline.Models[m] != nil && t.looksWrong(j.baseline.Limits(m)) && j.find(func(x *matter) bool { return !x.closed && x.measure[m] != nil }) == nil {
			return true
		}
	}
	return false
}

// beside judges figures that other measurements than the path's own probes gave.
func (j *Judge) beside(p baseline.Point) (changes []Change) {
	for _, m := range baseline.Measures() {
		changes = j.judge(m, p, changes)
	}
	return j.settle(p, changes)
}

func end(p baseline.Point) time.Time { return p.At.Add(p.Span) }

// noteGap lets go of what was gathered before a long gap, and notes it with what goes on.
func (j *Judge) noteGap(p baseline.Point) {
	was := end(j.last)
	gap := p.At.Sub(was)
	if p.At.Before(j.last.At) { // the clock was set back: what was gathered lies in the future
		for _, t := range j.tracks {
			t.reset(p.At.Unix())
		}
		return
	}
	if gap < max(gapLeast, gapReadings*j.last.Span) {
		return
	}
	for _, t := range j.tracks {
		t.reset(was.Unix())
	}
	for _, m := range j.open {
		if m.closed {
			continue
		}
		from := was
		if m.Kind == Lost && j.loaded.After(was) { // whether it answers was known longer
			from = j.loaded
		}
		if p.At.After(from) {
			m.Unmeasured = append(m.Unmeasured, baseline.Interval{From: from, To: p.At})
			for _, e := range m.measure {
				e.sum, e.normals = 0, 0
			}
		}
	}
}

func (j *Judge) countSilence(p baseline.Point) {
	switch {
	case p.Answered > 0:
		j.silent, j.quiet, j.answered = 0, 0, true
	case p.Sent > 0:
		if j.quiet == 0 {
			j.hushed = p.At.Unix()
		}
		j.silent += p.Sent
		j.quiet++
	}
}

// judgeSilence opens and closes lost episodes.
func (j *Judge) judgeSilence(p baseline.Point, changes []Change) []Change {
	m := j.find(func(m *matter) bool { return m.Kind == Lost && !m.closed })
	if m == nil {
		enough := j.silent >= silentProbes && (j.quiet >= 2 || p.Span >= 3*time.Minute)
		if b := j.baseline; b != nil && b.Silence > 0 {
			enough = enough && j.quiet > 2*b.Silence
		}
		if !enough || !j.answered {
			return changes
		}
		from := time.Unix(j.hushed, 0).UTC()
		// The reading before may have lost its last probes to the same.
		if b := j.before; b.Sent > 0 && b.Lost >= 3 && end(b).Sub(from) < time.Second {
			from = end(b).Add(-time.Duration(float64(b.Span) * float64(b.Lost) / float64(b.Sent)))
		}
		x := Excess{Measure: baseline.Loss, From: from, Now: 1, Worst: 1, NowHigh: 1, Readings: j.quiet, Sent: j.silent, Lost: j.silent, Tolerance: 0.005, Evidence: float64(j.silent)}
		if n, ok := j.baseline.At(baseline.Loss, p.At); ok {
			x.Normal, x.Low, x.High = n.Expected, n.Low, n.High
		}
		return append(changes, j.start(Lost, x, from, Doubt{from.Add(-j.before.Span), from.Add(p.Span)}, p))
	}
	if p.Silent() || j.last.Silent() && p.Answered*4 < p.Sent {
		return changes
	}
	at := p.At
	if p.Lost >= 3 {
		at = at.Add(time.Duration(float64(p.Span) * float64(p.Lost) / float64(p.Sent)))
	}
	m.measure[baseline.Loss].since = at.Unix()
	j.over(m, baseline.Loss)
	for _, t := range j.tracks {
		t.forget() // what lies before is another matter
	}
	return changes
}

func (j *Judge) find(is func(*matter) bool) *matter {
	for _, m := range j.open {
		if is(m) {
			return m
		}
	}
	return nil
}

// track is that of a measure.
func (j *Judge) track(m baseline.Measure) *track {
	t := j.tracks[m]
	if t == nil {
		t = &track{}
		j.tracks[m] = t
	}
	return t
}

// sample holds a measure of a reading against what is normal; false where that is not known.
func (j *Judge) sample(m baseline.Measure, t *track, p *baseline.Point) (s sample, w baseline.Weighed, ok bool) {
	if w, ok = j.baseline.Weigh(m, p, &t.following); !ok {
		return s, w, false
	}
	v, _ := p.Value(m)
	lost, of := p.Counts(m)
	tolerance := w.Tolerable - w.Expected
	if m.LessIsWorse() {
		tolerance = -tolerance
	}
	return sample{at: p.At.Unix(), end: end(*p).Unix(), value: float32(v), shift: float32(w.Shift), z: float32(w.Z), expected: float32(w.Expected),
		tolerance: float32(tolerance), normal: w.Normal, sent: int32(of), lost: int32(lost), evidence: w.Evidence}, w, true
}

// judge follows one measure.
func (j *Judge) judge(m baseline.Measure, p baseline.Point, changes []Change) []Change {
	if _, has := p.Value(m); !has {
		return changes
	}
	t := j.track(m)
	s, w, ok := j.sample(m, t, &p)
	if !ok {
		t.forget() // what was gathered before an hour that nothing is known of is of another matter
		return changes
	}
	limits := j.baseline.Limits(m)
	j.returned(m, s)
	t.add(s, limits, j.isCalm(m))
	t.following.Hold = m.Counted() && t.suspects(limits)
	if going := j.find(func(x *matter) bool { return !x.closed && x.measure[m] != nil }); going != nil {
		t.following.Hold = true
		return j.follow(going, m, t, s, w, changes)
	}
	return j.tell(m, t, limits, w.Young, p, changes)
}

// tell opens an episode, resumes one, or adds a measure to one.
func (j *Judge) tell(m baseline.Measure, t *track, limits [baseline.Detectors]float64, young bool, p baseline.Point, changes []Change) []Change {
	ease := 1.0
	recent := j.find(func(x *matter) bool { return x.closed && x.hadMeasure(m) && x.NewLevel.IsZero() })
	if recent != nil {
		ease = resumes
	}
	detector, ok := t.firing(limits, j.strict, ease)
	if !ok {
		return changes
	}
	at, low, high := t.began(detector)
	if young && recent == nil && p.At.Unix()-at < int64(job/time.Second) {
		return changes
	}
	if !t.worth(m, detector, at) {
		return changes
	}
	x := t.excess(m, detector, at, j.baseline)
	from := time.Unix(at, 0).UTC()
	doubt := Doubt{time.Unix(low, 0).UTC(), time.Unix(high, 0).UTC()}
	c := j.start(Degraded, x, from, doubt, p)
	t.forget()
	t.following.Forget()
	return append(changes, c)
}

func (m *matter) hadMeasure(x baseline.Measure) bool {
	_, ok := m.Episode.Excess(x)
	return ok
}

// start begins an episode, or joins the one that it belongs to.
func (j *Judge) start(kind Kind, x Excess, from time.Time, doubt Doubt, p baseline.Point) Change {
	// One that was over for a moment is back.
	m := j.find(func(m *matter) bool {
		return m.closed && m.NewLevel.IsZero() && from.Sub(m.To) < pause
	})
	what := Worse
	switch {
	case m != nil:
		m.Pauses = append(m.Pauses, baseline.Interval{From: m.To, To: from})
		m.closed, m.To, m.OverToldAt = false, time.Time{}, time.Time{}
		what = Resumed
	default:
		m = j.find(func(m *matter) bool {
			return !m.closed && m.NewLevel.IsZero() && (near(m.From, from) || near(m.From, doubt.From) || near(m.lastStart(), doubt.From) || near(m.lastStart(), from) || x.Measure != baseline.Loss && m.Kind == Degraded && !m.onlyLoss())
		})
		if m == nil {
			j.episodes++
			m = &matter{Episode: Episode{From: from, Doubt: doubt, ToldAt: end(p)}, number: j.episodes, measure: map[baseline.Measure]*ending{}}
			j.open = append(j.open, m)
			what = Opened
		}
	}
	if kind == Lost || m.Kind == "" {
		m.Kind = kind
	}
	m.take(x)
	m.measure[x.Measure] = &ending{}
	return j.change(what, m, end(p))
}

func near(a, b time.Time) bool { d := a.Sub(b); return d < together && d > -together }

func (m *matter) lastStart() (t time.Time) {
	for _, x := range m.Excesses {
		if x.From.After(t) {
			t = x.From
		}
	}
	if n := len(m.Pauses); n > 0 && m.Pauses[n-1].To.After(t) {
		t = m.Pauses[n-1].To
	}
	return t
}

func (m *matter) onlyLoss() bool {
	for _, x := range m.Excesses {
		if !x.Measure.Counted() {
			return false
		}
	}
	return true
}

// take notes a measure's excess.
func (m *matter) take(x Excess) {
	for i, old := range m.Excesses {
		if old.Measure == x.Measure {
			x.From = old.From
			if x.Measure.LessIsWorse() {
				x.Worst = min(x.Worst, old.Worst)
			} else {
				x.Worst = max(x.Worst, old.Worst)
			}
			m.Excesses[i] = x
			return
		}
	}
	m.Excesses = append(m.Excesses, x)
	slices.SortStableFunc(m.Excesses, func(a, b Excess) int { return says(a.Measure) - says(b.Measure) })
}

// says orders measures by how much they say: variation is the least of it.
func says(m baseline.Measure) int {
	if m == baseline.Jitter {
		return int(baseline.LossBack) + 1
	}
	return int(m)
}

func (j *Judge) change(what Happening, m *matter, at time.Time) Change {
	return Change{What: what, At: at, Episode: m.clone(), Number: m.number}
}

// Open are the episodes that go on.
func (j *Judge) Open() []Episode {
	var list []Episode
	for _, m := range j.open {
		if !m.closed {
			list = append(list, m.clone())
		}
	}
	return list
}

// Last is the last reading; its At is zero when there is none.
func (j *Judge) Last() baseline.Point { return j.last }

// Answered reports whether the path has ever answered.
func (j *Judge) Answered() bool { return j.answered }

// Silence is how many probes in a row have had no answer.
func (j *Judge) Silence() int { return j.silent }
