package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// Strictness is how much more evidence is asked for while little is told among many paths, so
// that of what is told no more than a small part is false: a network in which much goes on may
// be told of it sooner than one in which nothing does. The zero value asks for the usual.
type Strictness struct {
	openings []time.Time
	weighed  time.Time
	more     float64 // evidence
}

const (
	// wronglyTold is how many episodes of a path and year may be told wrongly before strictness
	// is weighed, and falseShare which part of what is told may be false.
	wronglyTold = 0.2
	falseShare  = 0.02
	// mostStrict is how much more evidence, in natural logarithms, is asked for at the most: the
	// number of paths must not make each of them slow.
	mostStrict = 1
	countedFor = 30 * 24 * time.Hour
)

// Told notes that an episode was told.
func (s *Strictness) Told(at time.Time) { s.openings = append(s.openings, at) }

// Due reports whether it is to be weighed anew.
func (s *Strictness) Due(now time.Time) bool { return now.Sub(s.weighed) >= 6*time.Hour }

// Weigh weighs how strict to be among so many paths.
func (s *Strictness) Weigh(now time.Time, paths int) float64 {
	s.weighed = now
	s.openings = slices.DeleteFunc(s.openings, func(t time.Time) bool { return now.Sub(t) > countedFor })
	expected := float64(paths) * wronglyTold * countedFor.Hours() / (365 * 24)
	s.more = min(mostStrict, max(0, math.Log(expected/(falseShare*float64(len(s.openings)+1)))))
	return s.Now()
}

// Now is by what the usual evidence is multiplied.
func (s *Strictness) Now() float64 { return 1 + s.more/baseline.Sure[ragged] }
