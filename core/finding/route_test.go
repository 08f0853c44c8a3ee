package finding_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/route"
)

var target = netip.MustParseAddr("203.0.113.26")

// traced makes what a trace found: for each hop the last part of its address, 0 for
// one that never answers and 255 for the target; how many of 1,000 probes it lost;
// and about how long it takes.
func traced(list ...[3]int) finding.Traced {
	g := route.NewGather(target)
	gathered(g, 0, list...)
	r := g.Route()
	faults, spared := g.Locate(r)
	return finding.Traced{Route: r, Faults: faults, Spared: spared}
}

func gathered(g *route.Gather, flow int, list ...[3]int) {
	for i, h := range list {
		for k := range 1000 {
			p := route.Probe{TTL: i + 1, Flow: flow}
			if h[0] > 0 && k >= h[1] {
				p.Outcome, p.Addr = route.Expired, netip.AddrFrom4([4]byte{192, 0, 2, byte(h[0])})
				if h[0] == 255 {
					p.Outcome, p.Addr = route.Reached, target
				}
				p.RTT = time.Duration(h[2])*time.Millisecond + time.Duration(k%7)*20*time.Microsecond
			}
			g.Add(p)
		}
	}
}

func TestOfTrace(t *testing.T) {
	refused := traced([3]int{1, 0, 1}, [3]int{2, 0, 5})
	refused.Refusal = "administratively prohibited"
	other := traced([3]int{1, 0, 1}, [3]int{2, 0, 5}, [3]int{0, 1000, 0})
	other.ByOther = "tcp:443"
	owned := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 40, 6}, [3]int{255, 42, 8})
	var err error
	owned.Owners, err = route.ParseOwners(strings.NewReader("prefix,owner,kind\n192.0.2.0/24,Skerry Line,ours\n192.0.2.3/32,Kelpnet,transit\n"))
	require.NoError(t, err)
	owned.Names = map[netip.Addr]string{netip.MustParseAddr("192.0.2.3"): "core2.transit.example"}
	changed := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{4, 0, 46}, [3]int{255, 0, 48})
	earlier := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 0, 6}, [3]int{255, 0, 8}).Route
	changed.Earlier, changed.When = &earlier, "the last trace"
	same := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{0, 1000, 0}, [3]int{255, 0, 8})
	same.Earlier = &earlier
	around := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{255, 0, 8})
	around.Back = &earlier
	hole := traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{255, 0, 8})
	hole.MTU = finding.RouteMTU{Link: 1500, Path: 1400, TTL: 1, Before: netip.MustParseAddr("192.0.2.1"), Lost: true}
	tunnel := hole
	tunnel.MTU = finding.RouteMTU{Link: 1500, Path: 1400, TTL: 2, By: netip.MustParseAddr("192.0.2.2")}
	for _, c := range []struct {
		name  string
		trace finding.Traced
		want  []finding.Code
		hop   float64
		says  string
	}{
		{"nothing is wrong", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 0, 6}, [3]int{255, 0, 8}), []finding.Code{}, 0, ""},
		{"loss begins at hop 3", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 40, 6}, [3]int{255, 42, 8}), []finding.Code{finding.LossCarried}, 3, "Loss begins between hop 2, 192.0.2.2 and hop 3, 192.0.2.3 and carries on to the end: 4.1 % (3.3 % to 5.0 %) is lost there."},
		{"and whose it is", owned, []finding.Code{finding.LossCarried}, 3, "hop 3, core2.transit.example (192.0.2.3)"},
		{"the target alone drops", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{255, 50, 8}), []finding.Code{finding.LossCarried}, 3, "between hop 2"},
		{"loss at the first hop", traced([3]int{1, 30, 1}, [3]int{2, 31, 3}, [3]int{255, 28, 8}), []finding.Code{finding.LossCarried}, 1, "between this host and hop 1"},
		{"hop 2 spares its answers", traced([3]int{1, 0, 1}, [3]int{2, 500, 3}, [3]int{255, 0, 6}), []finding.Code{finding.LossSparing}, 2, "answers 50.0 % of the probes only"},
		{"hop 2 spares, and loss begins behind it", traced([3]int{1, 0, 1}, [3]int{2, 500, 3}, [3]int{3, 50, 6}, [3]int{255, 51, 6}), []finding.Code{finding.LossCarried, finding.LossSparing}, 0, ""},
		{"hop 2 is silent", traced([3]int{1, 0, 1}, [3]int{0, 1000, 0}, [3]int{255, 0, 6}), []finding.Code{}, 0, ""},
		{"hop 3 adds 60 ms", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 0, 63}, [3]int{255, 0, 65}), []finding.Code{finding.DelayCarried}, 3, "adds 60.0 ms"},
		{"hop 2 answers slowly", traced([3]int{1, 0, 1}, [3]int{2, 0, 80}, [3]int{255, 0, 6}), []finding.Code{finding.DelaySparing}, 2, "takes 80.1 ms to answer"},
		{"a circle", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{3, 0, 4}, [3]int{2, 0, 5}, [3]int{3, 0, 6}), []finding.Code{finding.RouteLoop}, 2, "they come again at hops 4 and 5"},
		{"the same hop twice in a row is none", traced([3]int{1, 0, 1}, [3]int{2, 0, 3}, [3]int{2, 0, 4}, [3]int{255, 0, 6}), []finding.Code{}, 0, ""},
		{"refused", refused, []finding.Code{finding.Refusals}, 2, "which refuses: administratively prohibited"},
		{"it ends", traced([3]int{1, 0, 1}, [3]int{2, 0, 5}, [3]int{0, 1000, 0}, [3]int{0, 1000, 0}), []finding.Code{finding.Refusals}, 2, "Nothing answers beyond hop 2, 192.0.2.2."},
		{"by another kind it does not end", other, []finding.Code{finding.ICMPFiltered}, 2, "by tcp:443 it does"},
		{"nothing answers", traced([3]int{0, 1000, 0}, [3]int{0, 1000, 0}), []finding.Code{finding.Refusals}, 0, "not even the first"},
		{"another hop than before", changed, []finding.Code{finding.DelayCarried, finding.RouteChanged}, 3, ""},
		{"a hop that is silent now is no change", same, []finding.Code{}, 0, ""},
		{"the way back is longer", around, []finding.Code{finding.RouteAsymmetric}, 0, "3 hops there, 4 back"},
		{"large packets vanish", hole, []finding.Code{finding.MTUBlackHole}, 1, "more than 1400 bytes vanish with no word behind hop 1"},
		{"large packets are refused", tunnel, []finding.Code{finding.MTUReduced}, 2, "1400 bytes only"},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := finding.OfTrace(c.trace)
			assert.Equal(t, c.want, codes(found))
			for _, f := range found {
				assert.NotEmpty(t, f.Advice)
				assert.Contains(t, f.Sentence, c.says)
				assert.True(t, f.Sure > 0.9 && f.Sure <= 1, "%v", f.Sure)
				if c.hop > 0 {
					assert.Equal(t, c.hop, f.Figures["hop"])
				}
			}
		})
	}
	assert.Contains(t, finding.OfTrace(owned)[0].Advice, "It belongs to Kelpnet (transit).", "the longest prefix counts")
	assert.Contains(t, finding.OfTrace(changed)[1].Sentence, "hop 3, 192.0.2.4 in place of hop 3, 192.0.2.3; the round trip is 40.0 ms longer.")
}

func TestOfBranches(t *testing.T) {
	branch := func(lost, ms int) finding.Traced {
		g := route.NewGather(target)
		for flow := range 16 {
			way := [][3]int{{1, 0, 1}, {10, 0, 3}, {20, 0, 5}, {255, 0, 8}}
			if flow%2 == 1 {
				way = [][3]int{{1, 0, 1}, {11, 0, 3}, {20, lost, 5 + ms}, {255, lost, 8 + ms}}
			}
			gathered(g, flow, way...)
		}
		r := g.Route()
		faults, spared := g.Locate(r)
		return finding.Traced{Route: r, Faults: faults, Spared: spared}
	}
	assert.Empty(t, finding.OfTrace(branch(0, 0)), "balancing alone is no fault")
	lossy := finding.OfTrace(branch(60, 0))
	require.Equal(t, []finding.Code{finding.BranchLossy}, codes(lossy))
	assert.Contains(t, lossy[0].Sentence, "between hop 2, 192.0.2.11 and hop 3, 192.0.2.20")
	assert.InDelta(t, 0.5, lossy[0].Figures["share_ratio"], 1e-9)
	assert.InDelta(t, 0.06, lossy[0].Figures["carried_loss_ratio"], 1e-4)
	slow := finding.OfTrace(branch(0, 30))
	require.Equal(t, []finding.Code{finding.BranchSlow}, codes(slow))
	assert.Contains(t, slow[0].Sentence, "The branch by 192.0.2.11 takes 30.0 ms longer")
}
