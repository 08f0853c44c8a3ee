package service_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/transfer"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// handedOut are the readings of a service as lines of JSON, in an order of their own.
func handedOut(t *testing.T, c *service.Service, s transfer.Spec) (lines []transfer.Line, texts []string) {
	t.Helper()
	require.NoError(t, c.Transfer.Out(t.Context(), s, func(l transfer.Line) error {
		b, err := json.Marshal(l)
		require.NoError(t, err)
		var again transfer.Line
		require.NoError(t, json.Unmarshal(b, &again))
		lines, texts = append(lines, again), append(texts, string(b))
		return nil
	}))
	slices.Sort(texts)
	return lines, texts
}

// TestFiguresAreEqualElsewhere: two days of two paths, with losses, late and refused probes, out
// and into an empty service: readings, probes and rollups are equal, however often it is done.
func TestFiguresAreEqualElsewhere(t *testing.T) {
	a, _ := open(t, storetest.New(t))
	w := addWatch(t, a, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}, Tags: []string{"islands"}})
	end := time.Now().Truncate(time.Hour).UTC()
	for n, id := range w.Paths {
		u := protocol.Upload{Agent: quay(a)}
		for i := range 600 {
			at := end.Add(-50*time.Hour + time.Duration(i)*5*time.Minute)
			var probes []reading.Probe
			for k := range 20 {
				p := reading.Probe{DueAt: at.Add(time.Duration(k) * time.Second)}
				switch {
				case (i*7+k)%11 == 0: // lost
				case (i+k)%53 == 0:
					p.Outcome, p.Cause = reading.Refused, "port unreachable"
				default:
					p.Outcome, p.RTT, p.Stamp = reading.Answered, time.Duration(9_000_123+i*k*317+n)*time.Nanosecond, reading.StampKernel
				}
				probes = append(probes, p)
			}
			r := protocol.Record{Path: id, Watch: w.ID, Reading: reading.Of(at, 20*time.Second, 20, time.Second, probes), Packed: reading.Pack(at, probes)}
			if i%100 == 3 {
				r.Flags = protocol.HeldBack | protocol.Cut
			}
			u.Readings = append(u.Readings, r)
		}
		require.NoError(t, a.Upload(t.Context(), u))
	}
	span := transfer.Spec{From: end.Add(-90 * 24 * time.Hour), To: end.Add(time.Hour)}
	lines, texts := handedOut(t, a, span)
	require.Len(t, lines, 1200)
	assert.Equal(t, []string{"held_back", "cut"}, lines[3].Notes)

	b, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC})
	require.NoError(t, err)
	for round := range 2 {
		taken := 0
		for some := range slices.Chunk(lines, 500) {
			n, err := b.Transfer.In(t.Context(), some)
			require.NoError(t, err)
			taken += n
		}
		assert.Equal(t, []int{1200, 0}[round], taken)
	}
	_, same := handedOut(t, b, span)
	assert.Equal(t, texts, same)
	now := end.Add(48 * time.Hour)
	require.NoError(t, a.Paths.Roll(t.Context(), now))
	require.NoError(t, b.Paths.Roll(t.Context(), now))
	for i, id := range w.Paths {
		there := pathTo(t, b, fmt.Sprintf("192.0.2.%d", i+1))
		for _, s := range store.RollupSpans() {
			x, err := a.Store.Rollups(t.Context(), id, s, span.From, span.To)
			require.NoError(t, err)
			y, err := b.Store.Rollups(t.Context(), there, s, span.From, span.To)
			require.NoError(t, err)
			require.NotEmpty(t, x)
			assert.Equal(t, x, y, "rollups of %v", s)
		}
	}
	few, _ := handedOut(t, a, transfer.Spec{From: end.Add(-50 * time.Hour), To: end.Add(-49 * time.Hour), Selection: selection.Selection{Targets: []string{"192.0.2.2"}}})
	assert.Len(t, few, 12)
	none, _ := handedOut(t, a, transfer.Spec{From: span.From, To: span.To, Selection: selection.Selection{Sites: []string{"Atlantis"}}})
	assert.Empty(t, none)
	agent, err := b.Fleet.Named("quay")
	require.NoError(t, err)
	assert.Equal(t, "imported", agent.Kind)
	wrongReadings(t, b, lines[0])
}

func pathTo(t *testing.T, c *service.Service, target string) ident.ID {
	t.Helper()
	for _, p := range c.Paths.All() {
		if p.Target == target {
			return p.ID
		}
	}
	t.Fatal("no path to " + target)
	return ident.ID{}
}

// wrongReadings are refused by their place and what is wrong; then none of those beside is taken.
func wrongReadings(t *testing.T, c *service.Service, good transfer.Line) {
	t.Helper()
	for says, spoil := range map[string]func(l *transfer.Line){
		"from is to be a name":      func(l *transfer.Line) { l.From = " " },
		"family is 4 or 6, not 5":   func(l *transfer.Line) { l.Family = 5 },
		"is not of family 6":        func(l *transfer.Line) { l.Family = 6 },
		"to: ":                      func(l *transfer.Line) { l.To = "a b" },
		"via is to be":              func(l *transfer.Line) { l.Via = "" },
		"lies before 2000 or ahead": func(l *transfer.Line) { l.StartedAt = time.Now().Add(time.Hour) },
		"before 2000":               func(l *transfer.Line) { l.StartedAt = time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC) },
		"not within a day":          func(l *transfer.Line) { l.SpanS = 1e6 },
		"lost -1 cannot be":         func(l *transfer.Line) { l.Lost = -1 },
		"more than the":             func(l *transfer.Line) { l.Answered = 1000 },
		"no round trip":             func(l *transfer.Line) { l.RTTMedianMs, l.RTTMeanMs = nil, nil },
		"cannot be":                 func(l *transfer.Line) { v := -3.0; l.RTTMinMs = &v },
		"no note \"sad\"":           func(l *transfer.Line) { l.Notes = []string{"sad"} },
		"cannot be read":            func(l *transfer.Line) { l.Probes = []byte{0xff, 1, 2} },
		"its probes are":            func(l *transfer.Line) { l.Lost, l.Sent = l.Lost+1, l.Sent+1 },
	} {
		fresh := good
		fresh.From = "elsewhere"
		bad := good
		spoil(&bad)
		n, err := c.Transfer.In(t.Context(), []transfer.Line{fresh, bad})
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
		assert.ErrorContains(t, err, "reading 2", says)
		assert.Zero(t, n)
	}
	assert.False(t, slices.ContainsFunc(c.Fleet.Agents(), func(a store.Agent) bool { return a.Name == "elsewhere" }), "nothing is half taken")
	_, err := c.Transfer.In(t.Context(), make([]transfer.Line, 20_001))
	assert.ErrorContains(t, err, "at a time")
	assert.ErrorIs(t, c.Transfer.Out(t.Context(), transfer.Spec{From: time.Now(), To: time.Now().Add(-time.Hour)}, nil), kind.ErrInvalid)
}
