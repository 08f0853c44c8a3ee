package trace_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/probe/trace"
)

// twoWays are two equal ways, by the north and by the south, that routers at both ends choose
// by the flow: so half of the flows go by the south, and half come back by it, and the
// one says nothing of the other. What the link of the south does is filled in.
const twoWays = `
world: two-ways
seed: 9
nodes:
  - {name: here.example, addresses: [192.0.2.2]}
  - {name: gw.example, router: true, addresses: [192.0.2.1]}
  - {name: split.example, router: true, addresses: [198.51.100.1]}
  - {name: north.example, router: true, addresses: [198.51.100.11]}
  - {name: south.example, router: true, addresses: [198.51.100.13]}
  - {name: join.example, router: true, addresses: [198.51.100.2]}
  - {name: edge.example, router: true, addresses: [203.0.113.1]}
  - {name: there.example, addresses: [203.0.113.2], tcp: {443: open}}
links:
  - {between: [here.example, gw.example], delay: 100us}
  - {between: [gw.example, split.example], delay: 2ms, variation: gamma 100us}
  - {between: [split.example, north.example], delay: 3ms}
  - {between: [split.example, south.example], delay: 3ms}
  - {between: [north.example, join.example], delay: 3ms}
  - {between: [south.example, join.example], delay: 3ms%s}
  - {between: [join.example, edge.example], delay: 3ms, variation: gamma 100us}
  - {between: [edge.example, there.example], delay: 100us}
`

// TestWhichWayIsWorse: a way there that is worse is named, whichever way back flows are
// put on, and a way back that is worse is never laid to a way there; for many draws of
// the flows.
func TestWhichWayIsWorse(t *testing.T) {
	const byChance = "whichever of the ways there"
	for name, c := range map[string]struct {
		south string
		code  finding.Code // that must be told
		says  string
		never []string // no sentence has that
		codes []finding.Code
	}{
		"slow there":         {", toward: {join.example: {delay: 33ms}}", finding.BranchSlow, "by south.example (198.51.100.13) takes 30.", []string{"by north", byChance}, []finding.Code{finding.BranchLossy}},
		"slow back":          {", toward: {south.example: {delay: 33ms}}", finding.BranchSlow, byChance, []string{"branch by"}, []finding.Code{finding.BranchLossy, finding.DelayCarried}},
		"slow there, back":   {", toward: {south.example: {delay: 33ms}, join.example: {delay: 33ms}}", finding.BranchSlow, "by south.example (198.51.100.13) takes 30.", []string{"by north"}, []finding.Code{finding.BranchLossy}},
		"lossy there":        {", toward: {join.example: {loss: 10%}}", finding.BranchLossy, "south.example", []string{"north", byChance}, []finding.Code{finding.BranchSlow, finding.LossCarried}},
		"lossy back":         {", toward: {south.example: {loss: 10%}}", finding.BranchLossy, byChance, []string{"branch by", "spares its answers, and the way to it"}, []finding.Code{finding.BranchSlow}},
		"a little slow back": {", toward: {south.example: {delay: 3500us}}", "", "", []string{"branch by", byChance}, []finding.Code{finding.BranchSlow, finding.BranchLossy}},
		"both sound":         {"", "", "", nil, []finding.Code{finding.BranchSlow, finding.BranchLossy, finding.LossCarried, finding.DelayCarried}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			apart, told := 0, 0
			for mark := range 8 {
				h := inWorld(t, fmt.Sprintf(twoWays, c.south), "here.example")
				results, err := trace.Measure(t.Context(), h, h, trace.Options{Mark: uint64(1000 + mark)}, trace.Request{Addr: netip.MustParseAddr("203.0.113.2"), Probes: 1500, Interval: 250 * time.Millisecond})
				require.NoError(t, err)
				r := results[0]
				if len(r.Route.Branches) < 2 {
					continue // the search may stop before it has seen the other
				}
				apart++
				report := r.Report(t.Context(), h, h, trace.Context{Names: true, Target: "there.example"})
				hit := false
				for _, f := range report.Findings {
					hit = hit || f.Code == c.code && strings.Contains(f.Sentence, c.says)
					assert.NotContains(t, c.codes, f.Code, "mark %d: %s", mark, f.Sentence)
					for _, n := range c.never {
						assert.NotContains(t, f.Sentence, n, "mark %d", mark)
					}
				}
				if hit {
					told++
				}
			}
			assert.Greater(t, apart, 5)
			if c.code != "" {
				assert.GreaterOrEqual(t, told, apart-1)
			}
		})
	}
}
