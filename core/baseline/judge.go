package baseline

import (
	"slices"
	"time"
)

// The windows, in readings.
const (
	openWindow  = 15  // readings that are tested against the baseline
	openLeast   = 8   // fewest of them that have the figure
	openHold    = 3   // tests in a row that must agree
	closeWindow = 20  // normal readings after which an episode closes
	history     = 120 // readings kept to date a change back
	// silentProbes unanswered probes in a row make a path lost: a path that
	// loses half its probes does so once in a million.
	silentProbes = 20
)

// Options tune a Judge.
type Options struct {
	// Paths is how many paths are judged together; the more, the stricter
	// each test, so that false alarms over all stay under FalseAlarms a day.
	Paths int
	// FalseAlarms a day over all paths; 0.05 when 0.
	FalseAlarms float64
}

func (o Options) alpha() float64 {
	alarms := o.FalseAlarms
	if alarms <= 0 {
		alarms = 0.05
	}
	windows := float64(24*60/openWindow) * float64(measures)
	return alarms / (windows * float64(max(1, o.Paths)))
}

// Kind of an episode.
type Kind string

// The kinds of episodes.
const (
	Degraded Kind = "degraded"
	Lost     Kind = "lost"
)

// Excess is one measure that is beyond what is normal.
type Excess struct {
	Measure    Measure    `json:"measure"`
	Normal     float64    `json:"normal"`     // expected at that hour; ms or ratio
	Low        float64    `json:"low"`        // the band
	High       float64    `json:"high"`       //
	Now        float64    `json:"now"`        // over the window
	Worst      float64    `json:"worst"`      // worst window so far
	Readings   int        `json:"readings"`   // that Now rests on
	Resolution Resolution `json:"resolution"` // how finely the normal follows the clock
	Chance     float64    `json:"chance"`     // that so much arises by chance
	Sent       int        `json:"sent"`       // of loss: the probes that Now rests on
	Lost       int        `json:"lost"`
}

// Episode is a stretch of time in which a path was degraded or lost.
type Episode struct {
	Kind     Kind      `json:"kind"`
	From     time.Time `json:"from_at"`
	To       time.Time `json:"to_at"` // zero while it goes on
	Excesses []Excess  `json:"excesses"`
}

// Open reports whether the episode still goes on.
func (e Episode) Open() bool { return e.To.IsZero() }

// Excess returns the episode's excess in a measure.
func (e Episode) Excess(m Measure) (Excess, bool) {
	for _, x := range e.Excesses {
		if x.Measure == m {
			return x, true
		}
	}
	return Excess{}, false
}

// Change is what a reading did to an episode: opened it, changed what is known
// of it, or closed it.
type Change struct {
	Opened, Closed bool
	Episode        Episode
}

// Judge follows one path. It is not safe for concurrent use.
type Judge struct {
	options  Options
	baseline *Baseline
	past     []Point // the last readings, oldest first
	fresh    int     // how many of past, from the end, may be tested
	silent   int     // unanswered probes in a row
	answered bool    // the path has answered at some time
	holds    [measures]int
	degraded *Episode
	lost     *Episode
}

// NewJudge returns a judge that has seen nothing yet.
func NewJudge(o Options) *Judge { return &Judge{options: o} }

// SetBaseline gives the judge what is normal; nil takes it away.
func (j *Judge) SetBaseline(b *Baseline) { j.baseline = b }

// SetPaths tells how many paths are judged together.
func (j *Judge) SetPaths(n int) { j.options.Paths = n }

// Baseline is what the judge holds for normal; nil when it has none.
func (j *Judge) Baseline() *Baseline { return j.baseline }

// Resume gives back what an earlier judge of the path knew: its open episodes,
// whether it ever answered, and its last readings, oldest first.
func (j *Judge) Resume(open []Episode, answered bool, past []Point) {
	j.answered = answered
	for _, e := range open {
		if e.Kind == Lost {
			j.lost = &e
		} else {
			j.degraded = &e
		}
	}
	for _, p := range past {
		j.remember(p)
		j.countSilence(p)
	}
}

func (j *Judge) remember(p Point) {
	if len(j.past) == history {
		copy(j.past, j.past[1:])
		j.past = j.past[:history-1]
	}
	j.past = append(j.past, p)
	j.fresh = min(j.fresh+1, history)
}

func (j *Judge) countSilence(p Point) {
	switch {
	case p.Answered > 0:
		j.silent, j.answered = 0, true
	case p.Sent > 0:
		j.silent += p.Sent
	}
}

// Add judges the next reading and returns what changed. Readings must come in
// order of time; one without a probe sent changes nothing.
func (j *Judge) Add(p Point) []Change {
	if p.Sent == 0 {
		return nil
	}
	j.remember(p)
	j.countSilence(p)
	changes := j.judgeSilence(p)
	if j.lost == nil && !p.Silent() {
		changes = append(changes, j.judgeMeasures(p)...)
	}
	return changes
}

// judgeSilence opens and closes lost episodes.
func (j *Judge) judgeSilence(p Point) []Change {
	if j.lost == nil {
		if j.silent < silentProbes || !j.answered {
			return nil
		}
		first := len(j.past) - 1
		for first > 0 && j.past[first-1].Silent() {
			first--
		}
		j.lost = &Episode{Kind: Lost, From: j.past[first].At, Excesses: []Excess{{Measure: Loss, Now: 1, Worst: 1, Readings: len(j.past) - first}}}
		if n, resolution, ok := j.baseline.At(Loss, p.At); ok {
			x := &j.lost.Excesses[0]
			x.Normal, x.Low, x.High, x.Resolution = n.Expected(Loss), n.Low, n.High, resolution
		}
		return []Change{{Opened: true, Episode: *j.lost}}
	}
	if p.Silent() {
		return nil
	}
	// Back when two readings in a row have answers: one stray answer is none.
	if before := len(j.past) - 2; before >= 0 && !j.past[before].Silent() {
		ended := *j.lost
		ended.To = j.past[before].At
		j.lost = nil
		j.fresh = 2 // what lies before is another matter
		j.holds = [measures]int{}
		return []Change{{Closed: true, Episode: ended}}
	}
	return nil
}

// judgeMeasures opens, updates and closes the degraded episode.
func (j *Judge) judgeMeasures(p Point) []Change {
	if j.baseline == nil {
		return nil
	}
	var changes []Change
	changed := false
	for _, m := range Measures() {
		excess, bad := j.test(m, p.At)
		if !bad {
			j.holds[m] = 0
			continue
		}
		j.holds[m]++
		if j.holds[m] < openHold {
			continue
		}
		if j.degraded == nil {
			j.degraded = &Episode{Kind: Degraded, From: j.began(m)}
			changes = append(changes, Change{Opened: true})
		}
		changed = j.degraded.note(excess) || changed
	}
	switch {
	case j.degraded == nil:
		return nil
	case len(changes) > 0:
		changes[0].Episode = j.degraded.clone()
		return changes
	case j.recovered(p.At):
		ended := *j.degraded
		ended.To = j.ended()
		j.degraded = nil
		j.holds = [measures]int{}
		return []Change{{Closed: true, Episode: ended}}
	case changed:
		return []Change{{Episode: j.degraded.clone()}}
	}
	return nil
}

func (e *Episode) clone() Episode {
	c := *e
	c.Excesses = slices.Clone(e.Excesses)
	return c
}

// note takes in a measure's newest excess and reports whether it is news.
func (e *Episode) note(x Excess) bool {
	for i := range e.Excesses {
		if e.Excesses[i].Measure == x.Measure {
			x.Worst = max(x.Worst, e.Excesses[i].Worst)
			changed := x.Now != e.Excesses[i].Now
			e.Excesses[i] = x
			return changed
		}
	}
	e.Excesses = append(e.Excesses, x)
	return true
}

// Degraded is the open degraded episode; nil when there is none.
func (j *Judge) Degraded() *Episode { return j.degraded }

// Lost is the open lost episode; nil when there is none.
func (j *Judge) Lost() *Episode { return j.lost }

// Answered reports whether the path has ever answered.
func (j *Judge) Answered() bool { return j.answered }

// Silence is how many probes in a row have had no answer.
func (j *Judge) Silence() int { return j.silent }

// Severity is by how many tolerances the excess is beyond normal.
func (x Excess) Severity() float64 {
	return (x.Now - x.Normal) / x.Measure.tolerance(Normal{Median: x.Normal})
}
