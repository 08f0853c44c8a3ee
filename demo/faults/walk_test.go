package faults_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/objective"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/probe/walk"
	"woodlark.example/wire"
)

// concludes checks what a measurement concluded against the truth: what it must
// say it says, what it must not it does not, and where nothing is wrong it names
// no fault.
func concludes(t *testing.T, x faults.Exercise, by string, found []finding.Finding) {
	t.Helper()
	var got []string
	for _, f := range found {
		got = append(got, string(f.Code))
		assert.NotEmpty(t, f.Sentence)
		assert.NotEmpty(t, f.Advice, f.Code)
		assert.True(t, f.Sure > 0 && f.Sure <= 1, f.Code)
		assert.NotContains(t, x.MustNot, string(f.Code), "%s", f.Sentence)
	}
	var must []string
	for _, e := range x.Must {
		must = append(must, e.Code)
		if e.By != by {
			continue
		}
		i := slices.Index(got, e.Code)
		if !assert.GreaterOrEqual(t, i, 0, "%s must be found, not %v", e.Code, got) {
			continue
		}
		f := found[i]
		if e.Port > 0 {
			assert.Equal(t, float64(e.Port), f.Figures["port"])
		}
		if e.MTU > 0 {
			assert.Equal(t, float64(e.MTU), f.Figures["mtu_bytes"])
		}
		assert.Contains(t, f.Sentence, e.Address)
		if e.Hop != "" && by == "walk" {
			assert.Contains(t, f.Sentence, "gateway")
		}
	}
	if !x.Fault {
		for _, code := range got {
			assert.Contains(t, must, code, "nothing is wrong here")
		}
	}
}

func model(t *testing.T, x faults.Exercise) *world.Model {
	m, err := world.Read(x.File(), world.Options{Reference: reference})
	require.NoError(t, err)
	return m
}

func at(t *testing.T, m *world.Model, x faults.Exercise) *live.Host {
	h, err := live.Virtual(m, reference).At(x.From)
	require.NoError(t, err)
	return h
}

// TestTheWalk goes from near to far in each world.
func TestTheWalk(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			m := model(t, x)
			r := walk.Request{Target: x.To, Probes: 2000, Mark: 3, Address: m.Addresses(x.To, wire.IPv4)[0]}
			for _, e := range x.Must {
				r.Port = max(r.Port, uint16(e.Port))
			}
			h := at(t, m, x)
			result, err := walk.Go(t.Context(), h, h, r)
			require.NoError(t, err)
			require.NotEmpty(t, result.Steps)
			concludes(t, x, "walk", result.Findings)
			if result.Walk.Unresolved {
				assert.Len(t, result.Steps, 2, "it stops where it breaks")
			}
		})
	}
}

// TestAllAddressesOfTheName asks every address of the target's name, of both
// families, at the same time.
func TestAllAddressesOfTheName(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			m := model(t, x)
			h := at(t, m, x)
			name := x.To
			if aliases := m.Nodes()[mustFind(t, m, x.To)].Aliases; len(aliases) > 0 {
				name = aliases[0] // that users know it by
			}
			addrs := m.Addresses(name, 0)
			addrs = slices.DeleteFunc(addrs, func(a netip.Addr) bool {
				_, ok := m.Nodes()[mustFind(t, m, x.From)].Addr(wire.FamilyOf(a))
				return !ok
			})
			results, err := ping.Measure(t.Context(), h, ping.Request{Addrs: addrs, Probes: 2000, Interval: 20 * time.Millisecond, Wait: time.Second, Mark: 5})
			require.NoError(t, err)
			var asked []finding.Asked
			for _, r := range results {
				asked = append(asked, finding.Asked{Addr: r.Addr, Via: r.Via.String(), Reading: r.Reading, Probes: r.Probes})
			}
			concludes(t, x, "kinds", finding.OfKinds(asked))
		})
	}
}

func mustFind(t *testing.T, m *world.Model, name string) int {
	i, err := m.Find(name)
	require.NoError(t, err)
	return i
}

// TestSizes searches for the path MTU in each world where the target answers.
func TestSizes(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			m := model(t, x)
			found, err := ping.FindMTU(t.Context(), at(t, m, x), ping.SizeRequest{Addr: m.Addresses(x.To, wire.IPv4)[0], Mark: 9})
			require.NoError(t, err)
			concludes(t, x, "sizes", finding.OfMTU(found))
			if found.MTU > 0 && !strings.Contains(strings.Join(codesOf(x), " "), "mtu") {
				assert.Equal(t, 1500, found.MTU)
				assert.Equal(t, 1500, found.Link)
			}
		})
	}
}

func codesOf(x faults.Exercise) (codes []string) {
	for _, e := range x.Must {
		codes = append(codes, e.Code)
	}
	return codes
}

// TestTheObjective holds what is measured to the objective for voice.
func TestTheObjective(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			m := model(t, x)
			results, err := ping.Measure(t.Context(), at(t, m, x), ping.Request{Addrs: m.Addresses(x.To, wire.IPv4)[:1], Probes: 6000, Interval: 50 * time.Millisecond, Wait: time.Second, Mark: 5})
			require.NoError(t, err)
			o, err := objective.Find("voice")
			require.NoError(t, err)
			found := finding.OfVerdict(o.Judge(results[0].Reading, results[0].Probes))
			concludes(t, x, "objective", slices.DeleteFunc(found, func(finding.Finding) bool { return x.Name == "far-out-at-sea" || x.Name == "the-miserly-terminal" }))
		})
	}
}
