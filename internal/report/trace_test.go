package report_test

import (
	"encoding/xml"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// twoWays is a trace of 32 flows over a hop with two nodes; flows by the second
// lose half of their probes behind it, and hop 1 spares a part of its answers.
func twoWays() finding.TraceReport {
	target := netip.MustParseAddr("203.0.113.26")
	g := route.NewGather(target)
	for flow := range 32 {
		for n := range 20 {
			ways := []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("198.51.100.81"), netip.MustParseAddr("198.51.100.66"), target}
			if flow%2 == 1 {
				ways[1] = netip.MustParseAddr("198.51.100.82")
			}
			for i, a := range ways {
				p := route.Probe{TTL: i + 1, Flow: flow, Outcome: route.Expired, Addr: a, RTT: time.Duration(1+4*i) * time.Millisecond, BackTTL: 64 - i}
				switch {
				case i == 0 && n%4 == 0, i > 1 && flow%2 == 1 && n%2 == 0:
					p = route.Probe{TTL: i + 1, Flow: flow}
				case a == target:
					p.Outcome = route.Reached
				case i == 2:
					p.Labels = []route.Label{{Value: 16004, TTL: 1}}
				}
				g.Add(p)
			}
		}
	}
	r := g.Route()
	faults, spared := g.Locate(r)
	x := finding.Traced{Route: r, Faults: faults, Spared: spared, Names: map[netip.Addr]string{netip.MustParseAddr("198.51.100.82"): "south.transit.example", target: "terminal.holm.example"}}
	x.Owners, _ = route.ParseOwners(strings.NewReader("198.51.100.0/24,Kelpnet,transit\n"))
	out := x.Report()
	out.Target, out.From, out.Via, out.Source, out.Ended, out.Complete, out.Flows, out.Sent, out.ElapsedMs = "terminal.holm.example", "quay", "icmp", "192.0.2.20", "the target answers", true, 32, 2560, 4210
	return out
}

func TestTraceAsText(t *testing.T) {
	var b strings.Builder
	r := twoWays()
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Trace(r, time.UTC)))
	text := b.String()
	lines := strings.Split(text, "\n")
	assert.Equal(t, "terminal.holm.example  203.0.113.26  from quay by icmp", lines[0])
	assert.Contains(t, lines[1], "◆ Loss begins between hop 2, south.transit.example (198.51.100.82) and hop 3", "what is concluded stands first")
	assert.Contains(t, text, "It belongs to Kelpnet (transit).")
	assert.Contains(t, text, "Reached over 4 hops on 2 ways, of 32 flows. There and back 13.0 ms, 25.0 % lost. 2560 probes in 4.2 s.")
	for _, says := range []string{
		"here, 192.0.2.20", "2, by flow", "├ 50 %  198.51.100.81  Kelpnet (transit)", "└ 50 %  south.transit.example 198.51.100.82",
		"label 16004 TTL 1", "way 1   50 % of flows", "50.0 % of 320 lost, by south.transit.example",
	} {
		assert.Contains(t, text, says)
	}
	var hop1, hop4 string
	for _, l := range lines {
		if strings.HasPrefix(l, "    1  ") {
			hop1 = l
		}
		if strings.HasPrefix(l, "    4  ") {
			hop4 = l
		}
	}
	assert.Regexp(t, `ms +0 % +25.0 %  192`, hop1, "nothing is carried on from hop 1: hop 2 loses nothing; its own answers are spared")
	assert.Contains(t, hop4, "25.0 %")
	assert.NotContains(t, text, "*")

	r.Reached, r.Ended, r.Findings = false, "nobody answers any more", nil
	r.Compared = &finding.Comparison{With: "the last trace", Changed: true, Lines: []finding.DiffLine{{Change: "new", Address: "198.51.100.9", TTLIs: 2}, {Change: "gone", Address: "198.51.100.8", TTLWas: 2},
		{Change: "moved", Address: "198.51.100.7", TTLWas: 3, TTLIs: 4}, {Change: "share", Address: "198.51.100.6", TTLIs: 5, ShareWas: 0.5, ShareIs: 0.9}, {Change: "same", Address: "192.0.2.1"}}}
	b.Reset()
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Trace(r, time.UTC)))
	for _, says := range []string{"Not reached: nobody answers any more.", "+ hop 2   198.51.100.9", "− hop 2   198.51.100.8", "~ hop 4   198.51.100.7, was hop 3", "90 % of the flows, was 50 %"} {
		assert.Contains(t, b.String(), says)
	}
}

func TestTraceForOtherPrograms(t *testing.T) {
	list := []finding.TraceReport{twoWays()}
	var b strings.Builder
	require.NoError(t, document.CSV(&b, document.Document{Records: report.TraceRecords(list)}))
	rows := strings.Split(strings.TrimSpace(b.String()), "\n")
	require.Len(t, rows, 6, "a heading, and a row for each who answers")
	assert.Contains(t, rows[3], "198.51.100.82,south.transit.example,Kelpnet,transit,640,640,")
	b.Reset()
	require.NoError(t, report.TraceDOT(&b, list))
	assert.Contains(t, b.String(), `"from quay" -> "192.0.2.1" [label="32 flows"];`)
	assert.Contains(t, b.String(), `"198.51.100.82" -> "198.51.100.66" [label="16 flows"];`)
	b.Reset()
	require.NoError(t, report.TraceGraphML(&b, list))
	var g struct {
		Nodes []struct{} `xml:"graph>node"`
		Edges []struct{} `xml:"graph>edge"`
	}
	require.NoError(t, xml.Unmarshal([]byte(b.String()), &g))
	assert.Len(t, g.Nodes, 6)
	assert.Len(t, g.Edges, 6)
}

func TestReportsComeBackAsRoutes(t *testing.T) {
	r := twoWays()
	again := r.Route()
	assert.Equal(t, "192.0.2.1 198.51.100.81|198.51.100.82 198.51.100.66 203.0.113.26", again.Key())
	d := route.Compare(again, again)
	assert.False(t, d.Changed)
	later := twoWays()
	later.CompareWith(r, "the last trace")
	assert.False(t, later.Compared.Changed)
	owners, err := route.ParseOwners(strings.NewReader("203.0.113.0/24,Skerry Line,far end\n"))
	require.NoError(t, err)
	later.Own(owners)
	assert.Equal(t, "far end", later.Hops[3].Segment)
	assert.Equal(t, 1, strings.Count(later.Findings[0].Advice, "It belongs to"), "said once")
}
