package service_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/incident"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestAnIncidentWhoseEpisodesAreOverEndsAfterARestart: the service was killed between keeping
// that its episodes are over and keeping that it is.
func TestAnIncidentWhoseEpisodesAreOverEndsAfterARestart(t *testing.T) {
	s := storetest.New(t)
	began := time.Now().Add(-time.Hour).UTC().Truncate(time.Second)
	body, err := json.Marshal(guard.Incident{Number: 7, From: began, ToldAt: began, Measure: baseline.RTT, Segment: incident.Segment{From: "192.0.2.1", To: "203.0.113.81"},
		Members: []guard.Member{{Path: guard.Key{From: "quay", To: "192.0.2.9", Family: "4", Via: "icmp"}, Episodes: []int{1}}, {Path: guard.Key{From: "gone"}, Episodes: []int{3}}}})
	require.NoError(t, err)
	require.NoError(t, s.SaveIncidents(t.Context(), []store.Incident{{ID: ident.New(), FromAt: began, ToldAt: began, Body: string(body)}}))
	c, _ := open(t, s)
	require.Len(t, c.Incidents.Open(), 1)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		assert.NoError(t, c.Run(ctx))
	}()
	require.Eventually(t, func() bool {
		list, err := c.Incidents.Between(t.Context(), began.Add(-time.Minute), time.Now())
		return err == nil && len(list) == 1 && !list[0].Open()
	}, time.Minute, 20*time.Millisecond)
	cancel()
	<-ended
	assert.Empty(t, c.Incidents.Open())
}
