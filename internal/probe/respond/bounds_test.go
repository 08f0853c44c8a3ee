package respond

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func madeUp(r *rand.Rand) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], r.Uint32())
	return netip.AddrFrom4(b)
}

// TestAFloodOfMadeUpAddresses: of 85,000 packets a second from addresses that are made up,
// those of honest sources are answered all the same, also of such that come anew.
func TestAFloodOfMadeUpAddresses(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	b := newBounds(1000, 20_000)
	now := time.Unix(1e9, 0)
	answered, sent, all := map[int]int{}, map[int]int{}, 0
	const seconds = 10
	for i := range 85_000 * seconds {
		now = now.Add(time.Second / 85_000)
		if b.allow(madeUp(r), now) {
			all++
		}
		// A new honest source each second, ten packets a second for the rest of the time.
		if i%8500 == 0 {
			for s := range i/85_000 + 1 {
				sent[s]++
				if b.allow(netip.AddrFrom4([4]byte{192, 0, 2, byte(s)}), now) {
					answered[s]++
				}
			}
		}
	}
	assert.LessOrEqual(t, all, 20_000*(seconds+1))
	for s := range seconds - 3 {
		assert.Greater(t, float64(answered[s]), 0.9*float64(sent[s]-20), "source %d: %d of %d", s, answered[s], sent[s])
	}
}

func TestOneSourceIsHeldToItsRate(t *testing.T) {
	b := newBounds(1000, 20_000)
	now, answered := time.Unix(1e9, 0), 0
	for range 50_000 {
		now = now.Add(20 * time.Microsecond)
		if b.allow(netip.MustParseAddr("192.0.2.1"), now) {
			answered++
		}
	}
	assert.InDelta(t, 2000, answered, 2, "a second's worth at once, and a thousand a second")
	off := newBounds(0, 100)
	assert.False(t, off.allow(netip.MustParseAddr("192.0.2.1"), now))
}

func TestSessionsOfOthersAreNotPutOut(t *testing.T) {
	honest := stateKey{netip.MustParseAddrPort("192.0.2.1:5000"), 7}
	now := time.Unix(1e9, 0)
	ask := func(x *states, k stateKey) *state {
		s := x.of(k, now)
		if s != nil {
			s.received++
			s.sent++
		}
		return s
	}
	t.Run("one source with many sessions", func(t *testing.T) {
		var x states
		assert.Equal(t, uint32(1), ask(&x, honest).sent)
		for i := range 6000 {
			ask(&x, stateKey{netip.MustParseAddrPort("198.51.100.1:9"), uint16(i)})
		}
		assert.Equal(t, uint32(2), ask(&x, honest).sent)
		assert.LessOrEqual(t, x.fresh.Len()+x.known.Len(), mostStatesOf+1)
	})
	t.Run("many sources, before and behind", func(t *testing.T) {
		r := rand.New(rand.NewPCG(3, 4))
		var x states
		flood := func() {
			for range 20_000 {
				ask(&x, stateKey{netip.AddrPortFrom(madeUp(r), 9), 1})
			}
		}
		flood()
		first := ask(&x, honest)
		assert.NotNil(t, first, "who comes anew has a place")
		assert.Equal(t, uint32(2), ask(&x, honest).sent)
		for range 10 {
			now = now.Add(2 * time.Second)
			flood()
			before := first.sent
			assert.Equal(t, before+1, ask(&x, honest).sent, "its own numbers go on")
		}
		assert.LessOrEqual(t, x.fresh.Len()+x.known.Len(), mostStates)
		n := 0
		for _, own := range x.by {
			n += len(own)
		}
		assert.Equal(t, n, x.fresh.Len()+x.known.Len())
	})
}
