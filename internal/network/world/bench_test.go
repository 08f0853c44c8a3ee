package world_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world"
)

// BenchmarkSixHops is a packet over six links that vary, lose in bursts and
// have a rate. script/bench prints what becomes of it beside a floor.
func BenchmarkSixHops(b *testing.B) {
	const link = "delay: 1ms, variation: gamma 100us, loss: bursts enter 0.1% leave 20%, rate: 1Gbit/s"
	text := "nodes:\n  - {name: a, addresses: [192.0.2.1]}\n"
	links := "links:\n"
	last := "a"
	for _, r := range []string{"r1", "r2", "r3", "r4", "r5"} {
		text += "  - {name: " + r + ", router: true}\n"
		links += "  - {between: [" + last + ", " + r + "], " + link + "}\n"
		last = r
	}
	text += "  - {name: b, addresses: [198.51.100.2]}\n" + links + "  - {between: [r5, b], " + link + "}\n"
	m, err := world.Read([]byte(text), world.Options{Reference: reference})
	require.NoError(b, err)
	to := netip.MustParseAddr("198.51.100.2")
	w := m.Walker()
	for i := 0; b.Loop(); i++ {
		w.Send(world.Probe{To: to, At: reference.Add(time.Duration(i) * time.Millisecond), Number: uint64(i)}, false)
	}
}
