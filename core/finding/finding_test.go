package finding_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// probes makes one probe a letter: a answered, x lost, r refused, l sent late.
func probes(text string) (reading.Reading, []reading.Probe) {
	var list []reading.Probe
	for i, c := range text {
		p := reading.Probe{DueAt: now.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: 10 * time.Millisecond}
		switch c {
		case 'x':
			p = reading.Probe{Outcome: reading.Lost}
		case 'r':
			p = reading.Probe{Outcome: reading.Refused, Cause: "host unreachable by 192.0.2.1"}
		case 'l':
			p.SentLate = 5 * time.Millisecond
		}
		list = append(list, p)
	}
	return reading.Of(now, time.Minute, len(list), time.Second, list), list
}

func codes(list []finding.Finding) []finding.Code {
	out := []finding.Code{}
	for _, f := range list {
		out = append(out, f.Code)
	}
	return out
}

func repeat(text string, n int) string {
	out := ""
	for range n {
		out += text
	}
	return out
}

func TestOfReading(t *testing.T) {
	for _, c := range []struct {
		name, probes string
		want         []finding.Code
	}{
		{"nothing sent", "", []finding.Code{}},
		{"four answers prove little", "aaaa", []finding.Code{finding.TooFewProbes}},
		{"four hundred answers prove enough", repeat("a", 400), []finding.Code{}},
		{"one of four lost", "aaxa", []finding.Code{finding.LossSteady}},
		{"a tenth lost, here and there", repeat("aaaaxaaaaaaxaaaaaaaaaaaaaaaaxa", 14), []finding.Code{finding.LossSteady}},
		{"every tenth", repeat("aaaaxaaaaa", 40), []finding.Code{finding.LossAlternating}},
		{"a tenth lost, in runs", repeat(repeat("a", 36)+"xxxx", 10), []finding.Code{finding.LossBursts}},
		{"no answer", repeat("x", 20), []finding.Code{finding.NoAnswer}},
		{"refused", repeat("r", 20), []finding.Code{finding.Refusals}},
		{"this host is busy", repeat("aaal", 100), []finding.Code{finding.LateSent}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, list := probes(c.probes)
			found := finding.OfReading(r, list)
			assert.Equal(t, c.want, codes(found))
			for _, f := range found {
				assert.NotEmpty(t, f.Sentence)
				assert.NotEmpty(t, f.Advice)
				assert.True(t, f.Sure >= 0 && f.Sure <= 1)
			}
		})
	}
	r, list := probes("aaxa")
	loss := finding.OfReading(r, list)[0]
	assert.Contains(t, loss.Sentence, "25.0 % of the probes lost (between 4.6 % and 69.9 % at 95 %)")
	few, _ := probes(repeat("a", 50))
	assert.Equal(t, 381.0, finding.OfReading(few, nil)[0].Figures["settles_at"])
}

func rtt(ms float64) baseline.Point {
	p := baseline.Point{At: now.Add(-time.Minute), Span: time.Minute, Sent: 60, Answered: 60}
	p.Set(baseline.RTT, ms)
	return p
}

func TestOfPath(t *testing.T) {
	excess := func(m baseline.Measure, normal, is float64) guard.Excess {
		return guard.Excess{Measure: m, Normal: normal, Now: is, Worst: is, Sent: 900, Lost: int(is * 900), Evidence: 20}
	}
	slow, ragged, lossy := excess(baseline.RTT, 10, 40), excess(baseline.Jitter, 0.2, 9), excess(baseline.Loss, 0, 0.02)
	going := func(kind guard.Kind, ago time.Duration, list ...guard.Excess) []guard.Open {
		return []guard.Open{{Number: 1, Episode: guard.Episode{Kind: kind, From: now.Add(-ago), Doubt: guard.Doubt{From: now.Add(-ago), To: now.Add(-ago)}, Excesses: list}}}
	}
	degraded := func(hours int, list ...guard.Excess) guard.Verdict {
		return guard.Verdict{State: guard.StateDegraded, Newest: rtt(40), Open: going(guard.Degraded, time.Duration(hours)*time.Hour, list...)}
	}
	for _, c := range []struct {
		name     string
		standing finding.Standing
		want     []finding.Code
		says     string
	}{
		{"no reading", finding.Standing{Verdict: guard.Verdict{State: guard.StateUnmeasured}}, []finding.Code{finding.Unmeasured}, "No reading yet."},
		{"no reading for long", finding.Standing{Verdict: guard.Verdict{State: guard.StateUnmeasured, Newest: rtt(10), Since: now.Add(-time.Hour)}}, []finding.Code{finding.Unmeasured}, "for 1 h"},
		{"no baseline", finding.Standing{Verdict: guard.Verdict{State: guard.StateSteady, Newest: rtt(10)}}, []finding.Code{finding.NoBaseline}, "too few readings"},
		{"never answered", finding.Standing{Verdict: guard.Verdict{State: guard.StateLost, Never: true, Silence: 600}}, []finding.Code{finding.NeverAnswered}, "600 probes in a row"},
		{"answered before", finding.Standing{Verdict: guard.Verdict{State: guard.StateLost, Silence: 90, Open: going(guard.Lost, time.Hour)}}, []finding.Code{finding.NoAnswer}, "it answered before"},
		{"slower for good", finding.Standing{Verdict: degraded(5, slow)}, []finding.Code{finding.DelayStep}, "RTT 40.0 ms instead of 10.0 since"},
		{"slower since a moment", finding.Standing{Verdict: degraded(0, slow)}, []finding.Code{finding.DelayRaised}, ""},
		{"losing", finding.Standing{Verdict: degraded(5, lossy)}, []finding.Code{finding.LossSteady}, "Loses 2.0 % of the probes (1.3 % to 3.1 % at 95 %) instead of 0 % since"},
		{"full", finding.Standing{Verdict: degraded(1, slow, ragged, lossy)}, []finding.Code{finding.Saturation}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.standing.Now = now
			found := finding.OfPath(c.standing)
			assert.Equal(t, c.want, codes(found))
			assert.Contains(t, found[0].Sentence, c.says)
		})
	}
}

func TestOfPathTellsOfThePast(t *testing.T) {
	steady := guard.Verdict{State: guard.StateSteady, Newest: rtt(10)}
	outage := guard.Episode{Kind: guard.Lost, From: now.Add(-10 * time.Hour), To: now.Add(-9*time.Hour - 20*time.Minute)}
	found := finding.OfPath(finding.Standing{Verdict: steady, Now: now, Over: &outage})
	assert.Contains(t, found[0].Sentence, "Lost for 40 min, ended 9 h 20 min ago.")
	outage.To = now.Add(-30 * time.Hour)
	found = finding.OfPath(finding.Standing{Verdict: steady, Now: now, Over: &outage})
	assert.NotContains(t, found[0].Sentence, "Lost")

	afternoons := guard.Property{Kind: guard.Daily, Measure: baseline.RTT, Before: 11, Now: 72, Weekdays: 0b1111111, From: 960, To: 1110, Days: 13, Sure: 0.95, Also: []guard.Beside{{Measure: baseline.Loss, Now: 0.1}}}
	found = finding.OfPath(finding.Standing{Verdict: steady, Now: now, Properties: []guard.Property{afternoons}})
	require.Len(t, found, 2)
	assert.Equal(t, finding.Saturation, found[1].Code)
	assert.Equal(t, "Gets worse every day about 16:00 to 18:30: RTT up to 72.0 ms instead of 11.0 ms, with 10.0 % lost, as when a link is full. That is how it is, and expected from now on.", found[1].Sentence)
	afternoons.Also, afternoons.Weekdays = nil, 0b0111110
	found = finding.OfPath(finding.Standing{Verdict: steady, Now: now, Properties: []guard.Property{afternoons}})
	assert.Equal(t, finding.DelayDaily, found[1].Code)
	assert.Contains(t, found[1].Sentence, "on working days")
}
