package report_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// ofProbes is a result of probes: a answered, x lost, r refused.
func ofProbes(target, via, text string) (report.PingResult, []reading.Probe) {
	var probes []reading.Probe
	for i, c := range text {
		p := reading.Probe{Outcome: reading.Answered, RTT: time.Duration(10+i%4) * time.Millisecond, Stamp: reading.StampKernel}
		switch c {
		case 'x':
			p = reading.Probe{}
		case 'r':
			p = reading.Probe{Outcome: reading.Refused, Cause: "connection refused by 192.0.2.9"}
		}
		probes = append(probes, p)
	}
	return report.PingResult{Target: target, Address: "192.0.2.9", Via: via, From: "quay", Outcome: "done", Pattern: report.PatternOf(probes),
		Figures: reading.Of(time.Now(), 0, len(probes), 0, probes).Figures()}, probes
}

func ping(t *testing.T, results ...report.PingResult) string {
	var out strings.Builder
	require.NoError(t, document.Text(&out, document.NewInk(false), report.Ping(results)))
	return out.String()
}

func TestKindsSideBySide(t *testing.T) {
	a, _ := ofProbes("shop.example", "icmp", "aaaa")
	b, _ := ofProbes("shop.example", "tcp:443", "rrrr")
	out := ping(t, a, b)
	assert.Regexp(t, `by icmp +by tcp:443\n`, out)
	assert.Regexp(t, `answered +4 of 4 +0 of 4\n`, out)
	assert.Regexp(t, `RTT median +11\.5 ms +–\n`, out)
	assert.Contains(t, out, "4 refused: connection refused by 192.0.2.9")
	assert.NotContains(t, out, "answered from", "rows with nothing in them are left out")

	few := apitype.Finding{Code: "too_few_probes", Sentence: "Too few."}
	a.Findings, b.Findings = []apitype.Finding{few}, []apitype.Finding{few, {Code: "late_sent", Sentence: "Late."}}
	out = ping(t, a, b)
	assert.Equal(t, 1, strings.Count(out, "› Too few."), "what holds of all is said once")
	assert.Contains(t, out, "› Late. [by tcp:443 to 192.0.2.9]")

	var many []report.PingResult
	for i := range 13 {
		r, _ := ofProbes(fmt.Sprintf("host%d.example", i), "icmp", "aaax")
		many = append(many, r)
	}
	assert.Equal(t, 14, strings.Count(ping(t, many...), "\n"), "many targets are a table: a row each")
}

func TestHowLossesLie(t *testing.T) {
	for text, says := range map[string]string{
		strings.Repeat("a", 30) + "xxxx" + strings.Repeat("a", 30): "1 run of 4",
		strings.Repeat("aaax", 20):                                 "20 runs, the longest of 1; regular, one of each 4",
		"aaxaaaaaaaxxaaaaaaaaaaxaaaa":                              "3 runs, the longest of 2; burst ratio",
	} {
		r, _ := ofProbes("a", "icmp", text)
		assert.Contains(t, ping(t, r), "losses     "+says)
	}
	r, _ := ofProbes("a", "icmp", "aaaa")
	assert.NotContains(t, ping(t, r), "losses")
	assert.Nil(t, r.Pattern)
}

func TestLive(t *testing.T) {
	_, probes := ofProbes("a", "icmp", "aaaaxaaraaaa")
	holm := report.LiveRow{Name: "holm", Normal: "9.00 ms to 11.0 ms"}
	for i, p := range probes {
		if p.Number = i; p.Outcome == reading.Answered {
			holm.Hear(p)
		}
	}
	for i, p := range probes { // a loss is known later than the answers after it
		if p.Number = i; p.Outcome != reading.Answered {
			holm.Hear(p)
		}
	}
	out := document.String(document.Ink{}, report.Live(10, []report.LiveRow{holm, {Name: "fresh"}}))
	lines := strings.Split(out, "\n")
	assert.Contains(t, lines[0], "holm  now 12.0 ms   normal 9.00 ms to 11.0 ms   so far median 11.5 ms   1 of 12 lost (8.3 %)")
	assert.Equal(t, "  ┬  ╷    ", lines[1], "the newest ten: a loss and a refusal hang from the edge")
	assert.Equal(t, "▆█ ▃▆ ▁▃▆█  10.0 ms to 13.0 ms", lines[2])
	assert.Contains(t, lines[3], "waiting for the first answer")
}

func TestProbeLines(t *testing.T) {
	var out strings.Builder
	p := reading.Probe{Number: 3, DueAt: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), Outcome: reading.Answered, RTT: 1500 * time.Microsecond, TTL: 57, As: "port unreachable", Peer: netip.MustParseAddr("192.0.2.8")}
	require.NoError(t, report.ProbeLine(&out, "a", "192.0.2.9", "udp:9", p))
	require.NoError(t, report.ProbeLine(&out, "a", "192.0.2.9", "udp:9", reading.Probe{}))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 2)
	assert.JSONEq(t, `{"target":"a","address":"192.0.2.9","via":"udp:9","number":3,"due_at":"2026-11-23T09:00:00Z","sent_late_ms":0,"outcome":"answered","rtt_ms":1.5,
		"timestamps":"none","ttl":57,"cause":"","answered_as":"port unreachable","other_address":"192.0.2.8"}`, lines[0])
	assert.Contains(t, lines[1], `"rtt_ms":null`)
}

func sweptReport() sweep.Report {
	ms := func(v float64) *float64 { return &v }
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	return sweep.Report{Prefixes: []string{"192.0.2.0/29"}, From: "quay", Via: "icmp", Addresses: 8, Probed: 8, Answered: 3, Sent: 13, ElapsedMs: 2001, PacketsPerSecond: 5000,
		Refused: map[string]uint64{"host unreachable by 192.0.2.1": 2}, ComparedAt: &at, New: []string{"192.0.2.4"}, Gone: []string{"192.0.2.6"},
		Slower: []sweep.SlowerReport{{Address: "192.0.2.2", RTTMs: 40, BeforeMs: 4}},
		Hosts: []sweep.HostReport{{Address: "192.0.2.1", RTTMs: ms(0.5), Name: "gw.example"}, {Address: "192.0.2.2", RTTMs: ms(40), Open: []uint16{443}, Closed: []uint16{22}},
			{Address: "192.0.2.4", MAC: "02:00:00:00:00:04", By: "neighbour"}}}
}

func TestSweepText(t *testing.T) {
	var out strings.Builder
	require.NoError(t, document.Text(&out, document.NewInk(false), report.Sweep(sweptReport(), time.UTC)))
	text := out.String()
	for _, says := range []string{"3 of 8 addresses", "2 × host unreachable by 192.0.2.1", "since Mon 23 Nov 09:00: 1 new, 1 gone, 1 slower", "192.0.2.2 takes 40.0 ms, it took 4.00 ms",
		"·▪▪·+·○·", "443 open, 22 closed", "new, only its link answers", "slower, took 4.00 ms", "gw.example"} {
		assert.Contains(t, text, says)
	}
	large := sweptReport()
	large.Prefixes, large.Addresses, large.ComparedAt, large.New, large.Gone = []string{"192.0.0.0/16"}, 65536, nil, nil, nil
	out.Reset()
	require.NoError(t, document.Text(&out, document.NewInk(false), report.Sweep(large, time.UTC)))
	assert.Contains(t, out.String(), "a cell is 32 addresses")
	assert.Less(t, strings.Count(out.String(), "\n"), 50)
}

func TestSweepForMachines(t *testing.T) {
	var out strings.Builder
	r := sweptReport()
	require.NoError(t, report.SweepJSON(&out, r))
	var again sweep.Report
	require.NoError(t, json.Unmarshal([]byte(out.String()), &again))
	assert.Equal(t, r.Hosts[0].Name, again.Hosts[0].Name)
	assert.Len(t, again.Hosts, 3)
	assert.Equal(t, r.Gone, again.Gone)
	out.Reset()
	require.NoError(t, document.CSV(&out, report.Sweep(r, time.UTC)))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 5, "a heading, three hosts, and one that is gone")
	assert.Contains(t, lines[4], "192.0.2.6,4,,,,,,,,,,gone")
	assert.Equal(t, "1,234,567", report.Grouped(1234567))
}
