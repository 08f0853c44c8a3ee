package faults_test

import (
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/network/world/schedule"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/wire"
)

// reference is noon on a Wednesday: no change that comes back by the hour holds.
var reference = time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)

func all(t *testing.T) []faults.Exercise {
	t.Helper()
	list, err := faults.List()
	require.NoError(t, err)
	return list
}

func TestTheSetIsWhole(t *testing.T) {
	wrong, alike := 0, 0
	must, mustNot := map[string]bool{}, map[string]bool{}
	for _, x := range all(t) {
		if x.Fault {
			wrong++
		} else {
			alike++
		}
		assert.NotEmpty(t, x.Complaint, x.Name)
		assert.NotEmpty(t, x.Truth, x.Name)
		assert.NotEmpty(t, x.Facts, "%s: its truth is measured below", x.Name)
		assert.True(t, !x.Fault || len(x.Must) > 0, "%s: a fault is to be found", x.Name)
		for _, e := range x.Must {
			must[e.Code] = true
			assert.NotContains(t, x.MustNot, e.Code, x.Name)
			assert.NotEmpty(t, faults.Meaning(e.Code), "%s: %s", x.Name, e.Code)
		}
		for _, code := range x.MustNot {
			mustNot[code] = true
			assert.NotEmpty(t, faults.Meaning(code), "%s: %s", x.Name, code)
		}
	}
	assert.GreaterOrEqual(t, wrong, 24)
	assert.GreaterOrEqual(t, alike, 8)
	for _, code := range faults.Codes() {
		assert.True(t, must[code], "%s is to be found somewhere", code)
	}
	assert.Greater(t, len(mustNot), 20)
	_, err := faults.Find("nothing-of-the-kind")
	require.ErrorContains(t, err, "no exercise")
}

func TestTheFilesAreSound(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			m, warnings, err := world.Check(x.File(), world.Options{Reference: reference})
			require.NoError(t, err)
			assert.Equal(t, x.Name, m.Name)
			for _, w := range warnings {
				assert.True(t, slices.ContainsFunc(x.Odd, func(odd string) bool { return strings.Contains(w.Text, odd) }), "%s", w)
			}
			assert.Equal(t, len(x.Odd) > 0, len(warnings) > 0)
			for _, name := range []string{x.From, x.To} {
				_, err := m.Find(name)
				require.NoError(t, err)
			}
			for _, e := range x.Must {
				for _, name := range append(slices.Clone(e.Hops), e.Hop, e.Branch, e.Back) {
					if name != "" {
						_, err := m.Find(name)
						require.NoError(t, err)
					}
				}
			}
		})
	}
}

// scene is a world in which facts are checked.
type scene struct {
	x faults.Exercise
	m *world.Model
}

func (s scene) node(t *testing.T, name string) int {
	t.Helper()
	i, err := s.m.Find(name)
	require.NoError(t, err)
	return i
}

func (s scene) address(t *testing.T, f faults.Fact) netip.Addr {
	t.Helper()
	to, family := f.To, wire.IPv4
	if to == "" {
		to = s.x.To
	}
	if f.Family == 6 {
		family = wire.IPv6
	}
	a, ok := s.m.Nodes()[s.node(t, to)].Addr(family)
	require.True(t, ok)
	return a
}

func (s scene) at(t *testing.T, f faults.Fact) time.Time {
	t.Helper()
	if f.At == "" {
		return reference
	}
	at, err := schedule.Instant(f.At, reference, time.UTC)
	require.NoError(t, err)
	return at
}

func part(t *testing.T, text string) float64 {
	t.Helper()
	v, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	require.NoError(t, err)
	return v / 100
}

// TestTheTruthsAreTrue measures in each world what its truth says of it.
func TestTheTruthsAreTrue(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			m, err := x.World(reference, time.UTC)
			require.NoError(t, err)
			s := scene{x, m}
			for _, f := range x.Facts {
				s.echoes(t, f)
				s.path(t, f)
				s.refusal(t, f)
				s.name(t, f)
				s.port(t, f)
				s.size(t, f)
			}
		})
	}
}

// echoes checks loss and RTT.
func (s scene) echoes(t *testing.T, f faults.Fact) {
	t.Helper()
	if f.Missing != "" {
		missing := 0
		w := s.m.Walker()
		for i := range 400 {
			if !w.Echo(s.node(t, s.x.From), s.address(t, f), s.at(t, f).Add(time.Duration(i)*250*time.Millisecond), uint64(i)).Answered {
				missing++
			}
		}
		assert.GreaterOrEqual(t, float64(missing)/400, part(t, f.Missing)-0.02)
	}
	if f.Lost == "" {
		return
	}
	var rtts []float64
	w := s.m.Walker()
	for i := range f.Probes {
		fate := w.Echo(s.node(t, s.x.From), s.address(t, f), s.at(t, f).Add(time.Duration(i)*20*time.Millisecond), uint64(i))
		if fate.Answered {
			rtts = append(rtts, float64(fate.RTT)/1e6)
		}
	}
	p, n := part(t, f.Lost), float64(f.Probes)
	// Losses in runs vary more than single ones: five packets a run, twice as much.
	assert.InDelta(t, p*n, n-float64(len(rtts)), 4*3*math.Sqrt(n*p*(1-p))+1e-9, "lost of %g", n)
	if f.RTT == "" {
		return
	}
	want, err := time.ParseDuration(f.RTT)
	require.NoError(t, err)
	slices.Sort(rtts)
	assert.InEpsilon(t, float64(want)/1e6, rtts[len(rtts)/2], 0.02, "median RTT")
}

func (s scene) path(t *testing.T, f faults.Fact) {
	t.Helper()
	if len(f.Path) == 0 {
		return
	}
	var names []string
	for _, n := range s.m.Walker().Send(world.Probe{From: s.node(t, s.x.From), To: s.address(t, f), At: s.at(t, f)}, true).Nodes {
		names = append(names, s.m.Nodes()[n].Name)
	}
	assert.Equal(t, f.Path, names)
}

func (s scene) refusal(t *testing.T, f faults.Fact) {
	t.Helper()
	if f.Says == "" {
		return
	}
	p := s.m.Walker().Send(world.Probe{From: s.node(t, s.x.From), To: s.address(t, f), At: s.at(t, f)}, false)
	require.True(t, p.Refused)
	assert.Equal(t, f.Says, wire.NewICMPError(wire.IPv4, p.Kind, nil).Refusal(wire.IPv4))
	if f.Node != "" {
		assert.Equal(t, f.Node, s.m.Nodes()[p.Node].Name)
	}
}

// name asks the resolvers, in virtual time.
func (s scene) name(t *testing.T, f faults.Fact) {
	t.Helper()
	if f.Resolves == nil {
		return
	}
	h, err := live.Virtual(s.m, reference).At(s.x.From)
	require.NoError(t, err)
	var wg sync.WaitGroup
	h.Clock().Go(&wg, func() {
		_, err := h.Lookup(t.Context(), f.Name, wire.IPv4)
		assert.Equal(t, *f.Resolves, err == nil, "%v", err)
	})
	wg.Wait()
	if f.After != "" {
		least, err := time.ParseDuration(f.After)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, h.Clock().Now().Sub(reference), least)
	}
}

// port knocks at a TCP port with a packet of its own.
func (s scene) port(t *testing.T, f faults.Fact) {
	t.Helper()
	if f.Port == 0 {
		return
	}
	src, _ := s.m.Nodes()[s.node(t, s.x.From)].Addr(wire.IPv4)
	syn := wire.TCP{SrcPort: 50000, DstPort: uint16(f.Port), Flags: wire.SYN, Window: 1024}
	h := wire.IP{Src: src, Dst: s.address(t, f), Protocol: wire.ProtocolTCP, TTL: 64}
	state := "filtered"
	traffic := s.m.Traffic(reference)
	traffic.Attach(s.node(t, s.x.From), func(b []byte, _ time.Time) bool {
		_, payload, err := wire.ParseIP(b)
		require.NoError(t, err)
		answer, err := wire.ParseTCP(payload)
		require.NoError(t, err)
		state = map[bool]string{true: "closed", false: "open"}[answer.Has(wire.RST)]
		return true
	})
	require.NoError(t, traffic.Send(s.node(t, s.x.From), h.Marshal(syn.Marshal(src, h.Dst)), reference))
	traffic.Advance(reference.Add(10 * time.Second))
	assert.Equal(t, f.State, state)
}

func (s scene) size(t *testing.T, f faults.Fact) {
	t.Helper()
	if f.Size == 0 {
		return
	}
	p := s.m.Walker().Send(world.Probe{From: s.node(t, s.x.From), To: s.address(t, f), At: reference, Size: f.Size, Whole: true}, false)
	assert.False(t, p.Arrived)
	assert.Equal(t, *f.Told > 0, p.Refused)
	assert.Equal(t, *f.Told, p.MTU)
	if f.Node != "" {
		assert.Equal(t, f.Node, s.m.Nodes()[p.Node].Name)
	}
	if *f.Told > 0 {
		fits := s.m.Walker().Send(world.Probe{From: s.node(t, s.x.From), To: s.address(t, f), At: reference, Size: *f.Told, Whole: true}, false)
		assert.True(t, fits.Arrived)
	}
}

// TestWhatPingAloneCanTell lets the engine loose on each world, in virtual time:
// what it must find it finds, what it must not it does not.
func TestWhatPingAloneCanTell(t *testing.T) {
	for _, x := range all(t) {
		t.Run(x.Name, func(t *testing.T) {
			m, err := x.World(reference, time.UTC)
			require.NoError(t, err)
			s := scene{x, m}
			h, err := live.Virtual(m, reference).At(x.From)
			require.NoError(t, err)
			probes := 3000
			for _, e := range x.Must {
				if e.By == "ping" && e.Probes > 0 {
					probes = e.Probes
				}
			}
			results, err := ping.Measure(t.Context(), h, ping.Request{Addrs: []netip.Addr{s.address(t, faults.Fact{})}, Probes: probes, Interval: 200 * time.Millisecond, Wait: 2 * time.Second, Mark: 9})
			require.NoError(t, err)
			var found []string
			for _, f := range finding.OfReading(results[0].Reading, results[0].Probes) {
				found = append(found, string(f.Code))
			}
			for _, e := range x.Must {
				if e.By == "ping" {
					assert.Contains(t, found, e.Code)
				}
			}
			for _, code := range x.MustNot {
				assert.NotContains(t, found, code)
			}
		})
	}
}
