// Package baseline learns what is normal for a path at each hour, and weighs each reading
// against it.
//
//	b, err := baseline.Build(history, baseline.Training{Calendar: baseline.Calendar{Zone: time.Local}})
//	w, ok := b.Weigh(baseline.RTT, &point, &following)
//	// w.Evidence[k] > 0: the reading speaks for detector k, against all being normal
//
// A measure is modelled in a scale where its spread is even (the logarithm of a delay above
// its floor) as a level, a curve over working days and one over days off, and what is left:
//
//   - by how much days differ from each other at each hour, beyond the noise of readings: no
//     day within that slack is evidence of anything. It is wide while few days were seen;
//   - how the hour before foretells the next one (drift);
//   - how readings lie around all that, as a smoothed histogram: long tails and second levels
//     are the path's own. Of a ratio of loss, the histogram of lost probes, so that losses in
//     runs are.
//
// The evidence of a reading is the logarithm of how much likelier it is when the path got worse.
// How much evidence has to add up before that is believed is found from the path's own past
// (block maxima, extrapolated by Gumbel's distribution): readings that depend on each other
// drive it up by themselves. Episodes weigh next to nothing in training, until they come back so
// often that they are how the path is.
//
// Delays are in milliseconds, loss is a ratio from 0 to 1.
package baseline
