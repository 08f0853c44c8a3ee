package service_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/incident"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/guests"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func never(ident.ID) bool { return false }

// opened is what a guest sees by a secret.
func opened(t *testing.T, c *service.Service, secret string) string {
	t.Helper()
	html, _, err := c.Guests.Open(t.Context(), secret, "", never, "192.0.2.250")
	require.NoError(t, err)
	return string(html)
}

// TestWhatGuestsSee of an incident, a run and a report: that, and nothing beside it; frozen, what
// was so as the link was made.
func TestWhatGuestsSee(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4"}, Tags: []string{"islands"}})
	other := addWatch(t, c, "other", watches.Spec{From: []string{"quay"}, To: []string{"198.51.100.9"}})
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: quay(c)}
	for ago := 60; ago > 0; ago-- {
		for _, id := range append(w.Paths, other.Paths...) {
			u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, 0))
		}
	}
	require.NoError(t, c.Upload(t.Context(), u))
	add := func(s guests.Spec) (store.GuestLink, string) {
		if s.Title == "" {
			s.Title = "x"
		}
		s.EndsAt = time.Now().Add(time.Hour)
		l, secret, err := c.Guests.Add(t.Context(), s)
		require.NoError(t, err)
		return l, secret
	}

	x := guard.Incident{From: end.Add(-30 * time.Minute), ToldAt: end.Add(-20 * time.Minute), Measure: baseline.RTT, Sure: 0.99, Segment: incident.Segment{From: "203.0.113.1", To: "203.0.113.2"}}
	for _, id := range w.Paths[:3] {
		x.Members = append(x.Members, guard.Member{Path: c.Paths.Key(c.Paths.ByID(id)), Episodes: []int{1}})
	}
	require.NoError(t, c.Incidents.Found(t.Context(), []guard.Incident{x}))
	body, err := json.Marshal(c.Incidents.Open()[0].Incident)
	require.NoError(t, err)
	found := c.Incidents.Open()[0].ID
	require.NoError(t, c.Store.SaveIncidents(t.Context(), []store.Incident{{ID: found, FromAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), Body: string(body)}}))
	_, secret := add(guests.Spec{What: "incident", Subject: guests.Subject{ID: found.String()}, Notes: "first line\n\nsecond <line>"})
	seen := opened(t, c, secret)
	for _, says := range []string{"3 paths got worse together", "203.0.113.2", "192.0.2.3", "first line", "second &lt;line&gt;"} {
		assert.Contains(t, seen, says)
	}
	assert.NotContains(t, seen, "192.0.2.4")
	assert.NotContains(t, seen, "198.51.100.9")
	_, secret = add(guests.Spec{What: "path", Subject: guests.Subject{ID: w.Paths[0].String()}})
	seen = opened(t, c, secret)
	assert.Contains(t, seen, "2 other paths", "of an incident only how many others are part of it")
	assert.NotContains(t, seen, "192.0.2.2")

	k := kind.In("traces")
	found2, err := json.Marshal(map[string]any{"target": "192.0.2.1", "hops": []any{map[string]any{"ttl": 1, "address": "203.0.113.77", "nodes": []any{map[string]any{"address": "203.0.113.77"}}}}})
	require.NoError(t, err)
	run := ident.New()
	made := protocol.Made{Run: run, Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: "192.0.2.1", Family: 4}, Started: end.Add(-10 * time.Minute), Ended: end.Add(-9 * time.Minute), Outcome: protocol.Done, OnDemand: true, Body: found2}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Made: []protocol.Made{made}}))
	_, secret = add(guests.Spec{What: "run", Subject: guests.Subject{ID: run.String()}})
	seen = opened(t, c, secret)
	for _, says := range []string{"203.0.113.77", "<dt>from</dt><dd>quay</dd>", "done"} {
		assert.Contains(t, seen, says)
	}

	l, secret := add(guests.Spec{What: "report", Frozen: true, Subject: guests.Subject{Of: selection.Selection{Tags: []string{"islands"}}}})
	first := opened(t, c, secret)
	assert.Contains(t, first, "192.0.2.4")
	assert.NotContains(t, first, "198.51.100.9")
	_, err = c.Annotations.Add(t.Context(), store.Annotation{At: end, Text: "later on"})
	require.NoError(t, err)
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	assert.Equal(t, first, opened(t, again, secret), "frozen, also by another process")
	assert.Len(t, again.Guests.All(), 4)
	require.NoError(t, again.Guests.End(t.Context(), l.ID))
	_, _, err = again.Guests.Open(t.Context(), secret, "", never, "192.0.2.250")
	require.ErrorIs(t, err, guests.ErrOver)
	_, _, err = again.Guests.Open(t.Context(), strings.ToUpper(secret), "", never, "192.0.2.250")
	require.ErrorIs(t, err, guests.ErrNone)
	assert.ErrorIs(t, again.Guests.End(t.Context(), ident.New()), store.ErrNotFound)

	for says, s := range map[string]guests.Spec{
		"goes on": {What: "run", Subject: guests.Subject{ID: began(t, c).String()}}, "for reports only": {What: "path", Subject: guests.Subject{ID: w.Paths[0].String(), Of: selection.Selection{Tags: []string{"a"}}}}, "no identifier of an incident": {What: "incident", Subject: guests.Subject{ID: "gull"}},
		"has no identifier": {What: "report", Subject: guests.Subject{ID: "gull"}}, "belong together": {What: "report", Subject: guests.Subject{From: end}}, "within 93 days": {What: "report", Subject: guests.Subject{Last: 100 * 24 * time.Hour}},
	} {
		s.Title, s.EndsAt = "x", time.Now().Add(time.Hour)
		_, _, err := c.Guests.Add(t.Context(), s)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	_, _, err = c.Guests.Add(t.Context(), guests.Spec{What: "incident", Subject: guests.Subject{ID: ident.New().String()}, Title: "x", EndsAt: time.Now().Add(time.Hour)})
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// began is a run that goes on.
func began(t *testing.T, c *service.Service) ident.ID {
	t.Helper()
	id := ident.New()
	require.NoError(t, c.Store.BeginRuns(t.Context(), []store.Run{{ID: id, Kind: kind.In("traces").Name, Version: 1, AgentID: quay(c), Target: "192.0.2.1", Family: 4, StartedAt: time.Now().UTC(), Outcome: protocol.Running}}))
	return id
}
