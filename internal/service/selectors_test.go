package service_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
)

// TestWhoTakesPartInAWatch: agents by name, site and label, in meshes and around a hub, and those
// that join later.
func TestWhoTakesPartInAWatch(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	keys := map[string]string{}
	join := func(name, site, labels string) {
		code, _, err := c.Fleet.Invite(t.Context(), name, site, labels, time.Hour)
		require.NoError(t, err)
		a, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: name}, map[string]string{"pier": "192.0.2.11", "mole": "192.0.2.12", "wharf": "192.0.2.13"}[name])
		require.NoError(t, err)
		keys[name] = a.Key
	}
	plan := func(name string) protocol.Plan {
		_, worker, ok := c.Fleet.ByKey(keys[name])
		require.True(t, ok)
		p, _ := worker.Plan()
		return p
	}
	join("pier", "Holm", "edge, radio")
	join("mole", "Holm", "edge")
	save := func(name string, s watches.Spec) (watches.Watch, error) {
		return c.Watches.Save(t.Context(), ident.ID{}, name, s, false)
	}
	ends := func(w watches.Watch) (list []string) {
		found, err := c.Watches.Find(w.Name)
		require.NoError(t, err)
		for _, id := range found.Paths {
			a, p, err := c.Paths.Ends(id)
			require.NoError(t, err)
			list = append(list, a.Name+" "+p.Target)
		}
		slices.Sort(list)
		return list
	}
	mesh, err := save("mesh", watches.Spec{From: []string{"label:edge"}, To: []string{"label:edge"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"mole pier", "pier mole"}, ends(mesh), "nobody measures to itself")
	require.Len(t, plan("pier").Tasks, 1)
	assert.Equal(t, "192.0.2.12", plan("pier").Tasks[0].Target, "where it stands")
	star, err := save("star", watches.Spec{From: []string{"pier"}, To: []string{"mole", "192.0.2.77"}, Back: true, Every: time.Minute})
	require.NoError(t, err)
	assert.Equal(t, []string{"mole pier", "pier 192.0.2.77", "pier mole"}, ends(star))
	routes, err := save("routes", watches.Spec{Kind: "trace", From: []string{"site:Holm"}, To: []string{"label:edge"}, Every: time.Hour})
	require.NoError(t, err)
	assert.Empty(t, routes.Paths)
	lane := func(name string) kind.Lane {
		for _, s := range plan(name).Standing {
			if s.Order.Kind == "trace" {
				require.Len(t, s.Order.Lanes, 1)
				return s.Order.Lanes[0].Lane
			}
		}
		t.Fatalf("%s has no trace", name)
		return kind.Lane{}
	}
	assert.Equal(t, "pier", lane("mole").Target)
	assert.Equal(t, "192.0.2.11", lane("mole").Address.String())

	join("wharf", "Holm", "edge")
	assert.Len(t, ends(mesh), 6, "who joins later takes part")
	assert.Len(t, plan("wharf").Tasks, 2)
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	kept, err := again.Watches.Find("mesh")
	require.NoError(t, err)
	assert.Len(t, kept.Paths, 6)
	require.NoError(t, c.Fleet.Remove(t.Context(), "mole"))
	assert.Len(t, ends(mesh), 2, "who is locked out does so no more")
	assert.Equal(t, "192.0.2.13", plan("pier").Tasks[0].Target)

	for _, x := range []struct {
		s    watches.Spec
		says string
	}{
		{watches.Spec{From: []string{"label:gull"}, To: []string{"192.0.2.1"}}, "label:gull matches no agent; there is label:edge, label:radio"},
		{watches.Spec{From: []string{"site:Ternpoint"}, To: []string{"192.0.2.1"}}, "there is site:Holm, site:Northquay"},
		{watches.Spec{From: []string{"pier"}, To: []string{"label:gull"}}, "label:gull matches no agent"},
		{watches.Spec{From: []string{"pier"}, To: []string{"pier"}}, `"pier" is both ends`},
		{watches.Spec{From: []string{"gull"}, To: []string{"pier"}}, `no agent "gull"`},
		{watches.Spec{From: []string{"label:edge"}, To: []string{"192.0.2.0/24"}}, "is a prefix"},
		{watches.Spec{From: []string{"label:edge"}, To: slicesOf("192.0.2.1", 20001)}, "more than 20000"},
	} {
		before := len(c.Watches.All())
		_, err := save("bad", x.s)
		if assert.ErrorIs(t, err, kind.ErrInvalid, x.says) {
			assert.ErrorContains(t, err, x.says)
		}
		assert.Len(t, c.Watches.All(), before, "nothing is half applied")
	}
}

// TestWhatHindersAWatchIsSaid: words that mean nobody any more, agents that are away or of an
// older release. It stays in the list with its reasons.
func TestWhatHindersAWatchIsSaid(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	code, _, err := c.Fleet.Invite(t.Context(), "pier", "Holm", "radio", time.Hour)
	require.NoError(t, err)
	joined, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier"}, "192.0.2.11")
	require.NoError(t, err)
	hinders := func(name string) []string {
		w, err := c.Watches.Find(name)
		require.NoError(t, err)
		return c.Watches.Hindrances(&w)
	}
	save := func(name string, s watches.Spec) {
		_, err := c.Watches.Save(t.Context(), ident.ID{}, name, s, false)
		require.NoError(t, err)
	}
	save("own", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}})
	assert.Empty(t, hinders("own"))
	save("far", watches.Spec{From: []string{"label:radio"}, To: []string{"192.0.2.1"}})
	assert.Equal(t, []string{"agent pier is away"}, hinders("far"))
	save("at six", watches.Spec{From: []string{"pier"}, To: []string{"192.0.2.1"}, Every: time.Hour, Times: schedule.Times{Hours: "06:00-07:00"}})
	pier, proxy, ok := c.Fleet.ByKey(joined.Key)
	require.True(t, ok)
	_, _, ok = proxy.Connect(t.Context())
	require.True(t, ok)
	assert.Empty(t, hinders("far"))
	c.Fleet.NoteProtocol(t.Context(), pier, 2, []string{"what has times"})
	assert.Equal(t, []string{"agent pier is of an older release, which does not make it"}, hinders("at six"))
	assert.Empty(t, hinders("far"), "what it does make is not hindered")
	require.NoError(t, c.Fleet.Remove(t.Context(), "pier"))
	assert.Contains(t, hinders("far")[0], "label:radio matches no agent")
}
