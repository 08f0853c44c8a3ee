package loss

import "math"

// The least of losses that make an outage, and the chance at which a run of them is still
// taken for chance.
const (
	leastOutage  = 3
	mostByChance = 0.01
	outagePart   = 0.9
)

// Outage is a stretch of probes that were lost, all or nearly all of them.
type Outage struct {
	From, To int // places of the first and the last loss of it
	Lost     int
	// Chance is how likely so many losses, at random, would lie so close, at most.
	Chance float64
}

// OneOutage finds whether all losses are one stretch and there are none else.
func OneOutage(lost []bool) (Outage, bool) {
	o := Outage{From: -1}
	for i, gone := range lost {
		if !gone {
			continue
		}
		if o.From < 0 {
			o.From = i
		}
		o.To = i
		o.Lost++
	}
	span := o.To - o.From + 1
	if o.Lost < leastOutage || o.Lost == len(lost) || float64(o.Lost) < outagePart*float64(span) {
		return Outage{}, false
	}
	// So many windows of that length there are, and in each so many ways to lie.
	o.Chance = min(1, float64(len(lost)-span+1)*math.Exp(choose(span, o.Lost)-choose(len(lost), o.Lost)))
	return o, o.Chance < mostByChance
}

// LongestRun is the longest run of losses, with the chance that losses at random, as many,
// have one as long somewhere; false when that is likely enough.
func LongestRun(lost []bool) (Outage, bool) {
	best, run, total := Outage{}, 0, 0
	for i, gone := range lost {
		if !gone {
			run = 0
			continue
		}
		total++
		if run++; run > best.Lost {
			best = Outage{From: i - run + 1, To: i, Lost: run}
		}
	}
	if best.Lost < 2 || total == len(lost) {
		return Outage{}, false
	}
	n, l := len(lost), best.Lost
	best.Chance = min(1, float64(n-l+1)*math.Exp(choose(n-l, total-l)-choose(n, total)))
	return best, best.Chance < mostByChance
}

// choose is the logarithm of the binomial coefficient.
func choose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}
