package reading_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
)

func TestParseVia(t *testing.T) {
	for text, want := range map[string]reading.Via{
		"icmp": {}, "tcp:443": {Kind: reading.ByTCP, Port: 443}, "UDP:7": {Kind: reading.ByUDP, Port: 7},
		"stamp": {Kind: reading.ByStamp, Port: 862}, "stamp:4862": {Kind: reading.ByStamp, Port: 4862},
	} {
		v, err := reading.ParseVia(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, v)
		again, err := reading.ParseVia(v.String())
		require.NoError(t, err)
		assert.Equal(t, v, again, "what it writes is what it reads")
	}
	for text, says := range map[string]string{
		"tcp": "names no port", "tcp:70000": `port "70000" is not between 1 and 65535`, "udp:": "not between", "tcp:http": "not between",
		"icmp:1": "no ports", "sctp:9": "none of icmp, tcp:PORT", "": "none of icmp", "tcp:0": "not between",
	} {
		_, err := reading.ParseVia(text)
		require.ErrorIs(t, err, reading.ErrVia, text)
		assert.ErrorContains(t, err, says)
	}
	list, err := reading.ParseVias("icmp, tcp:443")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	_, err = reading.ParseVias("icmp,icmp")
	require.ErrorContains(t, err, "twice")
}

// TestViaAsJSON: as text, as an earlier release wrote it, and never as something else.
func TestViaAsJSON(t *testing.T) {
	for text, want := range map[string]string{`"tcp:443"`: "tcp:443", `"icmp"`: "icmp", `{"Kind":1,"Port":443}`: "tcp:443", `{"Kind":0,"Port":0}`: "icmp", `{"Kind":3,"Port":862}`: "stamp"} {
		var v reading.Via
		require.NoError(t, json.Unmarshal([]byte(text), &v), text)
		assert.Equal(t, want, v.String())
		back, err := json.Marshal(v)
		require.NoError(t, err)
		assert.Equal(t, `"`+want+`"`, string(back))
	}
	for _, text := range []string{`"quic:443"`, `{"Kind":9,"Port":443}`, `7`, `"tcp"`} {
		var v reading.Via
		assert.ErrorIs(t, json.Unmarshal([]byte(text), &v), reading.ErrVia, text)
	}
}
