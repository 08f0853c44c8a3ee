package faults_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/network/world/schedule"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/wire"
)

// byTrace are the codes that a trace alone concludes. What a truth does not say
// another measurement must tell, a trace must.
var byTrace = []finding.Code{finding.LossCarried, finding.LossSparing, finding.DelayCarried, finding.DelaySparing, finding.BranchLossy, finding.BranchDead, finding.BranchSlow,
	finding.Refusals, finding.RouteLoop, finding.RouteChanged, finding.RouteAsymmetric}

// traceFrom traces as the command does, in virtual time that starts at a moment.
func traceFrom(t *testing.T, m *world.Model, from string, to netip.Addr, start time.Time, probes int, kinds ...reading.Via) (finding.Traced, trace.Result) {
	t.Helper()
	h, err := live.Virtual(m, start).At(from)
	require.NoError(t, err)
	r := trace.Request{Addr: to, Probes: probes, Interval: 250 * time.Millisecond}
	if len(kinds) > 0 {
		r.Via = kinds[0]
	}
	mark := 11 + uint64(start.Sub(reference)/time.Hour) // at another hour by other flows
	results, err := trace.Measure(t.Context(), h, h, trace.Options{Mark: mark}, r)
	require.NoError(t, err)
	require.NoError(t, results[0].Err)
	x := results[0].Traced()
	if probes > 0 {
		x.Other = trace.Doubted(t.Context(), h, h, trace.Options{Mark: 13}, results[0])
	}
	x.Names = trace.Names(t.Context(), h, results[0], nil, time.Second)
	return x, results[0]
}

// TestTheTrace traces the route in each world: 1,000 probes to each hop.
func TestTheTrace(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			m := model(t, x)
			to := m.Addresses(x.To, wire.IPv4)[0]
			found, result := traceFrom(t, m, x.From, to, reference, 1000)
			earlier, later := reference, reference
			for _, e := range x.Must {
				if e.Since != "" && e.Code == string(finding.RouteChanged) { // from before the change
					earlier = sinceOf(t, e.Since).Add(-2 * time.Hour)
					later = sinceOf(t, e.Since).Add(2 * time.Hour)
				}
			}
			if !result.Route.Reached && result.Ended == trace.AtSilence {
				h := at(t, m, x)
				found.ByOther = trace.ByOther(t.Context(), h, h, trace.Options{Mark: 12}, trace.Request{Addr: to})
			}
			back, err := m.Find(x.To)
			require.NoError(t, err)
			home := m.Addresses(x.From, wire.IPv4)[0]
			if m.Nodes()[back].Name == x.To && result.Route.Reached {
				other, _ := traceFrom(t, m, x.To, home, reference, 0)
				found.Back = &other.Route
				for a, n := range other.Names {
					found.Names[a] = n
				}
			}
			if earlier != later {
				found, _ = traceFrom(t, m, x.From, to, later, 0)
				was, _ := traceFrom(t, m, x.From, to, earlier, 0)
				found.Earlier, found.When = &was.Route, "the route before"
			} else { // compared with itself at another time, nothing changed
				was, _ := traceFrom(t, m, x.From, to, reference.Add(time.Minute), 0)
				found.Earlier, found.When = &was.Route, "the route a minute later"
			}
			tells(t, x, finding.OfTrace(found), found)
		})
	}
}

func sinceOf(t *testing.T, text string) time.Time {
	when, err := schedule.Instant(text, reference, time.UTC)
	require.NoError(t, err)
	return when
}

// tells checks what a trace concluded against the truth.
func tells(t *testing.T, x faults.Exercise, found []finding.Finding, traced finding.Traced) {
	concluded := map[string][]finding.Finding{}
	for _, f := range found {
		concluded[string(f.Code)] = append(concluded[string(f.Code)], f)
		assert.NotContains(t, x.MustNot, string(f.Code), "%s", f.Sentence)
		assert.NotEmpty(t, f.Advice)
	}
	must := map[string]bool{}
	for _, e := range x.Must {
		must[e.Code] = true
		if !slices.Contains(byTrace, finding.Code(e.Code)) || e.By != "" && e.By != "trace" {
			continue
		}
		if !assert.NotEmpty(t, concluded[e.Code], "%s must be found, not %v", e.Code, found) {
			continue
		}
		f := concluded[e.Code][0] // of several the one that names the hop at the end of it
		for _, other := range concluded[e.Code] {
			if n := int(other.Figures["hop"]); e.Hop != "" && n > 0 && traced.Names[traced.Hops[n-1].Addr()] == e.Hop {
				f = other
			}
		}
		assert.Contains(t, f.Sentence, e.Hop)
		assert.Contains(t, f.Sentence, e.Branch)
		assert.Contains(t, f.Sentence, e.Back)
		for _, h := range e.Hops {
			assert.Contains(t, f.Sentence, h)
		}
		if e.Hop != "" && f.Figures["hop"] > 0 && e.Code != string(finding.RouteChanged) && e.Code != string(finding.BranchDead) && len(traced.Hops[int(f.Figures["hop"])-1].Nodes) == 1 {
			assert.Equal(t, e.Hop, traced.Names[traced.Hops[int(f.Figures["hop"])-1].Addr()], "%s", f.Sentence)
		}
		if e.Share != "" {
			share, err := strconv.ParseFloat(strings.TrimSuffix(e.Share, "%"), 64)
			require.NoError(t, err)
			assert.InDelta(t, share/100, f.Figures["share_ratio"], 0.25, "of 16 flows")
		}
		if e.Loss != "" {
			want := part(t, e.Loss)
			low, high := f.Figures["low_ratio"], f.Figures["high_ratio"]
			assert.True(t, low-0.005 <= want && want <= high+0.005, "%s: %g to %g", f.Sentence, low, high)
		}
		for key, text := range map[string]string{"added_ms": e.Added, "step_ms": e.Step} {
			if text != "" {
				d, err := time.ParseDuration(text)
				require.NoError(t, err)
				assert.InDelta(t, float64(d)/1e6, f.Figures[key], 0.02*float64(d)/1e6+0.2, key)
			}
		}
	}
	for code, list := range concluded {
		f := list[0]
		// That a far hop is far is no fault, and is said all the same.
		if !x.Fault && code != string(finding.DelayCarried) {
			assert.True(t, must[code] || code == string(finding.LossSparing) || code == string(finding.DelaySparing), "nothing is wrong here: %s", f.Sentence)
		}
	}
}

// TestDeadWaysByAllKinds: a way that lets nothing through is told whatever the probes are,
// whichever flow is tried first, and its neighbour without such a way is not accused.
func TestDeadWaysByAllKinds(t *testing.T) {
	for _, c := range []struct {
		world string
		hop   string // behind which flows vanish
	}{{"half-of-us-are-cut-off", "gw.northquay.example"}, {"cut-off-behind-the-second", "middle.transit.example"}, {"two-good-ways", ""}} {
		for _, via := range []string{"icmp", "udp:33434", "tcp:443"} {
			for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
				t.Run(fmt.Sprintf("%s %s %v", c.world, via, f), func(t *testing.T) {
					t.Parallel()
					x, err := faults.Find(c.world)
					require.NoError(t, err)
					m := model(t, x)
					kind, err := reading.ParseVia(via)
					require.NoError(t, err)
					told := 0
					for shift := range 4 { // flows are others at another time
						found, _ := traceFrom(t, m, x.From, m.Addresses(x.To, f)[0], reference.Add(time.Duration(shift)*time.Hour), 60, kind)
						for _, f := range finding.OfTrace(found) {
							assert.NotContains(t, []finding.Code{finding.LossCarried, finding.BranchLossy, finding.Refusals}, f.Code, f.Sentence)
							if f.Code == finding.BranchDead {
								assert.Contains(t, f.Sentence, c.hop)
								told++
							}
						}
					}
					if c.hop == "" {
						assert.Zero(t, told)
					} else {
						assert.Equal(t, 4, told, "each time")
					}
				})
			}
		}
	}
}
