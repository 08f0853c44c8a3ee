package api_test

import (
	"fmt"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/network/world"
)

// TestAPathBecomesAWorld of its probes; of a time without any it does not.
func TestAPathBecomesAWorld(t *testing.T) {
	s := serve(t)
	at := func(path ident.ID, from, to time.Time) string {
		return fmt.Sprintf("/paths/%s/likeness?", path) + url.Values{"from": {from.UTC().Format(time.RFC3339Nano)}, "to": {to.UTC().Format(time.RFC3339Nano)}}.Encode()
	}
	now := time.Now()
	var made apitype.LikeWorld
	s.ask(http.MethodGet, at(s.path, now.Add(-time.Hour), now), "", http.StatusOK, &made)
	assert.Equal(t, "quay", made.From)
	m, err := world.Read([]byte(made.World), world.Options{})
	require.NoError(t, err, made.World)
	_, err = m.Find(made.From)
	require.NoError(t, err)
	far, err := m.Find(made.To)
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.9", m.Nodes()[far].Addresses[0].String(), "under its own address")
	assert.Positive(t, made.Likeness.There.DelayMs)
	assert.NotEmpty(t, made.Likeness.Notes, "what was not measured is said")
	assert.Contains(t, made.World, "# What was not measured")

	s.refused(http.MethodGet, at(s.path, now.Add(-72*time.Hour), now.Add(-71*time.Hour)), "", http.StatusNotFound)
	s.refused(http.MethodGet, at(s.path, now, now.Add(-time.Hour)), "", http.StatusUnprocessableEntity)
	s.refused(http.MethodGet, at(s.path, now.Add(-48*time.Hour), now), "", http.StatusUnprocessableEntity)
	s.refused(http.MethodGet, at(ident.New(), now.Add(-time.Hour), now), "", http.StatusNotFound)
	s.refused(http.MethodGet, fmt.Sprintf("/paths/%s/likeness", s.path), "", http.StatusUnprocessableEntity)
}
