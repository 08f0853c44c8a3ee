package route_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/route"
)

var target = netip.MustParseAddr("203.0.113.26")

func router(n int) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, 100, byte(n)}) }

// follow adds a flow that meets routers in order, 0 for one that is silent, and
// then the target after so long.
func follow(g *route.Gather, flow int, took time.Duration, routers ...int) {
	for i, n := range routers {
		p := route.Probe{TTL: i + 1, Flow: flow, RTT: time.Duration(i+1) * time.Millisecond}
		if n > 0 {
			p.Outcome, p.Addr = route.Expired, router(n)
		}
		g.Add(p)
	}
	g.Add(route.Probe{TTL: len(routers) + 1, Flow: flow, Outcome: route.Reached, Addr: target, RTT: took})
}

func way(took time.Duration, routers ...int) route.Route {
	g := route.NewGather(target)
	follow(g, 0, took, routers...)
	return g.Route()
}

func TestEnough(t *testing.T) {
	// (k+1) next hops, evenly: at most one in twenty leaves one unseen.
	for k, n := range map[int]int{1: 6, 2: 11, 3: 16, 4: 21, 5: 27, 6: 33} {
		assert.Equal(t, n, route.Enough(k), "behind %d", k)
	}
	assert.Equal(t, route.Enough(1), route.Enough(0))
}

func TestCompare(t *testing.T) {
	before := way(20*time.Millisecond, 1, 2, 3)
	for _, c := range []struct {
		name    string
		later   route.Route
		changed bool
		first   int
		lines   string
		step    time.Duration
	}{
		{"the same", way(20*time.Millisecond, 1, 2, 3), false, 0, "same 1, same 2, same 3, same target", 0},
		{"one more hop", way(38*time.Millisecond, 1, 9, 2, 3), true, 2, "same 1, new 9, moved 2, moved 3, moved target", 18 * time.Millisecond},
		{"one less", way(19*time.Millisecond, 1, 3), true, 2, "same 1, gone 2, moved 3, moved target", -time.Millisecond},
		{"another in its place", way(20*time.Millisecond, 1, 9, 3), true, 2, "same 1, gone 2, new 9, same 3, same target", 0},
		{"silent in its place", way(20*time.Millisecond, 1, 0, 3), false, 0, "same 1, gone 2, same 3, same target", 0},
		{"two have changed places", way(20*time.Millisecond, 1, 3, 2), false, 0, "same 1, moved 3, moved 2, same target", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := route.Compare(before, c.later)
			var lines []string
			for _, l := range d.Lines {
				who := "target"
				if l.Addr != target {
					who = fmt.Sprint(l.Addr.As4()[3])
				}
				lines = append(lines, l.Change.String()+" "+who)
			}
			assert.Equal(t, c.lines, strings.Join(lines, ", "))
			assert.Equal(t, c.changed, d.Changed)
			assert.Equal(t, c.first, d.First)
			assert.Equal(t, c.step, d.Step.Or(-1))
		})
	}
}

func TestFewFlowsMissBranches(t *testing.T) {
	both := route.NewGather(target)
	for flow := range 16 {
		follow(both, flow, 20*time.Millisecond, 1, 2+flow%2, 4)
	}
	one := way(20*time.Millisecond, 1, 2, 4)
	assert.False(t, route.Compare(both.Route(), one).Changed, "one flow sees one branch: the other may be there still")
	three := route.NewGather(target)
	for flow := range 16 {
		follow(three, flow, 20*time.Millisecond, 1, 2, 4)
	}
	assert.True(t, route.Compare(both.Route(), three.Route()).Changed, "sixteen flows would have met it")
}

func TestBranches(t *testing.T) {
	g := route.NewGather(target)
	follow(g, 0, 20*time.Millisecond, 1, 2, 5)
	follow(g, 1, 22*time.Millisecond, 1, 3, 5)
	follow(g, 2, 20*time.Millisecond, 1, 0, 5) // one answer is missing: either
	follow(g, 3, 20*time.Millisecond, 1, 2, 5)
	r := g.Route()
	require.Len(t, r.Branches, 2)
	assert.True(t, r.Balanced())
	assert.Equal(t, []int{0, 2, 3}, r.Branches[0].Flows)
	assert.InDelta(t, 0.75, r.Branches[0].Share.Value(), 1e-9)
	assert.Equal(t, []int{2}, r.Branches[0].Own)
	assert.Equal(t, "198.51.100.1 198.51.100.2|198.51.100.3 198.51.100.5 203.0.113.26", r.Key())
	assert.Len(t, r.Edges, 8, "here to 1; 1 to 2, to 3 and to who is silent; those three to 5; 5 to the target")
}

func TestPerPacket(t *testing.T) {
	g := route.NewGather(target)
	for n := range 8 {
		follow(g, 0, 20*time.Millisecond, 1, 2+n%2, 5)
	}
	r := g.Route()
	assert.True(t, r.Hops[1].PerPacket, "one flow met both")
	assert.Len(t, r.Branches, 1, "flows do not differ")
	assert.Contains(t, r.Key(), "~")
}

func TestATargetThatSparesIsWhereItIs(t *testing.T) {
	g := route.NewGather(target)
	follow(g, 0, 20*time.Millisecond, 1, 2)
	follow(g, 1, 20*time.Millisecond, 1, 2, 0, 0) // TTL 3 and 4 got no answer, 5 did
	r := g.Route()
	assert.Len(t, r.Hops, 3)
	require.Len(t, r.Branches, 1)
	assert.Equal(t, 2, r.Loss.Lost, "what it spared is still not answered")
	longer := route.NewGather(target)
	follow(longer, 0, 20*time.Millisecond, 1, 2)
	follow(longer, 1, 20*time.Millisecond, 1, 3, 4)
	assert.Len(t, longer.Route().Hops, 4, "a router answers there: that way is longer")
}

func TestSearchesDoNotCountAsLoss(t *testing.T) {
	g := route.NewGather(target)
	for range 10 {
		g.Add(route.Probe{TTL: 1, Search: true})
	}
	follow(g, 0, time.Millisecond, 1)
	r := g.Route()
	assert.Equal(t, 1, r.Hops[0].Loss.Sent)
	assert.Zero(t, r.Hops[0].Loss.Lost)
}

func TestOwners(t *testing.T) {
	o, err := route.ParseOwners(strings.NewReader("# ours first\nprefix,owner,kind\n192.0.2.0/24, Skerry Line, ours\n198.51.100.0/24,Kelpnet,transit\n\"198.51.100.64/26\",\"Kelpnet, islands\",Access\n2001:db8::/32,Skerry Line,far end\n203.0.113.7,Quay,far end\n"))
	require.NoError(t, err)
	for a, want := range map[string]string{"192.0.2.9": "Skerry Line ours", "198.51.100.1": "Kelpnet transit", "198.51.100.65": "Kelpnet, islands access", "2001:db8:5::1": "Skerry Line far end", "203.0.113.7": "Quay far end", "203.0.113.8": " "} {
		x, _ := o.Of(netip.MustParseAddr(a))
		assert.Equal(t, want, x.Name+" "+string(x.Kind), a)
	}
	for file, says := range map[string]string{
		"a,b":                   "2 fields instead of three",
		"192.0.2.0/33,x,ours":   "is no prefix",
		"192.0.2.1/24,x,ours":   "bits behind its length",
		"192.0.2.0/24,,ours":    "has no owner",
		"192.0.2.0/24,x,theirs": "none of ours, access, transit, far end",
		"192.0.2.0/24,x,ours\n192.0.2.0/24,y,ours": "is in line 1 already",
		"\"192.0.2.0/24,x,ours":                    "quote",
	} {
		_, err := route.ParseOwners(strings.NewReader(file))
		require.ErrorContains(t, err, says, file)
		assert.ErrorContains(t, err, "line", "and which line")
	}
}

func FuzzOwners(f *testing.F) {
	f.Add("prefix,owner,kind\n192.0.2.0/24,Skerry Line,ours\n")
	f.Add("\"\n,,\n::/0,x,transit")
	f.Fuzz(func(t *testing.T, text string) {
		o, err := route.ParseOwners(strings.NewReader(text))
		if err == nil && !o.Empty() {
			o.Of(target)
		}
	})
}

func TestStability(t *testing.T) {
	at := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	var list []route.Sighting
	for i, key := range []string{"a", "a", "a", "b", "a", "a"} {
		list = route.See(list, key, at.Add(time.Duration(i)*time.Hour))
	}
	require.Len(t, list, 3)
	s := route.StabilityOf(list)
	assert.Equal(t, route.Stability{Distinct: 2, Changes: 2, Longest: 3 * time.Hour, Prevalence: 5. / 6}, s)
	assert.Equal(t, route.Stability{}, route.StabilityOf(nil))
}

func TestHopsBack(t *testing.T) {
	for ttl, want := range map[int]int{64: 1, 60: 5, 128: 1, 120: 9, 255: 1, 240: 16} {
		n, ok := route.Probe{BackTTL: ttl}.HopsBack()
		assert.True(t, ok)
		assert.Equal(t, want, n, "TTL %d", ttl)
	}
	_, ok := route.Probe{}.HopsBack()
	assert.False(t, ok)
}
