// Package oneway computes what a stream of packets met in one direction, from when
// each left by the sender's clock and when it arrived by the receiver's.
//
//	clock, _ := oneway.Estimate(there, back)
//	d := oneway.Of(there, clock)
//	d.Delay.Median, d.Loss.Value()
package oneway
