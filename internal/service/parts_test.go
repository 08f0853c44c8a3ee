package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
)

// TestSeveralMeasurementsInOneWatch: side by side between the same ends, planned each by itself,
// kept over a restart, changed and removed as one.
func TestSeveralMeasurementsInOneWatch(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	spec := watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}, Tags: []string{"islands"},
		Also: []watches.Part{{Kind: "trace", Every: time.Hour}, {Kind: "ping", Every: 5 * time.Minute}, {Kind: "ping", Every: 10 * time.Minute}}}
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "islands", spec, false)
	require.NoError(t, err)
	names := func(c *service.Service) (list []string) {
		found, err := c.Watches.Find("islands")
		require.NoError(t, err)
		for _, p := range found.Also {
			list = append(list, p.Name)
		}
		return list
	}
	all := []string{"islands, trace", "islands, ping 2", "islands, ping 3"}
	assert.Equal(t, all, names(c))
	assert.Len(t, c.Watches.All(), 1, "it is one watch")
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	assert.Equal(t, all, names(again))
	of := c.Watches.OfPaths()
	assert.Len(t, of[w.Paths[0]], 3, "the path is measured by the watch and by both of its other pings")

	// What is measured on stays what it was: by its kind.
	trace, err := c.Watches.Find("islands, trace")
	require.NoError(t, err)
	spec.Also = []watches.Part{{Kind: "ping", Every: 15 * time.Minute}, {Kind: "trace", Every: 2 * time.Hour}}
	w, err = c.Watches.Save(t.Context(), w.ID, "isles", spec, true)
	require.NoError(t, err)
	same, err := c.Watches.Find("isles, trace")
	require.NoError(t, err)
	assert.Equal(t, trace.ID, same.ID)
	assert.Equal(t, 2*time.Hour, same.Spec.Every)
	assert.True(t, same.Paused)
	_, err = c.Watches.Find("islands, ping 3")
	assert.Error(t, err)
	_, err = c.Watches.Whole("isles, trace")
	assert.ErrorContains(t, err, `"isles, trace" is a part of the watch "isles"`)
	_, err = c.Watches.Apply(t.Context(), []watches.Wanted{{Name: "isles, trace", Spec: watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}}}, false)
	assert.ErrorContains(t, err, "is a part of")
	changes, err := c.Watches.Apply(t.Context(), []watches.Wanted{{Name: "isles", Spec: spec, Paused: true}}, true)
	require.NoError(t, err)
	assert.True(t, changes[0].Same())

	for _, bad := range []struct {
		part watches.Part
		says string
	}{
		{watches.Part{Kind: "trace"}, "also, number 1 (trace): a trace is not continuous"},
		{watches.Part{Kind: "gull"}, "gull"},
	} {
		spec.Also = []watches.Part{bad.part}
		_, err := c.Watches.Save(t.Context(), ident.ID{}, "bad", spec, false)
		require.Error(t, err)
		assert.ErrorContains(t, err, bad.says)
	}
	require.NoError(t, c.Watches.Remove(t.Context(), mustFind(t, c, "isles")))
	assert.Empty(t, c.Watches.All())
	assert.Empty(t, c.Watches.OfPaths())
	_, err = c.Watches.Find("isles, trace")
	assert.Error(t, err)
}

func mustFind(t *testing.T, c *service.Service, name string) watches.Watch {
	w, err := c.Watches.Find(name)
	require.NoError(t, err)
	return w
}
