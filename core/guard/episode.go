package guard

import (
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// Kind of an episode.
type Kind string

// The kinds of episodes.
const (
	Degraded Kind = "degraded"
	Lost     Kind = "lost"
)

// Excess is one measure that is worse than normal.
type Excess struct {
	Measure baseline.Measure `json:"measure"`
	From    time.Time        `json:"from_at"`
	To      time.Time        `json:"to_at,omitzero"` // zero while it goes on
	// What was expected, what came over the last readings and in the worst stretch, in the
	// measure's unit.
	Normal float64 `json:"normal"`
	Low    float64 `json:"low"` // the band
	High   float64 `json:"high"`
	Now    float64 `json:"now"`
	Worst  float64 `json:"worst"`
	// NowLow and NowHigh are the 95 % interval of Now.
	NowLow   float64 `json:"now_low"`
	NowHigh  float64 `json:"now_high"`
	Readings int     `json:"readings"` // that Now rests on
	Sent     int     `json:"sent"`     // of loss: the probes that Now rests on
	Lost     int     `json:"lost"`
	// Evidence is the natural logarithm of how much likelier the readings are if it got worse.
	Evidence  float64 `json:"evidence"`
	Tolerance float64 `json:"tolerance"`
	// Ragged: not all readings are worse, but some are, and much.
	Ragged bool `json:"ragged,omitempty"`
}

// Open reports whether the measure is still worse.
func (x Excess) Open() bool { return x.To.IsZero() }

// Severity is by how many tolerances the excess is worse than normal.
func (x Excess) Severity() float64 {
	shift := x.Now - x.Normal
	if x.Measure.LessIsWorse() {
		shift = -shift
	}
	return shift / max(x.Tolerance, 1e-9)
}

// Episode is a stretch of time in which a path was degraded or lost.
type Episode struct {
	Kind  Kind      `json:"kind"`
	From  time.Time `json:"from_at"`
	To    time.Time `json:"to_at,omitzero"` // zero while it goes on
	Doubt Doubt     `json:"doubt"`
	// ToldAt is when it could be told, OverToldAt when its end could.
	ToldAt     time.Time `json:"told_at"`
	OverToldAt time.Time `json:"over_told_at,omitzero"`
	Excesses   []Excess  `json:"excesses"` // the one that says most first
	// Pauses are interruptions of under half an hour: it comes and goes.
	Pauses []baseline.Interval `json:"pauses,omitempty"`
	// Unmeasured are stretches in it in which there was no reading.
	Unmeasured []baseline.Interval `json:"unmeasured,omitempty"`
	// NewLevel: it stayed so evenly for so long that it is the path's new level, which waits
	// to be accepted; since when that is said.
	NewLevel time.Time `json:"new_level_at,omitzero"`
}

// Doubt is between which times an episode began.
type Doubt struct {
	From time.Time `json:"from_at"`
	To   time.Time `json:"to_at"`
}

// Open reports whether the episode still goes on.
func (e Episode) Open() bool { return e.To.IsZero() }

// Excess returns the episode's excess in a measure.
func (e Episode) Excess(m baseline.Measure) (Excess, bool) {
	for _, x := range e.Excesses {
		if x.Measure == m {
			return x, true
		}
	}
	return Excess{}, false
}

// Headline is the excess that says most; false when there is none.
func (e Episode) Headline() (Excess, bool) {
	if len(e.Excesses) == 0 {
		return Excess{}, false
	}
	return e.Excesses[0], true
}

func (e *Episode) clone() Episode {
	c := *e
	c.Excesses = slices.Clone(e.Excesses)
	c.Pauses = slices.Clone(e.Pauses)
	c.Unmeasured = slices.Clone(e.Unmeasured)
	return c
}

// Happening is what an episode has come to.
type Happening string

// What happens to episodes.
const (
	Opened   Happening = "opened"
	Worse    Happening = "worse"
	Easing   Happening = "easing"
	Closed   Happening = "closed"
	Resumed  Happening = "resumed"  // it was over for less than half an hour
	Settled  Happening = "settled"  // it has become a new level
	Accepted Happening = "accepted" // the new level is normal now
	Crept    Happening = "crept"    // the new level is a step of what goes on creeping
)

// Change is something that happened to an episode.
type Change struct {
	What    Happening
	At      time.Time // when it could be told
	Episode Episode
	Number  int // of the episode, on this path
}
