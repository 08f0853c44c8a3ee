package readiness

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
)

func f(v float64) *float64 { return &v }
func n(v int) *int         { return &v }

// seen is a direction of a stream of calls that meets no trouble.
func seen(seats int, there bool, change func(*StreamSeen)) StreamSeen {
	x := StreamSeen{Stream: "voice", Seats: seats, There: there, Sent: 750 * seats, Lost: n(0), LossRatio: f(0), LossLow: f(0), LossHigh: f(0.005), DelayMs: f(20), DelayErrMs: 0.5, VariationMs: f(5), MOS: f(4.3), DSCP: n(46), Kept: f(1)}
	if change != nil {
		change(&x)
	}
	return x
}

// good are the facts of a place that is fit for so many seats.
func good(seats int) Facts {
	return Facts{Names: []Lookup{{Name: "holm.example", TookMs: f(12)}}, Rest: &Trip{MedianMs: f(30), Sent: 50}, MTU: &MTU{There: 1500, Back: 1500, Tried: 1500},
		Streams: []StreamSeen{seen(seats, true, nil), seen(seats, false, nil)}, Tried: []int{seats},
		Rates: []RateSeen{{There: true, Bps: f(50e6), LoadedMs: f(60)}, {There: false, Bps: f(100e6), LoadedMs: f(70)}}}
}

// TestTheAnswer: what each place is told of calls, with forty seats.
func TestTheAnswer(t *testing.T) {
	calls, err := Find("calls")
	require.NoError(t, err)
	lossy := func(x *StreamSeen) {
		x.Lost, x.LossRatio, x.LossLow, x.LossHigh, x.MOS = n(900), f(0.03), f(0.028), f(0.032), f(3.5)
	}
	for _, c := range []struct {
		name   string
		change func(*Facts)
		answer Answer
		fitFor *int
		says   string
		advice string // of which the first has a part
	}{
		{"all well", func(*Facts) {}, Fit, n(40), "Fit for calls with 40 seats.", ""},
		{"loss towards here, with fewer, too", func(x *Facts) {
			x.Streams = []StreamSeen{seen(40, true, nil), seen(40, false, lossy), seen(1, true, nil), seen(1, false, lossy)}
			x.Tried = []int{40, 1}
		}, NotFit, n(0), "Not fit for calls: voice: loss back is 3 %, and at most 1 % is asked for.", "Packets are lost back while all seats are at work"},
		{"loss already at rest", func(x *Facts) {
			x.Streams[1] = seen(40, false, lossy)
			x.Rest.Lost = 2
		}, NotFit, n(0), "voice: loss back is 3 %", "already while nothing else is sent"},
		{"ten fit, forty do not", func(x *Facts) {
			x.Streams = []StreamSeen{seen(40, true, lossy), seen(40, false, nil), seen(10, true, nil), seen(10, false, nil)}
			x.Tried = []int{40, 10}
		}, Limited, n(10), "Fit for calls with 10 seats, not with 40: voice: loss there is 3 %", "With 10 seats it holds, with 40 it does not"},
		{"the class is not kept", func(x *Facts) {
			x.Streams[0].Kept, x.Streams[0].Arrived = f(0), "DF"
		}, Limited, n(40), "with limits: voice: arrives as EF there is 0 %", "EF is not kept there (it arrives as DF)"},
		{"large packets vanish", func(x *Facts) { x.MTU.There = 1200 }, Limited, n(40), "IP packets that come through whole there is 1200 bytes, and at least 1280 bytes", "more than 1200 bytes"},
		{"nothing by UDP", func(x *Facts) {
			x.Streams, x.Tried, x.Untold = nil, nil, map[Part]string{Streams: "no datagram comes back"}
		}, NotTold, nil, "could not be told: stream voice there, stream voice back", ""},
		{"the limit lies within what is known", func(x *Facts) {
			x.Streams[0].DelayMs, x.Streams[0].DelayErrMs = f(149.8), 1
		}, NotTold, nil, "voice: mean delay there", ""},
		{"a name is not found", func(x *Facts) { x.Names[0] = Lookup{Name: "holm.example", Problem: "no such name"} }, NotFit, n(0), "time to find holm.example: no such name", "The name holm.example is not found"},
		{"few packets tell nothing good", func(x *Facts) { x.Streams[0].Sent = 50 }, NotTold, nil, "could not be told", ""},
		{"packets left late by a host's doing", func(x *Facts) {
			x.Streams[0].VariationMs, x.Streams[0].LateSent = f(80), 20_000
		}, NotTold, nil, "voice: delay variation there", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			facts := good(40)
			c.change(&facts)
			r := Judge(calls, 40, facts)
			assert.Equal(t, c.answer, r.Answer)
			assert.Equal(t, c.fitFor, r.FitFor)
			assert.Contains(t, r.Sentence, c.says)
			if c.advice == "" {
				assert.Empty(t, r.Advice)
			} else {
				require.NotEmpty(t, r.Advice)
				assert.Contains(t, r.Advice[0], c.advice)
			}
		})
	}
}

// TestSeatsByTheRate: a line of 20 Mbit/s back, where each seat needs 3.16.
func TestSeatsByTheRate(t *testing.T) {
	desk, err := Find("remote-desk")
	require.NoError(t, err)
	assert.InDelta(t, 3.16e6, desk.BpsOf(1, false), 1, "3 Mbit/s and 400 bytes each 20 ms")
	facts := good(40)
	for i := range facts.Streams {
		facts.Streams[i].Stream = "input and picture"
	}
	facts.Rates[1].Bps = f(20e6)
	r := Judge(desk, 40, facts)
	assert.Equal(t, Limited, r.Answer)
	assert.Equal(t, n(6), r.FitFor)
	assert.Contains(t, r.Sentence, "Fit for remote-desk with 6 seats, not with 40: rate back is 20.0 Mbit/s, and at least 126 Mbit/s is asked for")
	facts.Rates[1].OfHost = true
	r = Judge(desk, 40, facts)
	assert.Equal(t, NotTold, r.Answer, "a host's own limit is not the line's")
	facts.Rates[1].OfHost, facts.Rates[1].Rising = false, true
	r = Judge(desk, 40, facts)
	assert.Equal(t, NotTold, r.Answer, "nor is what still rose")
	facts.Rates = nil
	facts.Untold = map[Part]string{Rates: "it is refused"}
	r = Judge(desk, 40, facts)
	assert.Equal(t, NotTold, r.Answer, "what was not measured is not passed")
	assert.Nil(t, r.FitFor)
}

// TestPortsOfHosts: open, refused, silent, and what UDP does not tell.
func TestPortsOfHosts(t *testing.T) {
	need := Need{Name: "tickets", Hosts: []HostNeed{{Name: "holm.example", TCP: []int{443, 444, 445, 446}, UDP: []int{53, 54}}}}
	require.Empty(t, need.Check())
	r := Judge(need, 1, Facts{Ports: []Port{{Host: "holm.example", Port: 443, State: Open, TookMs: f(20)}, {Host: "holm.example", Port: 444, State: Refused, Problem: "connection refused by 192.0.2.1"},
		{Host: "holm.example", Port: 445, State: Silent}, {Host: "holm.example", Port: 53, UDP: true, State: Silent}, {Host: "holm.example", Port: 54, UDP: true, State: Refused}}})
	got := map[string]acceptance.Verdict{}
	for _, c := range r.Criteria {
		got[c.What] = c.Verdict
	}
	assert.Equal(t, map[string]acceptance.Verdict{"TCP 443 of holm.example": acceptance.Pass, "TCP 444 of holm.example": acceptance.Fail, "TCP 445 of holm.example": acceptance.Fail,
		"TCP 446 of holm.example": acceptance.Unknown, "UDP 53 of holm.example": acceptance.Unknown, "UDP 54 of holm.example": acceptance.Fail}, got)
	assert.Equal(t, NotFit, r.Answer)
	assert.Len(t, r.Advice, 3)
}

func TestNeeds(t *testing.T) {
	names := map[string]bool{}
	for _, x := range All() {
		assert.Empty(t, x.Check(), x.Name)
		assert.NotEmpty(t, x.Says)
		names[x.Name] = true
		b, err := json.Marshal(x)
		require.NoError(t, err)
		var back Need
		require.NoError(t, json.Unmarshal(b, &back))
		assert.Equal(t, x, back)
	}
	assert.Len(t, names, 5)
	calls, _ := Find("calls")
	assert.InDelta(t, 68_800, calls.BpsOf(1, true), 1, "160 bytes of speech and 12 of RTP each 20 ms")
	assert.Equal(t, 7, Need{Seats: 7}.SeatsOr(0))
	assert.Equal(t, 40, Need{Seats: 7}.SeatsOr(40))
	for place, x := range map[string]Need{
		"need":             {Name: "x"},
		"streams[0].codec": {Name: "x", Streams: []Stream{{Name: "a", Codec: "lark"}}},
		"streams[0].bytes": {Name: "x", Streams: []Stream{{Name: "a", Every: ms(20), Bytes: 10}}},
		"streams[0].every": {Name: "x", Streams: []Stream{{Name: "a", Bytes: 100}}},
		"streams[0].dscp":  {Name: "x", Streams: []Stream{{Name: "a", Every: ms(20), Bytes: 100, DSCP: "loud"}}},
		"hosts[0].host":    {Name: "x", Hosts: []HostNeed{{TCP: []int{1}}}},
		"hosts[0].tcp":     {Name: "x", Hosts: []HostNeed{{Name: "a", TCP: []int{70000}}}},
		"mtu":              {Name: "x", MTU: 99},
		"limits":           {Name: "x", MTU: 1500, Limits: Limits{Delay: ms(3)}},
		"limits.mos":       {Name: "x", MTU: 1500, Limits: Limits{MOS: 4}},
		"rate":             {Name: "x", Rate: acceptance.Same(acceptance.Amount{Value: 90, Unit: acceptance.Percent})},
		"seats":            {Name: "x", MTU: 1500, Seats: -1},
	} {
		wrong := x.Check()
		assert.True(t, slices.ContainsFunc(wrong, func(w Wrong) bool { return w.Place == place }), "%s: %v", place, wrong)
	}
	assert.Contains(t, string(Schema()), `"resolver"`)
	_, err := Find("lark")
	assert.ErrorContains(t, err, "calls, meetings, remote-desk, file-work, kiosk")
}

func TestServiceClassesThatArrive(t *testing.T) {
	ratio, rest := KeptOf(46, map[int]int{46: 90, 0: 10})
	assert.InDelta(t, 0.9, *ratio, 1e-12)
	assert.Equal(t, "DF", rest)
	ratio, rest = KeptOf(46, map[int]int{8: 10, 0: 90})
	assert.Zero(t, *ratio)
	assert.Equal(t, "DF, CS1", rest)
	ratio, _ = KeptOf(46, nil)
	assert.Nil(t, ratio)
}
