// Package wire turns packets into structs and back. It does no I/O.
//
//	b := wire.Echo{ID: 7, Seq: 1, Payload: payload}.Marshal(wire.IPv4)
//	m, err := wire.ParseICMP(wire.IPv4, b)
package wire
