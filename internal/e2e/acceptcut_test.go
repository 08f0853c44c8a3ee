package e2e

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
)

// tested is what the test looks at of an acceptance test's result.
type tested struct {
	Complete bool              `json:"complete"`
	Trials   []json.RawMessage `json:"trials"`
}

// TestAcceptanceIsCut: whichever of the agent, the far end and the service is killed, and when, the
// test comes to its end by itself, and no trial that was made is lost or made twice.
func TestAcceptanceIsCut(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	at := freePort(t)
	s := m.start("serve", "-listen", at)
	ends := map[string]*running{}
	begin := map[string]func(){}
	for _, name := range []string{"pier", "mole"} {
		r, folder := s.joined(name)
		port := freePort(t)
		begin[name] = func() {
			ends[name] = m.background("msg=ready", "agent", "-state", folder, "-listen", port)
		}
		r.kill(syscall.SIGTERM) // its port is one that it gets again
		begin[name]()
	}
	s.eventually(waitLimit, func() bool { return s.agent("pier").Alive && s.agent("mole").Alive }, "both are there")
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(plan, []byte(`
wait: 100ms
first_look: {skip: true}
host_check: {skip: true}
by_service:
  services: [{service: calls, frames: "218", cir: 300k}]
  configuration: {step_for: 1s, steps: [10%, 20%, 30%, 40%, 50%, 60%, 70%, 80%, 90%, 100%], policing: false}
  performance: {for: 2s}
`), 0o600))
	const trials = 11
	m.good("accept", "-from", "pier", "-background", "mole", "-plan", plan)
	newest := func() (r apitype.Run, x tested) {
		out, _, _ := m.cli("runs", "list", "-since", "1h", "-format", "json")
		var list []apitype.Run
		if json.Unmarshal([]byte(out), &list) != nil || len(list) == 0 {
			return r, x
		}
		for _, l := range list {
			if l.Kind == "accept" && l.StartAt.After(r.StartAt) {
				r = l
			}
		}
		out, _, _ = m.cli("runs", "show", "-format", "json", r.ID)
		_ = json.Unmarshal([]byte(out), &r)
		_ = json.Unmarshal(r.Result, &x)
		return r, x
	}
	var kept []json.RawMessage
	takes := func(x tested) { // what was made before is there, as it was
		require.GreaterOrEqual(t, len(x.Trials), len(kept))
		for i, k := range kept {
			require.JSONEq(t, string(k), string(x.Trials[i]), "trial %d", i)
		}
		kept = x.Trials
	}
	made := func(n int) {
		s.eventually(3*time.Minute, func() bool {
			r, x := newest()
			if len(x.Trials) >= n || r.Outcome == "done" {
				takes(x)
				return true
			}
			return false
		}, "%d trials are made", n)
	}
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for i, who := range []string{"pier", "mole", "service", "pier"} {
		made(2 * (i + 1))
		moment := time.Duration(random.Int64N(int64(3 * time.Second)))
		<-time.After(moment)
		t.Logf("%s is killed %v behind trial %d", who, moment, len(kept))
		if who == "service" {
			s.kill()
			s = m.start("serve", "-listen", at)
		} else {
			ends[who].kill(syscall.SIGKILL)
			begin[who]()
		}
	}
	s.eventually(3*time.Minute, func() bool { r, _ := newest(); return r.Outcome == "done" }, "it comes to its end")
	r, x := newest()
	takes(x)
	assert.True(t, x.Complete, r.Reason)
	assert.GreaterOrEqual(t, len(x.Trials), trials)
	seen := map[string]bool{}
	for _, k := range x.Trials {
		assert.False(t, seen[string(k)], "made once")
		seen[string(k)] = true
	}
}
