package cli

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/host"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/kind/throughput"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

func TestWhereToListen(t *testing.T) {
	at, err := listenAt(":7474")
	require.NoError(t, err)
	assert.True(t, at.Addr().IsUnspecified())
	_, err = listenAt("holm:7474")
	assert.ErrorContains(t, err, "with an IP address")
}

func TestWhereTheKeyComesFrom(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, []byte("tern\n"), 0o600))
	t.Setenv("WOODLARK_KEY", " gull ")
	for _, c := range []struct{ key, file, want, says string }{
		{"", "", "gull", ""}, {"auk", "", "auk", ""}, {"", file, "tern", ""}, {"auk", file, "", "exclude each other"}, {"", file + "x", "", "read the key"}, {"", "/dev/null", "", "holds no key"},
	} {
		got, err := sharedKey(c.key, c.file)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
}

// callOf is a call of a command with arguments, that can be looked at.
func callOf(cmd command, args ...string) (*call, *bytes.Buffer) {
	var out bytes.Buffer
	return newCall(cmd, context.Background(), args, strings.NewReader(""), &out, &out), &out
}

func TestWhatAnOwnerAllows(t *testing.T) {
	for args, says := range map[string]string{
		"-allow 192.0.2.0/24,gull": "is not a prefix", "-rate-most fast": "is not a rate", "-load-hours noon": "are not hours of the day", "-spool-most -5": "is below zero",
		"-listen :7474": "say with -advertise", "-listen gull": "is not ADDRESS:PORT", "-invite x": "has not joined a service", "quay": "there is nothing to do with",
	} {
		c, _ := callOf(agentCommand, append(strings.Fields(args), "-state", t.TempDir())...)
		assert.ErrorContains(t, runAgent(c), says, args)
	}
	o := agentOptions{allow: "192.0.2.0/24", rate: "5M", hours: "22:00-06:00"}
	options, err := o.read()
	require.NoError(t, err)
	assert.Equal(t, "sends to 192.0.2.0/24 only; sends 5.00 Mbit/s at most; bandwidth tests at 22:00-06:00", options.Limits)
}

func TestAnAgentThatHasJoined(t *testing.T) {
	folder := t.TempDir()
	c, _ := callOf(agentCommand)
	file := filepath.Join(folder, "agent.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"service": "http://127.0.0.1:1", "name": "pier", "key": "k"}`), 0o600))
	me, err := c.agentIdentity(agentOptions{state: folder})
	require.NoError(t, err)
	assert.Equal(t, "pier", me.Name)
	_, err = c.agentIdentity(agentOptions{state: folder, join: "http://127.0.0.1:1", invite: "x"})
	require.ErrorContains(t, err, "has joined already")
	require.NoError(t, os.WriteFile(file, []byte(`{`), 0o600))
	_, err = c.agentIdentity(agentOptions{state: folder})
	require.ErrorContains(t, err, "is damaged")
	_, err = c.agentIdentity(agentOptions{state: t.TempDir(), join: "http://127.0.0.1:1", invite: "x", name: "pier"})
	require.ErrorContains(t, err, "was not reached")
}

// TestAnAgentThatDidNotHearThatItJoined joins by the same key when it is given the same invite again.
func TestAnAgentThatDidNotHearThatItJoined(t *testing.T) {
	var asked []remote.JoinRequest
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := gzip.NewReader(r.Body)
		assert.NoError(t, err)
		var j remote.JoinRequest
		assert.NoError(t, json.NewDecoder(body).Decode(&j))
		if asked = append(asked, j); len(asked) == 1 {
			panic(http.ErrAbortHandler) // it was taken, and the answer is lost on the way
		}
		_ = json.NewEncoder(w).Encode(remote.JoinAnswer{Name: "pier"})
	}))
	defer s.Close()
	folder := t.TempDir()
	c, _ := callOf(agentCommand)
	o := agentOptions{state: folder, join: s.URL, invite: "x", name: "pier"}
	_, err := c.agentIdentity(o)
	require.ErrorContains(t, err, "was not reached")
	assert.FileExists(t, filepath.Join(folder, "agent.json.joining"))
	me, err := c.agentIdentity(o)
	require.NoError(t, err)
	require.Len(t, asked, 2)
	assert.Equal(t, asked[0].PublicKey, asked[1].PublicKey)
	assert.Equal(t, asked[0].PublicKey, me.public())
	assert.NoFileExists(t, filepath.Join(folder, "agent.json.joining"))
	again, err := c.agentIdentity(o)
	require.NoError(t, err)
	assert.Equal(t, me, again)
	// Another invite is another agent.
	first, other := filepath.Join(t.TempDir(), "agent.json.joining"), newSeed()
	require.NoError(t, agentFile{Invite: inviteMark("x"), Seed: other}.keep(first))
	assert.Equal(t, other, begunToJoin(first, "x"))
	assert.NotEqual(t, other, begunToJoin(first, "y"))
}

func TestAgentsAsText(t *testing.T) {
	lost, most := time.Now().Add(-time.Hour), 0.5
	list := []apitype.Agent{
		{Name: "local", Kind: "builtin", Alive: true, Version: "1"},
		{Name: "pier", Site: "Holm", Kind: "remote", LostAt: &lost, Health: &protocol.Health{Clock: host.Clock{Known: true, Synchronised: true, ErrorMs: &most}, May: []string{"ICMP", "no whole packets"}, HeldBack: 3, Dropped: 2, Responder: "192.0.2.7:7474", Limits: "sends 5 Mbit/s at most"}},
		{Name: "mole", Kind: "remote", Alive: true, Health: &protocol.Health{Clock: host.Clock{Known: true}}},
	}
	c, out := callOf(agentsCommand)
	c.format = "text"
	require.NoError(t, c.writeAgents(list))
	for _, says := range []string{"in the service", "another machine", "⊖ away for", "● there", "in step to 0.500 ms", "runs free", "192.0.2.7:7474", "3, 2 dropped", "no whole packets; sends 5 Mbit/s at most"} {
		assert.Contains(t, out.String(), says)
	}
	for format, says := range map[string]string{"csv": "id,agent,site", "json": `"name": "pier"`} {
		c, out := callOf(agentsCommand)
		c.format = format
		require.NoError(t, c.writeAgents(list))
		assert.Contains(t, out.String(), says)
	}
	for _, args := range []string{"invite now", "remove", "greet pier"} {
		c, _ := callOf(agentsCommand, append(strings.Fields(args), "-service", "http://127.0.0.1:1")...)
		t.Setenv("WOODLARK_TOKEN", "t")
		assert.ErrorContains(t, runAgents(c), "is none of", args)
	}
}

func TestRequestsOfTwoEnds(t *testing.T) {
	call := func(name, args string) error {
		k, err := kind.Find(name)
		require.NoError(t, err)
		c, _ := callOf(command{name: name}, strings.Fields(args)...)
		return runKind(c, k)
	}
	for args, says := range map[string]string{"-direction up holm": "none of there, back, both", "-buffer deep holm": "none of fixed, adaptive", "-codec speex holm": "-codec no codec", "-rate x holm": "is not a rate", "-calls 0 holm": "-calls 0 is less than 1",
		"-dscp gull holm": "DSCP", "-for 48h holm": "at most 24h", "-family 5 -key k holm": "is none of 4, 6", "-source x -key k holm": "is not an IP address", "holm": "lets in who has its key", "a b": "name one target; 2 are named", "": "name one target; 0 are named",
		"-reflector -codec g711 holm": "leave out codec", "-reflector -key k holm": "leave out -key", "-reflector -every 10us holm": "has agreed to nothing", "-plain holm": "-plain goes with -reflector", "-reflector -payload 40 holm": "packets of 40 bytes"} {
		assert.ErrorContains(t, call("stream", args), says, args)
	}
	for args, says := range map[string]string{"-for 0s holm": "-for 0s is not above zero", "-line x holm": "-line", "-rate 1M holm": "are of UDP", "-protocol udp -window 5 holm": "are of TCP", "-direction up holm": "none of there, back, each, both", "a b": "name one target",
		"-protocol udp -warm-up 2s holm": "-warm-up is of TCP"} {
		assert.ErrorContains(t, call("throughput", args), says, args)
	}
	k, err := kind.Find("throughput")
	require.NoError(t, err)
	for text, want := range map[string]time.Duration{`{"for": "2s"}`: 0, `{"for": "10s"}`: 2 * time.Second, `{"for": "2s", "warm_up": "1s"}`: time.Second, `{"warm_up": "0s"}`: 0} {
		spec, err := k.Decode(kind.ByHand, []byte(text))
		require.NoError(t, err)
		r := spec.(*throughput.Spec).Request()
		assert.Equal(t, want, r.WarmUp, text)
		assert.Equal(t, text == `{"for": "2s"}`, r.Short, "a short test leaves nothing out, and says so")
	}
}
