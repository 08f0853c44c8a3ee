// Package delay turns round-trip times into the figures of delay and of its
// variation.
//
//	s := delay.Summarise([]delay.Sample{{0, 12 * time.Millisecond}, {1, 14 * time.Millisecond}})
//	median, ok := s.Median.Get()
//
// A sample keeps the number of the probe it belongs to, because jitter is
// defined over neighbours in sending order and a lost probe between two
// answers separates them.
package delay
