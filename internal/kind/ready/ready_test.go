package ready

import (
	"context"
	"encoding/json"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/readiness"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trace"
)

// place is a world of a desk, a gateway and a server; line is what is said of the link between the
// gateway and the server, more of the server.
func place(line, more string) string {
	if !strings.Contains(line, " delay:") {
		line = ", delay: 8ms" + line
	}
	return `
world: place
nodes:
  - {name: desk.holm.example, addresses: [203.0.113.26]}
  - {name: gw.holm.example, router: true, addresses: [203.0.113.25]}
  - {name: server.northquay.example, addresses: [192.0.2.7]` + more + `}
links:
  - {between: [desk.holm.example, gw.holm.example], delay: 200us}
  - {between: [gw.holm.example, server.northquay.example]` + line + `}
`
}

// asked is whether the desk is ready for something.
func asked(t require.TestingT, file, spec string, change func(*respond.Options)) *Result {
	m, err := world.Read([]byte(file), world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	defer n.Close()
	near, err := n.At("desk.holm.example")
	require.NoError(t, err)
	far, err := n.At("server.northquay.example")
	require.NoError(t, err)
	none := 0.0
	end := session.End{Name: "server"}
	end.Clock.Known, end.Clock.Synchronised, end.Clock.ErrorMs = true, true, &none
	at := netip.MustParseAddrPort("192.0.2.7:7474")
	o := respond.Options{Network: far, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual(), End: func() session.End { return end },
		Trace: func(ctx context.Context, to netip.Addr) ([]string, error) { return trace.Hops(ctx, far, far, to) }}
	if change != nil {
		change(&o)
	}
	r, err := respond.New(o)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	defer owned.Wait()
	defer cancel()
	s, err := Kind.Decode(kind.ByHand, []byte(spec))
	require.NoError(t, err)
	require.NoError(t, s.Check())
	desk := end
	desk.Name = "desk"
	out, err := Kind.Run(ctx, &kind.Job{Host: kind.Host{Name: "desk", Network: near, Ground: near, Wall: paced.Plain, End: desk, Beyond: true}, Spec: s, Targets: []string{"server.northquay.example"},
		Lanes: []kind.Lane{{Target: "server.northquay.example"}}, Far: kind.Far{Address: at.String(), Key: session.KeyFrom("gull")}})
	require.NoError(t, err)
	return out[0].Result.(*Result)
}

// missed are the parts, with their way, that were surely missed.
func missed(r *Result) (list []string) {
	for _, c := range r.Found.Criteria {
		if at := strings.TrimSpace(string(c.Part) + " " + c.Way); c.Verdict == acceptance.Fail && (len(list) == 0 || list[len(list)-1] != at) {
			list = append(list, at)
		}
	}
	return list
}

// TestPlaces: what each is told; neighbours that differ in one thing are told otherwise.
func TestPlaces(t *testing.T) {
	usual = lengths{rest: time.Second, streams: 4 * time.Second, again: 3 * time.Second, load: 3 * time.Second}
	for name, c := range map[string]struct {
		world, spec string
		answer      readiness.Answer
		fitFor      [2]int
		missed      []string
		advice      string
	}{
		"a good line":             {place("", ""), `{"need": "calls", "seats": 10}`, readiness.Fit, [2]int{10, 10}, nil, ""},
		"loss towards the desk":   {place(", toward: {gw.holm.example: {loss: 5%}}", ""), `{"need": "calls", "seats": 10}`, readiness.NotFit, [2]int{0, 0}, []string{"streams back"}, "Packets are lost back"},
		"loss towards the server": {place(", toward: {server.northquay.example: {loss: 5%}}", ""), `{"need": "calls", "seats": 10}`, readiness.NotFit, [2]int{0, 0}, []string{"streams there"}, "Packets are lost there"},
		// A call takes 80 kbit/s on the way: twelve go through, and not thirteen.
		"a line for twelve calls": {place(", rate: 1Mbit/s, queue: 40ms", ""), `{"need": "calls", "seats": 20}`, readiness.Limited, [2]int{8, 12}, []string{"streams there", "streams back"}, "the line is full"},
		"far away":                {place(", delay: 170ms", ""), `{"need": "calls", "quick": true}`, readiness.NotFit, [2]int{0, 0}, []string{"streams there", "streams back"}, "takes long"},
		"small packets only":      {place(", mtu: 1200, too_big: swallowed", ""), `{"need": "calls", "quick": true}`, readiness.Limited, [2]int{1, 1}, []string{"packets there", "packets back"}, "more than 1200 bytes"},
		"a port is shut":          {place("", ", tcp: {\"443\": open}"), `{"need": {"need": "tickets", "hosts": [{"host": "server.northquay.example", "tcp": [443, 444]}]}, "quick": true}`, readiness.NotFit, [2]int{0, 0}, []string{"ports"}, "refuses TCP 444"},
		"a slow line for files":   {place(", rate: 8Mbit/s, queue: 30ms", ""), `{"need": "file-work", "seats": 1, "quick": true}`, readiness.NotFit, [2]int{0, 0}, []string{"rates back"}, "The line carries"},
		"a deep queue":            {place(", rate: 5Mbit/s, queue: 900ms", ""), `{"need": {"need": "waits", "limits": {"loaded_rtt": "250ms"}}, "quick": true}`, readiness.Limited, [2]int{1, 1}, []string{"loaded there", "loaded back"}, "a queue on the way is deep"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			busy.Tries(t, func(k *busy.Try) {
				r := asked(k, c.world, c.spec, nil)
				require.True(k, r.Complete, r.Problem)
				assert.Equal(k, c.answer, r.Found.Answer, r.Found.Sentence)
				assert.Equal(k, c.missed, missed(r), "%s", r.Found.Advice)
				require.NotNil(k, r.Found.FitFor)
				assert.GreaterOrEqual(k, *r.Found.FitFor, c.fitFor[0])
				assert.LessOrEqual(k, *r.Found.FitFor, c.fitFor[1])
				if c.advice != "" {
					assert.Contains(k, strings.Join(r.Found.Advice, " "), c.advice)
				}
				assert.Equal(k, []string{"203.0.113.25 gw.holm.example", "192.0.2.7 server.northquay.example"}, r.Facts.There)
				assert.Equal(k, []string{"203.0.113.25 gw.holm.example", "203.0.113.26 desk.holm.example"}, r.Facts.Back)
				if strings.Contains(c.spec, "quick") {
					assert.Less(k, r.EndedAt.Sub(r.StartedAt), quickest)
				}
			})
		})
	}
}

// TestWhatCannotBeTold does not count as passed.
func TestWhatCannotBeTold(t *testing.T) {
	t.Parallel()
	r := asked(t, place("", ""), `{"need": "calls", "quick": true}`, func(o *respond.Options) { o.Limits.Rate, o.Trace = 1000, nil })
	assert.Equal(t, readiness.NotTold, r.Found.Answer)
	assert.Contains(t, r.Found.Sentence, "could not be told: stream voice there, stream voice back")
	assert.Contains(t, r.Facts.Untold[readiness.Streams], "this far end allows 1.00 kbit/s")
	assert.Contains(t, r.Facts.Untold[readiness.WayBack], "does not look for the way back")
	assert.Nil(t, r.Found.FitFor)
}

func TestNeedsAsTheyAreWritten(t *testing.T) {
	for text, says := range map[string]string{
		`{}`:                                 "say what the service asks",
		`{"need": "lark"}`:                   "there is no need",
		`{"need": "need: x\nmtu: 99"}`:       "line 2: mtu 99 is not from 576",
		`{"need": {"need": "x", "seat": 3}}`: `unknown field "seat"`,
		`{"need": "calls", "seats": 100000}`: "100000 is not from 1 to 10000",
		`{"need": {"need": "x"}}`:            "asks for nothing",
	} {
		s, err := Kind.Decode(kind.ByHand, []byte(text))
		if err == nil {
			err = s.Check()
		}
		assert.ErrorContains(t, err, says, text)
	}
	for _, text := range []string{`"calls"`, `{"need":"x","mtu":1400}`} {
		var n Need
		require.NoError(t, json.Unmarshal([]byte(text), &n))
		b, err := json.Marshal(n)
		require.NoError(t, err)
		assert.JSONEq(t, text, string(b), "what is ready-made is written by its name")
	}
	own, err := readiness.Find("calls")
	require.NoError(t, err)
	own.MTU = 1400
	b, err := json.Marshal(Need{Need: own})
	require.NoError(t, err)
	assert.Contains(t, string(b), "1400", "what was changed is not")
}
