package loss

import "woodlark.example/core/figure"

// Pattern describes how losses lie among the probes, in sending order.
type Pattern struct {
	Runs       int           // stretches of losses without an answer between them
	Longest    int           // probes in the longest run
	MeanRun    figure.Number // mean run length, probes
	BurstRatio figure.Number // MeanRun ÷ 1/(1−p): 1 when losses are random, more when they come in bursts (G.107 §3.5)
	// Distances are the loss distances of RFC 3357 §5.1: for each loss but the
	// first, how many probes after the loss before it it was sent.
	Distances []int
}

// PatternOf describes lost, one entry a probe in sending order, true where the
// probe was lost.
func PatternOf(lost []bool) Pattern {
	var p Pattern
	var count, run int
	last := -1
	for i, gone := range lost {
		if !gone {
			run = 0
			continue
		}
		count++
		if last >= 0 {
			p.Distances = append(p.Distances, i-last)
		}
		last = i
		if run == 0 {
			p.Runs++
		}
		run++
		p.Longest = max(p.Longest, run)
	}
	if p.Runs == 0 {
		return p
	}
	mean := float64(count) / float64(p.Runs)
	p.MeanRun = figure.Of(mean)
	if ratio := float64(count) / float64(len(lost)); ratio < 1 {
		p.BurstRatio = figure.Of(mean * (1 - ratio))
	}
	return p
}
