package acceptance

import (
	"slices"
	"time"
)

// Window is a stretch of a trial, by when its frames were due to leave.
type Window struct {
	Sent     int64
	Received int64
	Bytes    int64         // of frames that arrived
	Least    time.Duration // of the times from leaving to arriving, by the two clocks; only its changes tell anything
	Pause    bool          // the sender was away meanwhile
}

// Trend looks at the second half of windows that are each so long: at how many frames a second
// they arrived, and by how much later for each second that passes. The first half is left out: a
// bucket that was full lets more through until it is empty. Either is absent when too little
// arrived to tell.
//
// What arrives is not counted by the receiver's clock alone: of an interval that begins and ends
// with single frames one that is late would be an error of its whole lateness. The least times of
// the windows grow as a queue does, and one late frame changes none of them.
func Trend(list []Window, each time.Duration) (steady, growth *float64) {
	half := list[len(list)/2:]
	if len(half) < 4 || each <= 0 {
		return nil, nil
	}
	var at, took []float64
	var stretch []int // between pauses, of each
	var received, sent int64
	whole, n := 0, 0
	for i, w := range half {
		if w.Pause {
			n++
		}
		if w.Received > 0 {
			at = append(at, float64(i)*each.Seconds())
			took = append(took, w.Least.Seconds())
			stretch = append(stretch, n)
		}
		// Behind a pause a queue is empty, and a bucket full.
		if !w.Pause && (i == 0 || !half[i-1].Pause) {
			received += w.Received
			sent += w.Sent
			whole++
		}
	}
	if len(at) < 4 || whole < 4 || sent == 0 {
		return nil, nil
	}
	g := slope(at, took, stretch)
	rate := float64(received) / (float64(whole) * each.Seconds()) / (1 + max(g, -0.5))
	return &rate, &g
}

// slope is the median of the slopes between pairs of points of the same stretch, or of all where
// those are few: some that are off do not change it (Theil and Sen).
func slope(x, y []float64, stretch []int) float64 {
	var list, all []float64
	for i := range x {
		for j := i + 1; j < len(x); j++ {
			v := (y[j] - y[i]) / (x[j] - x[i])
			all = append(all, v)
			if stretch[i] == stretch[j] {
				list = append(list, v)
			}
		}
	}
	const few = 6
	if len(list) < few {
		list = all
	}
	slices.Sort(list)
	n := len(list)
	if n%2 == 1 {
		return list[n/2]
	}
	return (list[n/2-1] + list[n/2]) / 2
}
