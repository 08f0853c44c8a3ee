package service_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/watches"
)

func TestSpecs(t *testing.T) {
	good := watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "2001:db8::1", "terminal.holm.example", "under_score.example", "a"}}
	for _, c := range []struct {
		name   string
		change func(*watches.Spec)
		says   string
	}{
		{"as it is", func(*watches.Spec) {}, ""},
		{"every five minutes", func(s *watches.Spec) { s.Every = 5 * time.Minute }, ""},
		{"an interval that does not divide a minute, with runs", func(s *watches.Spec) { s.Every, s.How = time.Minute, how(t, "ping", `{"interval": "70ms"}`) }, ""},
		{"sizes, with runs", func(s *watches.Spec) {
			s.Every, s.How = time.Minute, how(t, "ping", `{"find_path_mtu": true, "objective": "voice"}`)
		}, ""},
		{"no agent", func(s *watches.Spec) { s.From = nil }, "at least one agent"},
		{"no target", func(s *watches.Spec) { s.To = nil }, "at least one target"},
		{"an empty target", func(s *watches.Spec) { s.To = []string{""} }, "a target is empty"},
		{"a target with spaces", func(s *watches.Spec) { s.To = []string{"a b"} }, "neither an IP address nor a host's name"},
		{"a label that is too long", func(s *watches.Spec) { s.To = []string{strings.Repeat("x", 64) + ".example"} }, "neither an IP address"},
		{"a name that is too long", func(s *watches.Spec) { s.To = []string{strings.Repeat("x.", 150)} }, "300 characters long"},
		{"a half address", func(s *watches.Spec) { s.To = []string{"192.0.2"} }, "is not an IP address"},
		{"a prefix", func(s *watches.Spec) { s.To = []string{"2001:db8::/64"} }, "is a prefix"},
		{"a broken prefix", func(s *watches.Spec) { s.To = []string{"192.0.2.0/99"} }, "is not a prefix"},
		{"too many paths", func(s *watches.Spec) { s.To = slicesOf("a", 20001) }, "more than 20000 paths"},
		{"too fast", func(s *watches.Spec) { s.How = how(t, "ping", `{"interval": "1ms"}`) }, "not between 10ms and 1m"},
		{"uneven", func(s *watches.Spec) { s.How = how(t, "ping", `{"interval": "7s"}`) }, "does not divide a minute evenly"},
		{"too often", func(s *watches.Spec) { s.Every = time.Second }, "less than 10s"},
		{"probes", func(s *watches.Spec) { s.How = how(t, "ping", `{"probes": -1}`) }, "probes -1"},
		{"wait", func(s *watches.Spec) { s.How = how(t, "ping", `{"wait": "1h"}`) }, "wait 1h0m0s"},
		{"payload", func(s *watches.Spec) { s.How = how(t, "ping", `{"payload_bytes": 8}`) }, "payload_bytes 8"},
		{"sizes, without a pause", func(s *watches.Spec) { s.How = how(t, "ping", `{"find_path_mtu": true}`) }, "find_path_mtu is of a run"},
		{"an objective, without a pause", func(s *watches.Spec) { s.How = how(t, "ping", `{"objective": "voice"}`) }, "objective is of a run"},
		{"at times of a clock", func(s *watches.Spec) {
			s.Times = schedule.Times{Cron: "0 9-17 * * MON-FRI", Zone: "Europe/Dublin", Hours: "08:00-16:00"}
		}, ""},
		{"twice how often", func(s *watches.Spec) { s.Every, s.Times.Cron = time.Hour, "0 9 * * *" }, "leave one out"},
		{"no such zone", func(s *watches.Spec) { s.Times = schedule.Times{Cron: "0 9 * * *", Zone: "Skerry/North"} }, "no time zone"},
		{"never", func(s *watches.Spec) { s.Times = schedule.Times{Cron: "0 9 * * *", Hours: "10:00-11:00"} }, "at no time"},
		{"times too near for a load run", func(s *watches.Spec) {
			s.Kind, s.To, s.Times, s.How = "throughput", []string{"holm"}, schedule.Times{Cron: "* * * * *"}, how(t, "throughput", `{}`)
		}, "1m0s apart, less than"},
		{"sizes, at times of a clock", func(s *watches.Spec) {
			s.Times.Cron, s.How = "@hourly", how(t, "ping", `{"find_path_mtu": true}`)
		}, ""},
	} {
		spec := good
		c.change(&spec)
		err := spec.WithDefaults().Check()
		if c.says == "" {
			assert.NoError(t, err, c.name)
			continue
		}
		require.ErrorIs(t, err, kind.ErrInvalid, c.name)
		assert.ErrorContains(t, err, c.says, c.name)
		assert.Less(t, len(err.Error()), 2_000_000, c.name)
	}
}

func slicesOf(s string, n int) (list []string) {
	for range n {
		list = append(list, s)
	}
	return list
}

// TestSpecsOfEarlierReleases: what they kept in the database is read as it was meant.
func TestSpecsOfEarlierReleases(t *testing.T) {
	for text, want := range map[string]string{
		`{"kind":"ping","from":["quay"],"to":["holm"],"via":"icmp,tcp:443","family":"both","every":300000000000,"interval":500000000,"probes":20,"wait":2000000000,"payload":64,"dscp":46,"tags":["a"]}`:                                                                                              `{"via":"icmp,tcp:443","family":"both","interval":"500ms","probes":20,"wait":"2s","payload_bytes":64,"dscp":"EF","seed":1}`,
		`{"from":["quay"],"to":["holm"],"via":"","family":"4","every":0,"interval":1000000000,"probes":20,"wait":2000000000,"payload":48,"dscp":0,"tags":null}`:                                                                                                                                       `{"via":"icmp","family":"4","interval":"1s","probes":20,"wait":"2s","payload_bytes":48,"seed":1}`,
		`{"kind":"sweep","from":["quay"],"to":["192.0.2.0/24"],"via":"icmp","family":"4","every":3600000000000,"interval":1000000000,"probes":20,"wait":1000000000,"payload":48,"dscp":0,"exclude":["192.0.2.9"],"rate":250,"random":true}`:                                                           `{"via":"icmp","packets_per_second":250,"wait":"1s","rounds":2,"exclude":["192.0.2.9"],"random":true,"names":true,"seed":1}`,
		`{"kind":"trace","from":["quay"],"to":["holm"],"via":"udp:33434","family":"4","every":900000000000,"interval":1000000000,"probes":5,"wait":1000000000,"payload":48,"one_flow":true,"path_mtu":true}`:                                                                                          `{"via":"udp:33434","family":"4","probes":5,"interval":"1s","wait":"1s","payload_bytes":48,"last_ttl":30,"first_ttl":1,"silent":5,"retries":2,"one_flow":true,"find_path_mtu":true,"names":true}`,
		`{"kind":"throughput","from":["quay"],"to":["holm"],"via":"icmp","family":"4","every":21600000000000,"interval":1000000000,"probes":20,"wait":2000000000,"payload":48,"two":{"for":5000000000,"protocol":"udp","rate_bps":5e7,"search":true,"repeats":3,"no_explain":true},"day_bytes":1000}`: `{"protocol":"udp","direction":"each","for":"5s","streams":1,"rate_bps":5e7,"payload_bytes":1400,"search":true,"repeats":3,"explain":false}`,
		`{"kind":"stream","from":["quay"],"to":["holm"],"via":"icmp","family":"4","every":900000000000,"interval":1000000000,"two":{"codec":"g711","buffer":"adaptive"}}`:                                                                                                                             `{"direction":"both","for":"10s","codec":"g711","calls":1,"buffer":"adaptive"}`,
	} {
		var s watches.Spec
		require.NoError(t, json.Unmarshal([]byte(text), &s), text)
		require.NoError(t, s.Check(), text)
		data, err := json.Marshal(s.Values())
		require.NoError(t, err)
		assert.JSONEq(t, want, string(data), text)
		again, err := json.Marshal(s)
		require.NoError(t, err)
		var back watches.Spec
		require.NoError(t, json.Unmarshal(again, &back))
		assert.Equal(t, s, back, "as it is kept from now on")
	}
	var s watches.Spec
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"kind":"ping","version":9}`), &s), "unknown version 9 of ping")
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"kind":"dowse","version":1}`), &s), "unknown kind")
}
