package service_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestAWatchMayHaveAsManyPathsAsItSays: as many as a watch may have, each with a long name.
func TestAWatchMayHaveAsManyPathsAsItSays(t *testing.T) {
	s := storetest.New(t)
	c, err := service.New(t.Context(), service.Options{Store: s, Zone: time.UTC})
	require.NoError(t, err)
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated", Address: "192.0.2.1"}, nil))
	spec := watches.Spec{From: []string{"quay"}}
	for i := range 20_000 {
		spec.To = append(spec.To, fmt.Sprintf("landing-stage-%05d.north.shore.example", i))
	}
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "all stages", spec, true)
	require.NoError(t, err)
	assert.Len(t, w.Paths, 20_000)
	w, err = c.Watches.Save(t.Context(), w.ID, "all stages", spec, true)
	require.NoError(t, err, "and change")
	kept, err := s.Watches(t.Context())
	require.NoError(t, err)
	require.Len(t, kept, 1)
	var back watches.Spec
	require.NoError(t, json.Unmarshal([]byte(kept[0].Spec), &back))
	assert.Equal(t, spec.To, back.To)
	paths, err := s.WatchPaths(t.Context())
	require.NoError(t, err)
	assert.Len(t, paths, 20_000)
	changes, err := s.Changes(t.Context(), store.Changed{}, store.Page{Limit: 5})
	require.NoError(t, err)
	assert.Len(t, changes, 2, "both are noted")
}
