package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/agent"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/namelength"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/report"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
)

const quayside = `
world: quayside
nodes:
  - {name: quay.example, addresses: [192.0.2.1]}
  - {name: holm.example, addresses: [192.0.2.2]}
links:
  - {between: [quay.example, holm.example], delay: 1ms, rate: 20Mbit/s}
`

// conforming is how each kind is called to measure for a moment, and for long; far is its
// target at an agent.
var conforming = map[string]struct{ brief, long, target, far string }{
	"ping":        {"-probes 5 -every 20ms -ttl 50 -payload 100 -dscp EF -poisson", "-probes 1000 -every 50ms", "holm.example", "holm.example"},
	"sweep":       {"-packets 200 -rounds 1 -wait 50ms -exclude 192.0.2.7 -random", "-packets 2 -rounds 1 192.0.2.8/29 192.0.2.16/28", "192.0.2.0/29", "192.0.2.0/29"},
	"trace":       {"-probes 2 -every 20ms -silent 3 -retries 1 -payload 40 -names=false", "-probes 1000 -every 50ms", "holm.example", "holm.example"},
	"walk":        {"-probes 5 -every 10ms -wait 200ms", "-probes 2000 -every 20ms", "holm.example", "holm.example"},
	"stream":      {"-for 500ms -every 10ms -payload 200 -dscp EF", "-for 60s", "holm.example", "holm"},
	"throughput":  {"-protocol udp -rate 1M -for 500ms -direction there", "-protocol udp -rate 1M -for 60s -direction there", "holm.example", "holm"},
	"accept":      {"-cir 800k -frames 512 -tests performance -performance 1s -first-look=false -host-check=false -wait 10ms -direction there -loss-limit 0.1%", "-up-to 800k -sizes 512 -for 20s -out-of-service -first-look=false -host-check=false", "holm.example", "holm"},
	"ready":       {"-need testdata/need.yaml -quick", "-need calls -seats 3", "holm.example", "holm"},
	"name-length": {"-unit bytes -most 12", "-pause 500ms", "holm.example", "holm.example"},
}

// needs is what a kind is not measured without: as an option, and as a field of JSON.
var needs = map[string][2]string{"accept": {"-cir 1M ", `"cir": "1M", `}, "ready": {"-need kiosk ", `"need": "kiosk", `}}

// harbour is a service with an agent at each host of the world.
type harbour struct {
	t     *testing.T
	url   string
	world string
}

func newHarbour(t *testing.T) *harbour {
	dir, err := os.MkdirTemp("", "wlk")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	h, stop := harbourIn(t, dir)
	t.Cleanup(stop)
	return h
}

// harbourIn is a service whose state is in a folder, until it is stopped.
func harbourIn(t *testing.T, dir string) (h *harbour, stopped func()) {
	const token = "0123456789abcdef0123456789abcdef"
	s, err := serve.Start(t.Context(), serve.Options{Settings: settings.Settings{Listen: "127.0.0.1:0", State: filepath.Join(dir, "s"), Zone: time.UTC}, Token: token})
	require.NoError(t, err)
	m, err := world.Read([]byte(quayside), world.Options{})
	require.NoError(t, err)
	net := live.New(m)
	for name, host := range map[string]string{"quay": "quay.example", "holm": "holm.example"} {
		n, err := net.At(host)
		require.NoError(t, err)
		listens := func(*agent.Options) {}
		if name == "holm" {
			listens = demoFarEnd(m, n, host)
		}
		require.NoError(t, s.AddAgent(t.Context(), store.Agent{Name: name, Kind: "simulated", Address: host}, n, listens))
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx) }()
	require.Eventually(t, func() bool {
		r, err := http.Get(s.URL() + "/readyz")
		if err != nil {
			return false
		}
		defer r.Body.Close()
		return r.StatusCode == http.StatusOK
	}, time.Minute, 10*time.Millisecond)
	t.Setenv("WOODLARK_TOKEN", token)
	t.Setenv("WOODLARK_STATE", filepath.Join(dir, "here"))
	file := filepath.Join(dir, "quayside.yaml")
	require.NoError(t, os.WriteFile(file, []byte(quayside), 0o600))
	return &harbour{t, s.URL(), file}, func() {
		stop()
		assert.NoError(t, <-ended)
	}
}

// call calls a command.
func (h *harbour) call(args ...string) (status int, out, errs string) {
	h.t.Helper()
	var o, e bytes.Buffer
	status = Main(args, strings.NewReader(""), &o, &e)
	return status, o.String(), e.String()
}

// there calls a command that speaks to the serve.
func (h *harbour) there(line string, more ...string) string {
	h.t.Helper()
	status, out, errs := h.call(append(append(strings.Fields(line), "-service", h.url), more...)...)
	require.Less(h.t, status, 2, "%s: %s%s", line, out, errs)
	return out
}

// runsOf are the runs that a listing names.
func (h *harbour) runsOf(line string) (list []apitype.Run) {
	h.t.Helper()
	require.NoError(h.t, json.Unmarshal([]byte(h.there("runs list -format json "+line)), &list))
	return list
}

// TestEachKindEverywhere: alone, at an agent, left to it, of a watch; by command, by HTTP; as
// text, JSON and CSV; cut short, and with what cannot be. One of the kinds is there for this
// test alone: nothing but its folder knows of it.
func TestEachKindEverywhere(t *testing.T) {
	h := newHarbour(t)
	for _, k := range kind.All() {
		c, known := conforming[k.Name]
		require.True(t, known, "how is %s called?", k.Name)
		t.Run(k.Name, func(t *testing.T) {
			t.Parallel() // most of it is waiting
			h := &harbour{t, h.url, h.world}
			h.alone(k, c.brief, c.target)
			h.atAnAgent(k, c.brief, c.far)
			h.standing(k, c.brief, c.far)
			h.cutShort(k, c.long, c.far)
			h.refused(k, c.far)
		})
	}
}

// alone measures without a service, and at an agent: both write the same form.
func (h *harbour) alone(k *kind.Kind, brief, target string) {
	t := h.t
	here := append([]string{k.Name, "-world", h.world, "-from", "quay.example", "-format", "json"}, append(strings.Fields(brief), target)...)
	status, out, errs := h.call(here...)
	require.Less(t, status, 2, "%s%s", out, errs)
	assert.NotEmpty(t, keysOf(t, out), "%s", out)
	status, help, _ := h.call("help", k.Name)
	assert.Zero(t, status)
	for _, f := range kind.FieldsOf(k.New(kind.ByHand)) {
		if f.Flag != "-" {
			assert.Contains(t, help, "-"+f.Flag)
		}
	}
	assert.Contains(t, help, "woodlark "+k.Name)
}

func (h *harbour) atAnAgent(k *kind.Kind, brief, far string) {
	t := h.t
	line := k.Name + " -from quay " + brief + " " + far
	h.there(line)
	assert.NotEmpty(t, keysOf(t, h.there(line+" -format json")))
	rows, err := csv.NewReader(strings.NewReader(h.there(line + " -format csv"))).ReadAll()
	require.NoError(t, err)
	require.Greater(t, len(rows), 1, "a heading, and what was found")
	assert.Equal(t, report.MeasuredColumns, rows[0][:len(report.MeasuredColumns)], "what was measured from where")
	assert.Equal(t, "quay", rows[1][0])
	for _, row := range rows[1:] {
		for i, name := range rows[0] {
			if cell := row[i]; cell != "" && (strings.HasSuffix(name, "_ms") || strings.HasSuffix(name, "_ratio") || strings.HasSuffix(name, "_bps") || strings.HasSuffix(name, "_s")) {
				_, err := strconv.ParseFloat(cell, 64)
				assert.NoError(t, err, name)
				assert.NotContains(t, cell, "e", "%s is a plain number", name)
			}
		}
	}

	if k.Line != nil {
		lines := strings.Split(strings.TrimSpace(h.there(line+" -format ndjson")), "\n")
		require.NotEmpty(t, lines[0])
		for _, l := range lines {
			assert.Contains(t, l, `"address":"192.0.2.2"`, "that a name led to, at the agent")
		}
	}

	before := len(h.runsOf("-kind " + k.Name))
	left := h.there(line + " -background")
	assert.Contains(t, left, "goes on at quay; 'woodlark runs show")
	id, _, _ := strings.Cut(left, " ")
	h.there("runs follow " + id)
	list := h.runsOf("-kind " + k.Name)
	require.Len(t, list, before+1)
	assert.Equal(t, k.Name, list[0].Kind)
	assert.Equal(t, "quay", list[0].From)
	assert.Equal(t, "done", list[0].Outcome)
	var run apitype.Run
	require.NoError(t, json.Unmarshal([]byte(h.there("runs show -format json "+id)), &run))
	require.NotNil(t, run.Result)
	found, err := k.ReadResult(k.Version, run.Result)
	require.NoError(t, err)
	assert.Equal(t, kind.FiguresOf(found).Answered, run.Answered)
	assert.Contains(t, h.there("results -kind "+k.Name+" -last 1d -format csv"), id)
	h.there("results -run " + id)
}

// standing has a watch measure it.
func (h *harbour) standing(k *kind.Kind, brief, far string) {
	t := h.t
	repeat := max(k.Least, time.Second)
	out := h.there("watch add -name "+k.Name+" -kind "+k.Name+" -from quay -to "+far+" -repeat "+repeat.String()+" -format json "+brief, "-tags", "conformance")
	var watches []apitype.Watch
	require.NoError(t, json.Unmarshal([]byte(out), &watches))
	require.Len(t, watches, 1)
	var runs []apitype.Run
	require.Eventually(t, func() bool {
		runs = h.runsOf("-outcome done -watch " + k.Name)
		return len(runs) > 0
	}, 2*time.Minute, 100*time.Millisecond, "those that fill a path wait for each other")
	assert.Equal(t, k.Name, runs[0].Watch)
	again := h.there("watch change " + k.Name + " -paused -format json")
	var changed []apitype.Watch
	require.NoError(t, json.Unmarshal([]byte(again), &changed))
	assert.Equal(t, watches[0].How, changed[0].How, "what is not changed stays")
	assert.Contains(t, h.there("watch list"), k.Name)
}

// cutShort ends a measurement in its middle: what was measured until then is kept.
func (h *harbour) cutShort(k *kind.Kind, long, far string) {
	t := h.t
	left := h.there(k.Name + " -from quay " + long + " -background " + far)
	id, _, _ := strings.Cut(left, " ")
	require.Eventually(t, func() bool {
		list := h.runsOf("-running -kind " + k.Name)
		return len(list) == 1 && (list[0].Heard > 0 || list[0].Says == "streaming" || list[0].Says == "there")
	}, 2*time.Minute, 50*time.Millisecond)
	began := time.Now()
	out := h.there("runs stop " + id)
	assert.Less(t, time.Since(began), 15*time.Second)
	assert.Contains(t, out, "cancelled: ")
	var run apitype.Run
	require.NoError(t, json.Unmarshal([]byte(h.there("runs show -format json "+id)), &run))
	assert.Equal(t, "cancelled", run.Outcome)
	assert.NotEmpty(t, run.Reason)
	assert.NotNil(t, run.Result, "what was measured until then")
	status, _, errs := h.call("runs", "stop", id, "-service", h.url)
	assert.Equal(t, exitWrongCall, status)
	assert.Contains(t, errs, "does not go on")
}

// refused names what cannot be.
func (h *harbour) refused(k *kind.Kind, far string) {
	t := h.t
	for line, says := range map[string]string{
		k.Name + " " + needs[k.Name][0] + "-from nobody " + far:                               "there is no agent",
		k.Name + " -gulls 3 " + far:                                                           "-gulls",
		"watch add -name x -kind " + k.Name + " -from quay -to " + far + " -repeat 5h -gulls": "-gulls",
	} {
		status, _, errs := h.call(append(strings.Fields(line), "-service", h.url)...)
		assert.Equal(t, exitWrongCall, status, line)
		assert.Contains(t, errs, says, line)
	}
	for body, says := range map[string]string{
		`{` + needs[k.Name][1] + `"kind": "` + k.Name + `", "from": "quay", "to": ["` + far + `"], "gulls": 3}`: "gulls",
		`{` + needs[k.Name][1] + `"kind": "` + k.Name + `", "from": "quay", "to": []}`:                          "invalid: name ",
	} {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, h.url+"/api/v1/runs", strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+os.Getenv("WOODLARK_TOKEN"))
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		var problem bytes.Buffer
		_, _ = problem.ReadFrom(answer.Body)
		answer.Body.Close()
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, body)
		assert.Contains(t, problem.String(), says, body)
	}
}

// keysOf are the keys of a result of JSON, or of the first of a list.
func keysOf(t *testing.T, text string) map[string]json.RawMessage {
	t.Helper()
	var list []map[string]json.RawMessage
	if json.Unmarshal([]byte(text), &list) == nil {
		require.NotEmpty(t, list)
		return list[0]
	}
	var one map[string]json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(text), &one), text)
	return one
}
