// Package world is a simulated network. Model is pure: what becomes of a packet
// is a function of (seed, packet, time) alone, so the truth of a world is known
// and the same on any machine. On it stands an in-process network in real
// time, for live agents, and the walker by itself, for virtual time.
//
//	m, err := world.Read(data, world.Options{Reference: time.Now()})
//	live, err := m.At("ops.northquay.example")      // a network.Network
//	fate := m.Walker().Echo(from, to, at, number)   // virtual time
package world
