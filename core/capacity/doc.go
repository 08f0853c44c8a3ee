// Package capacity computes what bandwidth tests found: rates by layer, repeats, the
// figures of RFC 6349, and what held a transfer back.
//
//	mean := capacity.TrimmedMean(rates)
//	line, ok := capacity.Framing{Family: 4, Transport: capacity.UDP, Payload: 1400}.At(rate, capacity.Line)
package capacity
