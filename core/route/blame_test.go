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

// lossy gathers rounds over five hops: links lose the parts given, by their hop, and
// routers leave so many of their own answers out.
func lossy(rounds int, links, spares map[int]float64) *route.Gather {
	r := rand.New(rand.NewPCG(uint64(rounds), 11))
	g := route.NewGather(phaseTarget)
	for i := range rounds {
		for ttl := 1; ttl <= 5; ttl++ {
			p := route.Probe{TTL: ttl, SentAt: phaseStart.Add(time.Duration(i) * time.Second), Outcome: route.Expired, Addr: node(byte(ttl)), RTT: time.Millisecond}
			if ttl == 5 {
				p.Outcome, p.Addr = route.Reached, phaseTarget
			}
			for link, part := range links {
				if link <= ttl && r.Float64() < part {
					p.Outcome = route.Silent
				}
			}
			if r.Float64() < spares[ttl] {
				p.Outcome = route.Silent
			}
			if p.Outcome == route.Silent {
				p.Addr, p.RTT = netip.Addr{}, 0
			}
			g.Add(p)
		}
	}
	return g
}

// TestEveryFaultHasItsPart: several links that lose, beside routers that spare.
func TestEveryFaultHasItsPart(t *testing.T) {
	for _, c := range []struct {
		name          string
		links, spares map[int]float64
	}{
		{"none", nil, nil},
		{"one", map[int]float64{3: 0.04}, nil},
		{"the first link", map[int]float64{1: 0.06}, nil},
		{"two", map[int]float64{2: 0.05, 4: 0.1}, nil},
		{"a small one before a large one", map[int]float64{2: 0.02, 5: 0.3}, nil},
		{"three", map[int]float64{1: 0.05, 3: 0.08, 5: 0.12}, nil},
		{"a router that spares", nil, map[int]float64{3: 0.6}},
		{"two, and a router between that spares", map[int]float64{2: 0.05, 5: 0.1}, map[int]float64{3: 0.7}},
		{"one behind two that spare", map[int]float64{4: 0.08}, map[int]float64{2: 0.5, 3: 0.9}},
	} {
		t.Run(c.name, func(t *testing.T) {
			g := lossy(4000, c.links, c.spares)
			r := g.Route()
			faults, spared := g.Locate(r)
			require.Len(t, faults, len(c.links))
			for _, f := range faults {
				part, ok := c.links[f.TTL]
				if !ok && f.FromTTL < f.TTL-1 { // a stretch over a hop that spares
					for ttl := f.FromTTL + 1; ttl <= f.TTL; ttl++ {
						if c.links[ttl] > 0 {
							part, ok = c.links[ttl], true
						}
					}
				}
				assert.True(t, ok, "hop %d", f.TTL)
				assert.InDelta(t, part, f.Ratio, 0.02)
				assert.True(t, f.Low < f.Ratio && f.Ratio < f.High && f.Low > 0)
				assert.True(t, f.Share.All())
			}
			require.Len(t, spared, len(c.spares))
			for _, s := range spared {
				assert.InDelta(t, c.spares[s.TTL], s.Ratio, 0.05)
			}
		})
	}
}

// TestDead: of eight flows four vanish behind hop 2; where one only had bad luck none does.
func TestDead(t *testing.T) {
	gathered := func(vanish func(flow int) bool, loss float64) (*route.Gather, route.Route) {
		r := rand.New(rand.NewPCG(4, 4))
		g := route.NewGather(phaseTarget)
		for i := range 64 {
			for ttl := 1; ttl <= 4; ttl++ {
				p := route.Probe{TTL: ttl, Flow: i % 8, SentAt: phaseStart.Add(time.Duration(i) * time.Second), Outcome: route.Expired, Addr: node(byte(ttl))}
				if ttl == 4 {
					p.Outcome, p.Addr = route.Reached, phaseTarget
				}
				if ttl > 2 && vanish(i%8) || r.Float64() < loss {
					p.Outcome, p.Addr = route.Silent, netip.Addr{}
				}
				g.Add(p)
			}
		}
		return g, g.Route()
	}
	g, r := gathered(func(f int) bool { return f%2 == 1 }, 0)
	dead := g.Dead(r)
	require.Len(t, dead, 1)
	assert.Equal(t, []int{1, 3, 5, 7}, dead[0].Flows)
	assert.Equal(t, 2, dead[0].FromTTL)
	assert.Equal(t, node(2), dead[0].From)
	assert.Equal(t, 3, dead[0].TTL)
	assert.Equal(t, route.Share{Flows: 4, Of: 8}, dead[0].Share)
	low, high := dead[0].Share.Interval()
	assert.InDelta(t, 0.2152, low, 1e-4, "Wilson, 4 of 8")
	assert.InDelta(t, 0.7848, high, 1e-4)
	faults, _ := g.Locate(r)
	assert.Empty(t, faults, "what is dead is told once")
	require.Len(t, r.Branches, 2)
	assert.True(t, r.Branches[0].Dead != r.Branches[1].Dead)
	assert.InDelta(t, 0.5, r.Loss.Value().Or(0), 1e-9, "from end to end, flows that vanish count")

	g, r = gathered(func(int) bool { return false }, 0.5)
	assert.Empty(t, g.Dead(r), "half of all is lost, of each flow")
}
