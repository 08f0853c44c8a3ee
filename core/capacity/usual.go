package capacity

import (
	"math"
	"slices"
)

// Usual is what a way carried before: the median of its readings, and the band around it
// in which another reading is as usual.
type Usual struct {
	Median, Low, High Rate
	Readings          int
}

// leastReadings is how many readings a usual rests on at least.
const leastReadings = 5

// UsualOf is the usual of readings, in any order: their median, and three robust standard
// deviations (1.4826 times the median distance from it) to either side, but no less than
// 5 %, which two readings of one way may well differ by. False with less than five.
func UsualOf(before []Rate) (Usual, bool) {
	if len(before) < leastReadings {
		return Usual{}, false
	}
	middle := medianOf(before)
	apart := make([]Rate, len(before))
	for i, r := range before {
		apart[i] = Rate(math.Abs(float64(r - middle)))
	}
	wide := max(3*1.4826*medianOf(apart), 0.05*middle)
	return Usual{Median: middle, Low: max(0, middle-wide), High: middle + wide, Readings: len(before)}, true
}

func medianOf(list []Rate) Rate {
	sorted := slices.Sorted(slices.Values(list))
	return (sorted[(len(sorted)-1)/2] + sorted[len(sorted)/2]) / 2
}
