package circuits_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/demo/faults/circuits"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/kind/accept"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
)

// TestCircuits: what is known of each is found, what it misses is told, and nothing else. All of
// them are tried by script/bench -only circuits; here it is two.
func TestCircuits(t *testing.T) {
	all, err := circuits.List()
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(all), 16)
	some := all
	if os.Getenv("WOODLARK_CIRCUITS") != "all" {
		some = slices.DeleteFunc(slices.Clone(all), func(c circuits.Circuit) bool {
			return !slices.Contains([]string{"less-towards-holm", "bursts-are-cut"}, c.Name)
		})
	}
	four := make(chan struct{}, 4) // at once: more would wait for this machine
	for _, c := range some {
		t.Run(c.Name, func(t *testing.T) {
			t.Parallel()
			four <- struct{}{}
			defer func() { <-four }()
			busy.Tries(t, func(k *busy.Try) { checkCircuit(k, c, carryOut(k, c)) })
		})
	}
}

// TestTheFarEndComesBack: a far end that goes away in the middle of a trial and is there again in a
// while is waited for; the trial that was cut is made once more, and nothing of the others is lost.
func TestTheFarEndComesBack(t *testing.T) {
	t.Parallel()
	m, err := world.Read([]byte(`
world: short
nodes:
  - {name: a.example, addresses: [192.0.2.2]}
  - {name: b.example, addresses: [203.0.113.26]}
links:
  - {between: [a.example, b.example], delay: 2ms}
`), world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	defer n.Close()
	near, err := n.At("a.example")
	require.NoError(t, err)
	far, err := n.At("b.example")
	require.NoError(t, err)
	at := netip.MustParseAddrPort("203.0.113.26:7474")
	var owned sync.WaitGroup
	begin := func() (end func()) {
		ctx, cancel := context.WithCancel(context.Background())
		r, err := respond.New(respond.Options{Network: far, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual()})
		require.NoError(t, err)
		owned.Go(func() { _ = r.Run(ctx) })
		return cancel
	}
	end := begin()
	spec, err := accept.Kind.Decode(kind.ByHand, []byte(`{"cir": "200k", "steps": ["50%", "100%"], "for": "2s", "performance": "1s", "wait": "10ms", "first_look": false, "host_check": false, "direction": "there"}`))
	require.NoError(t, err)
	var away, back sync.Once
	heard := func(p kind.Progress) { // one after the other, by the goroutine that measures
		told, is := p.More.(accept.Told)
		switch {
		case is && told.Made == 1 && told.Elapsed > 500*time.Millisecond:
			away.Do(func() { end() })
		case strings.Contains(p.Says, "looked for again"):
			back.Do(func() { end = begin() })
		}
	}
	out, err := accept.Kind.Run(t.Context(), &kind.Job{Host: kind.Host{Name: "a", Network: near, Wall: paced.Plain, Beyond: true}, Spec: spec, Targets: []string{at.String()}, Heard: heard,
		Lanes: []kind.Lane{{Target: at.String()}}, Far: kind.Far{Key: session.KeyFrom("gull")}})
	require.NoError(t, err)
	end()
	owned.Wait()
	require.Equal(t, kind.Done, out[0].State, out[0].Reason)
	r := out[0].Result.(*accept.Result)
	assert.True(t, r.Complete)
	assert.GreaterOrEqual(t, len(r.Made), 4)
}

// TestTheLinkIsCut for a while in the middle of a test: it goes on behind that, with all that was
// made before.
func TestTheLinkIsCut(t *testing.T) {
	t.Parallel()
	m, err := world.Read([]byte(`
world: short
nodes:
  - {name: a.example, addresses: [192.0.2.2]}
  - {name: b.example, addresses: [203.0.113.26]}
links:
  - {between: [a.example, b.example], delay: 2ms}
changes:
  - {link: [a.example, b.example], from: start+6s, until: start+16s, set: {loss: 100%}}
`), world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	defer n.Close()
	near, err := n.At("a.example")
	require.NoError(t, err)
	far, err := n.At("b.example")
	require.NoError(t, err)
	at := netip.MustParseAddrPort("203.0.113.26:7474")
	ctx, cancel := context.WithCancel(context.Background())
	r, err := respond.New(respond.Options{Network: far, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual()})
	require.NoError(t, err)
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	defer owned.Wait()
	defer cancel()
	spec, err := accept.Kind.Decode(kind.ByHand, []byte(`{"cir": "200k", "steps": ["40%", "60%", "80%", "100%"], "for": "1s", "performance": "1s", "wait": "10ms", "first_look": false, "host_check": false, "direction": "there"}`))
	require.NoError(t, err)
	looked, before := false, 0
	heard := func(p kind.Progress) {
		switch told, is := p.More.(accept.Told); {
		case strings.Contains(p.Says, "looked for again"):
			looked = true
		case is && !looked:
			before = told.Made
		}
	}
	out, err := accept.Kind.Run(t.Context(), &kind.Job{Host: kind.Host{Name: "a", Network: near, Wall: paced.Plain, Beyond: true}, Spec: spec, Targets: []string{at.String()}, Heard: heard,
		Lanes: []kind.Lane{{Target: at.String()}}, Far: kind.Far{Key: session.KeyFrom("gull")}})
	require.NoError(t, err)
	require.Equal(t, kind.Done, out[0].State, out[0].Reason)
	x := out[0].Result.(*accept.Result)
	assert.True(t, looked, "it was cut")
	assert.Positive(t, before)
	assert.True(t, x.Complete)
	assert.Equal(t, acceptance.Walk(x.Plan, x.Made).Result.Trials, len(x.Made), "each trial is made once")
	for _, o := range x.Made {
		for _, s := range o.Seen {
			assert.Equal(t, s.Sent, s.Received, "none of those that count was cut")
		}
	}
}

// carryOut tests a circuit by its plan.
func carryOut(t require.TestingT, c circuits.Circuit) *accept.Result {
	m, err := world.Read(c.World, world.Options{})
	require.NoError(t, err)
	n := live.New(m)
	defer n.Close()
	near, err := n.At(c.From)
	require.NoError(t, err)
	far, err := n.At(c.To)
	require.NoError(t, err)
	at := netip.MustParseAddrPort("203.0.113.26:7474")
	none := 0.0
	end := func(name string) session.End {
		e := session.End{Name: name}
		e.Clock.Known, e.Clock.Synchronised, e.Clock.ErrorMs = true, true, &none
		return e
	}
	r, err := respond.New(respond.Options{Network: far, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual(), End: func() session.End { return end(c.To) }})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	defer owned.Wait()
	defer cancel()
	plan, err := json.Marshal(c.Plan)
	require.NoError(t, err)
	spec, err := accept.Kind.Decode(kind.ByHand, []byte(`{"plan": `+string(plan)+`, "first_look": false, "host_check": false}`))
	require.NoError(t, err)
	require.NoError(t, spec.Check())
	out, err := accept.Kind.Run(ctx, &kind.Job{Host: kind.Host{Name: c.From, Network: near, Wall: paced.Plain, End: end(c.From), Beyond: true}, Spec: spec, Targets: []string{at.String()},
		Lanes: []kind.Lane{{Target: at.String()}}, Far: kind.Far{Key: session.KeyFrom("gull")}})
	require.NoError(t, err)
	require.Equal(t, kind.Done, out[0].State, out[0].Reason)
	return out[0].Result.(*accept.Result)
}

func checkCircuit(t *busy.Try, c circuits.Circuit, r *accept.Result) {
	assert.Equal(t, c.Verdict, string(r.Found.Verdict), "%s", r.Findings)
	missed := []circuits.Miss{}
	for _, x := range r.Found.Criteria {
		way := "back"
		if x.There {
			way = "there"
		}
		miss := circuits.Miss{Figure: string(x.Figure), Way: way}
		if x.Verdict == acceptance.Fail && !slices.Contains(missed, miss) {
			missed = append(missed, miss)
		}
	}
	assert.ElementsMatch(t, append([]circuits.Miss{}, c.Fails...), missed)
	codes := ""
	for _, f := range r.Findings {
		codes += " " + string(f.Code)
	}
	assert.Contains(t, codes, c.Finding)
	if c.Finding == "" {
		assert.NotContains(t, codes, "direction_differs")
	}
	for _, s := range r.Found.Sizes {
		for _, w := range s.Ways {
			if want := ofWay(c.Rate, w.There); want != "" {
				assert.InEpsilon(t, rate(t, want), w.Throughput.Rates.IPBps, 0.005)
			}
			if want := ofWay(c.Loss, w.There); want != "" {
				p := percent(t, want)
				for _, x := range w.Loss {
					assert.LessOrEqual(t, *x.LossLow, p)
					assert.GreaterOrEqual(t, *x.LossHigh, p)
				}
			}
			if c.Delay != "" {
				d, err := time.ParseDuration(c.Delay)
				require.NoError(t, err)
				assert.InDelta(t, d.Seconds()*1e3, w.Latency.Delay.LeastMs, 0.2)
			}
			if c.Queue != "" { // within a frame
				d, err := time.ParseDuration(c.Queue)
				require.NoError(t, err)
				require.NotNil(t, w.Burst.BufferMs)
				assert.InDelta(t, d.Seconds()*1e3, *w.Burst.BufferMs, 1000/w.Throughput.Rates.FPS)
			}
		}
	}
	for _, s := range r.Found.Services {
		for _, w := range s.Ways {
			if c.Policed != "" {
				require.NotNil(t, w.Through)
				assert.InEpsilon(t, rate(t, c.Policed)*512/494, *w.Through, 0.01)
			}
			if c.Bucket > 0 {
				require.NotNil(t, w.CBS)
				assert.InDelta(t, float64(c.Bucket)*512/494, w.CBS.Found, 512, "within a frame")
			}
		}
	}
}

func ofWay(w circuits.Ways, there bool) string {
	if there {
		return w.There
	}
	return w.Back
}

func rate(t require.TestingT, text string) float64 {
	r, err := capacity.ParseRate(strings.TrimSuffix(text, "bit/s"))
	require.NoError(t, err)
	return float64(r)
}

func percent(t require.TestingT, text string) float64 {
	v, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	require.NoError(t, err)
	return v / 100
}
