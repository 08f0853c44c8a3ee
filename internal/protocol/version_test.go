package protocol_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
)

func TestVersions(t *testing.T) {
	for text, want := range map[string]int{"": 1, "1": 1, "2": 2, "17": 17, "gull": 1, "-3": 1} {
		assert.Equal(t, want, protocol.ParseVersion(text), text)
	}
}

// TestAPlanForAnAgentOfTheFirstVersion: what it knows it gets in its own form, and the rest is
// named.
func TestAPlanForAnAgentOfTheFirstVersion(t *testing.T) {
	path := ident.New()
	via := reading.Via{Kind: reading.ByTCP, Port: 443}
	standing := func(name, spec string, lanes ...protocol.RunLane) protocol.Standing {
		return protocol.Standing{Every: time.Minute, Order: protocol.RunOrder{Kind: name, Version: 1, Spec: []byte(spec), Lanes: lanes}}
	}
	lane := protocol.RunLane{Path: path, Lane: kind.Lane{Target: "192.0.2.9", Family: 4, Via: "stamp:862"}}
	away := standing("stream", `{}`)
	away.Away = true
	plan, lacks := protocol.Plan{
		Tasks: []protocol.Task{
			{Path: path, Target: "192.0.2.7", Family: 4, Via: via, Interval: time.Second, DSCP: 46},
			{Path: path, Target: "192.0.2.8", Poisson: true},
		},
		Standing: []protocol.Standing{standing("ping", `{"probes": 7, "interval": "50ms", "dscp": "EF"}`, lane), standing("ping", `{"probes": 7, "ttl": 9}`, lane), standing("trace", `{}`), away},
	}.For(1)
	text, err := json.Marshal(plan)
	require.NoError(t, err)
	// As the release before read it.
	var was struct {
		Tasks []struct {
			Target   string
			Via      struct{ Kind, Port int }
			Every    time.Duration
			Probes   int
			Interval time.Duration
			DSCP     uint8
		} `json:"tasks"`
	}
	require.NoError(t, json.Unmarshal(text, &was))
	require.Len(t, was.Tasks, 2)
	assert.Equal(t, struct{ Kind, Port int }{1, 443}, was.Tasks[0].Via)
	assert.Equal(t, uint8(46), was.Tasks[0].DSCP)
	assert.Zero(t, was.Tasks[0].Every)
	assert.Equal(t, struct{ Kind, Port int }{3, 862}, was.Tasks[1].Via)
	assert.Equal(t, 7, was.Tasks[1].Probes)
	assert.Equal(t, time.Minute, was.Tasks[1].Every)
	assert.Equal(t, 50*time.Millisecond, was.Tasks[1].Interval)
	assert.Equal(t, uint8(46), was.Tasks[1].DSCP)
	assert.Equal(t, []string{"pings at random times, or by an interface, source, TTL or key of their own", "a ping again and again", "a trace again and again", "a stream while the service is away"}, lacks)
}

// TestAPlanForAnAgentThatKnowsNoTimes: it would measure at hours that are not allowed.
func TestAPlanForAnAgentThatKnowsNoTimes(t *testing.T) {
	night := schedule.Times{Hours: "22:00-06:00"}
	p := protocol.Plan{Tasks: []protocol.Task{{Target: "192.0.2.7"}, {Target: "192.0.2.8", Times: []schedule.Times{night}}},
		Standing: []protocol.Standing{{Every: time.Hour, Order: protocol.RunOrder{Kind: "trace"}}, {Times: schedule.Times{Cron: "0 3 * * *"}, Order: protocol.RunOrder{Kind: "trace"}}}}
	plan, lacks := p.For(2)
	q := plan.(protocol.Plan)
	require.Len(t, q.Tasks, 1)
	assert.Equal(t, "192.0.2.7", q.Tasks[0].Target)
	require.Len(t, q.Standing, 1)
	assert.Equal(t, time.Hour, q.Standing[0].Every)
	assert.Equal(t, []string{"what has times: cron expressions, hours, a begin or an end"}, lacks)
	plan, lacks = p.For(protocol.Version)
	assert.Equal(t, p, plan)
	assert.Empty(t, lacks)
	_, lacks = p.For(1)
	assert.Contains(t, lacks, "a trace again and again")
	assert.Len(t, lacks, 2)
}
