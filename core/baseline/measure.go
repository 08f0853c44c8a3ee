package baseline

import (
	"fmt"
	"math"
)

// Measure is a figure of a path that has a baseline.
type Measure uint8

// The measures that are judged. A direction is there (from the agent to the
// target) or back.
const (
	RTT             Measure = iota // median round-trip time of a reading, ms
	Jitter                         // jitter of a reading, ms
	Loss                           // lost / sent of a reading, 0 to 1
	DelayThere                     // median one-way delay, ms
	DelayBack                      //
	JitterThere                    // one-way delay variation, ms
	JitterBack                     //
	LossThere                      // 0 to 1
	LossBack                       //
	MOS                            // 1 to 4.5, less is worse
	ThroughputThere                // bit/s, less is worse
	ThroughputBack                 //
	Hops                           // of the route
	ResolveTime                    // of a name, ms
	Answering                      // addresses that answer in a sweep, fewer is worse
	measures
)

// Unit is what a measure is counted in.
type Unit string

// The units.
const (
	Milliseconds Unit = "ms"
	Ratio        Unit = "ratio"
	BitsASecond  Unit = "bps"
	Score        Unit = "mos"
	Count        Unit = "count"
)

// kind says how a measure behaves.
type kind struct {
	name   string
	unit   Unit
	less   bool    // less of it is worse
	least  float64 // the tolerance, at the least
	share  float64 // the tolerance as a share of what is expected
	grains float64 // resolution: differences below it mean nothing
}

var kinds = [measures]kind{
	RTT:             {"rtt", Milliseconds, false, 1, 0.1, 0.02},
	Jitter:          {"jitter", Milliseconds, false, 2, 1, 0.02},
	Loss:            {"loss", Ratio, false, 0.005, 0, 0},
	DelayThere:      {"delay_there", Milliseconds, false, 1, 0.1, 0.02},
	DelayBack:       {"delay_back", Milliseconds, false, 1, 0.1, 0.02},
	JitterThere:     {"jitter_there", Milliseconds, false, 2, 1, 0.02},
	JitterBack:      {"jitter_back", Milliseconds, false, 2, 1, 0.02},
	LossThere:       {"loss_there", Ratio, false, 0.005, 0, 0},
	LossBack:        {"loss_back", Ratio, false, 0.005, 0, 0},
	MOS:             {"mos", Score, true, 0.2, 0, 0.01},
	ThroughputThere: {"throughput_there", BitsASecond, true, 1e4, 0.1, 1e3},
	ThroughputBack:  {"throughput_back", BitsASecond, true, 1e4, 0.1, 1e3},
	Hops:            {"hops", Count, false, 1, 0, 0.5},
	ResolveTime:     {"resolve", Milliseconds, false, 20, 1, 0.1},
	Answering:       {"answering", Count, true, 1, 0.05, 0.5},
}

// Measures are all measures, in the order in which they are reported.
func Measures() []Measure {
	list := make([]Measure, measures)
	for i := range list {
		list[i] = Measure(i)
	}
	return list
}

func (m Measure) String() string {
	if m < measures {
		return kinds[m].name
	}
	return fmt.Sprintf("measure(%d)", int(m))
}

// MarshalText writes the measure's name.
func (m Measure) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads a measure's name.
func (m *Measure) UnmarshalText(text []byte) error {
	names := make([]string, measures)
	for i := range kinds {
		if names[i] = kinds[i].name; names[i] == string(text) {
			*m = Measure(i)
			return nil
		}
	}
	return fmt.Errorf("measure %q is unknown; known are %v", text, names)
}

// Unit is what the measure is counted in.
func (m Measure) Unit() Unit { return kinds[m].unit }

// LessIsWorse reports whether a lower value is the worse one.
func (m Measure) LessIsWorse() bool { return kinds[m].less }

// Counted reports whether the measure is a share of probes, so that how many were
// sent says how much a value carries.
func (m Measure) Counted() bool { return kinds[m].unit == Ratio }

// Tolerances are, by measure, how far from what is expected a value has to lie to be
// worth caring about, where that is otherwise than usual.
type Tolerances map[Measure]Tolerance

// Tolerance of a measure: the larger of the two counts.
type Tolerance struct {
	Least float64 `json:"least"` // in the measure's unit
	Share float64 `json:"share"` // of what is expected
}

// Of is the tolerance of a measure where so much is expected.
func (t Tolerances) Of(m Measure, expected float64) float64 {
	own, ok := t[m]
	if !ok {
		own = Tolerance{kinds[m].least, kinds[m].share}
	}
	return max(own.Least, own.Share*math.Abs(expected), kinds[m].grains)
}
