package route_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/route"
)

var (
	phaseTarget = netip.MustParseAddr("203.0.113.26")
	phaseStart  = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
)

func node(n byte) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, 100, n}) }

// asked gathers rounds of one probe a second to each of four hops: the first and third are
// always the same, who answers at the second says meets, 0 for nobody; behind nobody all
// is lost.
func asked(rounds int, meets func(second, flow int) byte) *route.Gather {
	g := route.NewGather(phaseTarget)
	for i := range rounds {
		flow := i % 8
		second := meets(i, flow)
		for ttl, a := range []netip.Addr{node(1), node(second), node(30), phaseTarget} {
			p := route.Probe{TTL: ttl + 1, Flow: flow, SentAt: phaseStart.Add(time.Duration(i)*time.Second + time.Duration(ttl)*time.Millisecond), Outcome: route.Expired, Addr: a, RTT: time.Duration(ttl+1) * time.Millisecond}
			switch {
			case ttl >= 1 && second == 0:
				p.Outcome, p.Addr, p.RTT = route.Silent, netip.Addr{}, 0
			case ttl == 3:
				p.Outcome = route.Reached
			}
			g.Add(p)
		}
	}
	return g
}

func TestPhases(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 9))
	for _, c := range []struct {
		name  string
		meets func(second, flow int) byte
		want  []byte // who is met at hop 2 in each phase
	}{
		{"one way", func(int, int) byte { return 10 }, []byte{10}},
		{"another from 40 s on", func(s, _ int) byte {
			if s < 40 {
				return 10
			}
			return 20
		}, []byte{10, 20}},
		{"there and back again", func(s, _ int) byte {
			if s >= 30 && s < 70 {
				return 20
			}
			return 10
		}, []byte{10, 20, 10}},
		{"by packet, at random", func(int, int) byte { return []byte{10, 20}[random.IntN(2)] }, []byte{10}},
		{"by packet, in turn", func(s, _ int) byte { return []byte{10, 20}[s/8%2] }, []byte{10}},
		{"by flow", func(_, f int) byte { return []byte{10, 20}[f%2] }, []byte{10}},
		{"by flow, and one way fails", func(s, f int) byte {
			if s < 48 && f%2 == 1 {
				return 20
			}
			return 10
		}, []byte{10, 10}},
	} {
		t.Run(c.name, func(t *testing.T) {
			phases := asked(96, c.meets).Phases()
			require.Len(t, phases, len(c.want))
			for i, p := range phases {
				r := p.Gather.Route()
				assert.True(t, r.Hops[1].Has(node(c.want[i])))
				assert.True(t, r.Reached)
				if len(c.want) > 1 && c.name != "by flow, and one way fails" {
					assert.Len(t, r.Hops[1].Nodes, 1, "nothing of the other way")
				}
			}
		})
	}
	assert.Nil(t, route.NewGather(phaseTarget).Phases())
}

// TestWhatIsLostBetweenPhases: six seconds in which neither way carried anything belong to
// neither.
func TestWhatIsLostBetweenPhases(t *testing.T) {
	phases := asked(96, func(s, _ int) byte {
		switch {
		case s < 40:
			return 10
		case s < 46:
			return 0
		}
		return 20
	}).Phases()
	require.Len(t, phases, 2)
	assert.Equal(t, 6, phases[1].Between.Lost)
	assert.Equal(t, 7*time.Second, phases[1].Doubt.Round(time.Second), "from the 39th second to the 46th")
	assert.WithinDuration(t, phaseStart.Add(39*time.Second), phases[0].Until, time.Second)
	for _, p := range phases {
		r := p.Gather.Route()
		assert.Zero(t, r.Loss.Lost)
		faults, _ := p.Gather.Locate(r)
		assert.Empty(t, faults, "no link is blamed for the change")
	}
}
