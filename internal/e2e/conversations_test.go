package e2e

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listenHere has this test's program be a server, in a lab: it takes connections at the address
// for a while, and says nothing.
const listenHere = "WOODLARK_E2E_LISTEN"

func hearConnections(address string) int {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return 1
	}
	for end := time.After(2 * time.Minute); ; {
		go func() { _, _ = l.Accept() }()
		select {
		case <-end:
			return 0
		case <-time.After(time.Second):
		}
	}
}

type conversation struct {
	Program, Protocol, Server, From, Watch, Says string
	Port                                         int
	EndedAt                                      *time.Time `json:"ended_at"`
	BeganAt                                      time.Time  `json:"began_at"`
	Figures                                      *struct {
		Sent, Answered int
		RTT            *float64 `json:"rtt_median_ms"`
	}
	Route *struct{ Outcome, Kind, Address string }
}

// TestWhomProgramsTalkTo: real programs in a lab talk to servers that nobody named; each is
// measured while they do, and not when the owner does not allow it.
func TestWhomProgramsTalkTo(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	world := filepath.Join(t.TempDir(), "talk.yaml")
	text, _, _ := strings.Cut(briefly, "changes:")
	require.NoError(t, os.WriteFile(world, []byte(text), 0o600))
	m.good("lab", "up", "-world", world, "-name", "talk")
	_, process := labRecord(t, m, "talk")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	t.Cleanup(func() { m.good("lab", "down") })
	at := func(host string, args ...string) *exec.Cmd {
		return m.command(append([]string{"lab", "run", "-at", host, "--"}, args...)...)
	}
	const near, far = "desk.northquay.example", "terminal.holm.example"
	begin := func(cmd *exec.Cmd) {
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	}
	log := &syncBuffer{}
	serve := at(near, program, "serve", "-listen", "127.0.0.1:7511", "-conversations", "bash")
	serve.Stdout, serve.Stderr = log, log
	begin(serve)
	require.Eventually(t, func() bool { return strings.Contains(log.String(), "msg=ready") }, 2*time.Minute, tick, "%s", log)
	cli := func(args ...string) string {
		out, err := at(near, append([]string{program}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s: %s", strings.Join(args, " "), out)
		return string(out)
	}
	self, err := os.Executable()
	require.NoError(t, err)
	server := at(far, self)
	server.Env = append(server.Env, listenHere+"=203.0.113.26:9443")
	begin(server)

	cli("watch", "add", "-name", "calls", "-from", "local", "-to", "program:bash,ports:5004-5010", "-every", "200ms", "-also", "trace -repeat 1h")
	cli("watch", "add", "-name", "other", "-from", "local", "-to", "program:softphone")
	list := func() (all []conversation) {
		out := cli("conversations", "-format", "json")
		require.NoError(t, json.Unmarshal([]byte(out), &all), out)
		return all
	}
	var all []conversation
	// A shell talks by UDP to the world's far host, and by TCP, without a child; it ends by itself.
	talk := at(near, "bash", "-c", "for i in $(seq 100); do exec 4<>/dev/tcp/203.0.113.26/9443 && break; done; exec 3<>/dev/udp/203.0.113.26/5004; read -t 20 -u 3; true")
	begin(talk)
	require.Eventually(t, func() bool {
		all = list()
		return len(all) == 2
	}, waitLimit, 200*time.Millisecond)
	for _, c := range all {
		assert.Equal(t, "bash", c.Program)
		assert.Equal(t, "203.0.113.26", c.Server)
		assert.Nil(t, c.EndedAt)
	}
	assert.ElementsMatch(t, []string{"tcp", "udp"}, []string{all[0].Protocol, all[1].Protocol})
	assert.ElementsMatch(t, []int{9443, 5004}, []int{all[0].Port, all[1].Port})
	shown := cli("watch", "list")
	assert.Contains(t, shown, "the owner of this agent allows conversations of bash only", "said at once, by the watch")

	require.Eventually(t, func() bool {
		all = list()
		return all[0].EndedAt != nil && all[1].EndedAt != nil && all[0].Figures != nil && all[1].Figures != nil
	}, 2*time.Minute, 500*time.Millisecond)
	for _, c := range all {
		lasted := c.EndedAt.Sub(c.BeganAt)
		assert.InDelta(t, 20, lasted.Seconds(), 8, c.Protocol)
		assert.InDelta(t, lasted.Seconds()*5, c.Figures.Sent, 25, "five probes a second for as long: %s", c.Protocol)
		if assert.NotNil(t, c.Figures.RTT) {
			assert.Greater(t, *c.Figures.RTT, 22.0, "11.1 ms each way")
		}
		if assert.NotNil(t, c.Route) {
			assert.Equal(t, "done", c.Route.Outcome)
		}
	}
	assert.Contains(t, cli("conversations"), "203.0.113.26 port 9443, tcp")
	assert.Contains(t, cli("runs", "list"), "calls, trace", "the watch's other measurement was made, too")
}
