package report

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
	"woodlark.example/internal/report/document"
)

// twoHeads begins the report of a measurement with two ends: what is concluded comes
// first.
func twoHeads(doc *document.Document, target, address, from, what string, found []finding.Finding, problem, note string) {
	head := document.Strong(target)
	if address != "" && address != target {
		head += "  " + address
	}
	doc.Say("%s  from %s, %s", head, from, what)
	if problem != "" {
		doc.Say("  It broke off: %s. What follows was measured until then.", problem)
	}
	conclude(doc, "◆", found)
	if note != "" {
		doc.Say("  %s", note)
	}
}

// conclude adds findings.
func conclude(doc *document.Document, sign string, found []finding.Finding) {
	for _, f := range found {
		doc.Add(document.Finding{Sign: sign, Text: f.Sentence, Advice: f.Advice})
	}
}

// Stream is how a stream reads.
func Stream(r finding.StreamReport, zone *time.Location) document.Document {
	var doc document.Document
	what := fmt.Sprintf("packets each %s", Ms(&r.IntervalMs))
	if r.Codec != "" {
		what = r.Codec + " over RTP"
	}
	if r.Streams > 1 {
		what += fmt.Sprintf(", %d streams", r.Streams)
	}
	what += fmt.Sprintf(", for %s from %s", spanOf(r.ElapsedMs), r.StartedAt.In(zone).Format("15:04:05 MST"))
	twoHeads(&doc, r.Target, r.Address, r.From, what, r.Findings, r.Problem, r.Note)
	rows := [][]string{{"received"}, {"loss"}, {"between"}, {"runs"}, {"delay median"}, {"delay from"}, {"delay to"}, {"99 % within"}, {"jitter"}, {"jitter by RTP"}, {"p99 − min"}, {"p99.9 − min"},
		{"overtaken"}, {"twice"}, {"left late"}, {"DSCP"}, {"discarded"}, {"mouth to ear"}, {"R-factor"}, {"MOS"}}
	var names []string
	for _, d := range r.Directions {
		names = append(names, d.Direction)
		for i, cell := range streamCells(d) {
			rows[i] = append(rows[i], cell)
		}
	}
	if len(names) > 0 {
		doc.Gap()
		doc.Add(document.Beside(names, rows))
	}
	streamClock(&doc, r)
	reflectorLines(&doc, r.Reflector)
	if len(r.Directions) > 0 {
		doc.Gap()
		doc.Add(streamStrip(r))
	}
	doc.Records = streamRecords(r)
	return doc
}

func spanOf(ms float64) string {
	return (time.Duration(ms * 1e6)).Round(100 * time.Millisecond).String()
}

func streamCells(d finding.StreamDirection) []string {
	some := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	runs, overtaken, twice := "", some(d.Reordered), some(d.Duplicates)
	if d.Runs > 0 {
		runs = fmt.Sprintf("%d, the longest of %d", d.Runs, d.LongestRun)
	}
	if d.Reordered > 0 {
		overtaken += fmt.Sprintf(", by %d at most", d.Extent)
	}
	cells := []string{fmt.Sprintf("%d of %d", d.Received, d.Sent), Percent(d.LossRatio), Percent(d.LossLow) + " – " + Percent(d.LossHigh), runs, Ms(d.MedianMs), Ms(d.MinMs), Ms(d.MaxMs), Ms(d.P99Ms),
		Ms(d.JitterMs), Ms(d.MediaMs), Ms(d.PDVMs), Ms(d.Variation), overtaken, twice, some(d.LateSent), dscpCell(d)}
	q := d.Quality
	if q == nil {
		return append(cells, "", "", "", "")
	}
	score := func(v, worst *float64, digits int) string {
		if v == nil {
			return "not known for this codec"
		}
		s := strconv.FormatFloat(*v, 'f', digits, 64)
		if worst != nil && *worst != *v {
			s += ", the worst " + strconv.FormatFloat(*worst, 'f', digits, 64)
		}
		return s
	}
	return append(cells, fmt.Sprintf("%d by a %s buffer", q.Discarded, q.Buffer), Ms(q.MouthMs), score(q.R, q.WorstR, 1), score(q.MOS, q.WorstMOS, 2))
}

func dscpCell(d finding.StreamDirection) string {
	sent := "?"
	if d.DSCPSent != nil {
		sent = strconv.Itoa(*d.DSCPSent)
	}
	switch {
	case len(d.DSCPs) == 0 && d.DSCPSent != nil && *d.DSCPSent > 0:
		return "sent " + sent + ", came not known"
	case len(d.DSCPs) == 0:
		return ""
	case len(d.DSCPs) == 1 && (d.DSCPSent == nil || d.DSCPs[0].DSCP == *d.DSCPSent):
		if d.DSCPs[0].DSCP == 0 {
			return ""
		}
		return strconv.Itoa(d.DSCPs[0].DSCP)
	}
	var parts []string
	for _, x := range d.DSCPs {
		parts = append(parts, fmt.Sprintf("%d on %d", x.DSCP, x.Packets))
	}
	return fmt.Sprintf("sent %s, came %s", sent, strings.Join(parts, ", "))
}

func streamClock(doc *document.Document, r finding.StreamReport) {
	switch c := r.Clock; {
	case c.InStep && c.ErrorMs != nil && *c.ErrorMs == 0:
		doc.Say("  %s", document.Faint("Both ends go by one clock."))
	case c.InStep:
		doc.Say("  %s", document.Faint("Both clocks are in step, to within "+Ms(c.ErrorMs)+"."))
	case c.OffsetMs != nil:
		side, by := "ahead", math.Abs(*c.OffsetMs)
		if *c.OffsetMs < 0 {
			side = "behind"
		}
		doc.Say("  %s", document.Faint(fmt.Sprintf("Far clock %s by %s, drifting by %.1f ppm; one-way delays are off by %s at most.", side, Ms(&by), *c.SkewPPM, Ms(c.ErrorMs))))
	}
	if r.RTTRestMs != nil {
		says := "Round trip at rest " + Ms(r.RTTRestMs)
		if r.RTTLoadMs != nil {
			says += ", beside the stream " + Ms(r.RTTLoadMs)
		}
		doc.Say("  %s", document.Faint(says+"."))
	}
}

// reflectorLines say what is known of the reflector that a stream was measured by.
func reflectorLines(doc *document.Document, r *finding.ReflectorReport) {
	if r == nil {
		return
	}
	says := fmt.Sprintf("Reflector answered %d of %d", r.Answered, r.Sent)
	if r.RTTMedianMs != nil {
		says += fmt.Sprintf(", round trip %s, kept packets for %s", Ms(r.RTTMedianMs), Ms(r.DwellMs))
	}
	switch {
	case r.Stateful != nil:
		says += "; it counts"
	case r.Answered < r.Sent:
		says += "; nothing shows that it counts"
	}
	if r.Authenticated {
		says += "; authenticated"
	}
	doc.Say("  %s", document.Faint(says+"."))
	var parts []string
	clock := r.Clock
	if clock == "free" {
		clock = "nothing"
	}
	for _, p := range [][2]string{{"It sees us as ", r.SeenAs}, {"clock kept by ", clock}, {"stamps in ", r.Stamps}, {"does not answer ", strings.Join(r.Unknown, ", ")}} {
		if p[1] != "" {
			parts = append(parts, p[0]+p[1])
		}
	}
	if r.DSCPRefused {
		parts = append(parts, "does not answer with the DSCP that it was asked for")
	}
	if r.Unplaced > 0 {
		parts = append(parts, fmt.Sprintf("of %d losses side by side it is not known which was which way, but how many", r.Unplaced))
	}
	if len(parts) > 0 {
		text := strings.Join(parts, "; ")
		doc.Say("  %s", document.Faint(strings.ToUpper(text[:1])+text[1:]+"."))
	}
}

// mirror is something by stretches of time both ways, of which side gives those of a way: 0
// there, 1 back.
func mirror(names [2]string, most float64, count int, side func(i, way int) document.Side, at func(i int) float64) document.Mirror {
	m := document.Mirror{There: names[0], Back: names[1], Most: most}
	for i := range count {
		m.Rows = append(m.Rows, document.MirrorRow{At: at(i), There: side(i, 0), Back: side(i, 1)})
	}
	return m
}

// streamStrip is the jitter of each stretch, with what was lost.
func streamStrip(r finding.StreamReport) document.Mirror {
	var sides [2]*finding.StreamDirection
	count, most := 0, 0.0
	for i := range r.Directions {
		d := &r.Directions[i]
		side := 1
		if d.There {
			side = 0
		}
		sides[side] = d
		count = max(count, len(d.Spans))
		for _, s := range d.Spans {
			if s.JitterMs != nil {
				most = max(most, *s.JitterMs)
			}
		}
	}
	name := func(d *finding.StreamDirection) string {
		if d == nil {
			return ""
		}
		return "jitter " + d.Direction
	}
	return mirror([2]string{name(sides[0]), name(sides[1])}, most, count, func(i, way int) (side document.Side) {
		d := sides[way]
		if d == nil || i >= len(d.Spans) {
			return side
		}
		s := d.Spans[i]
		side.Says = Ms(s.JitterMs)
		if s.Lost > 0 {
			side.Says = document.Lost(fmt.Sprintf("%d lost", s.Lost)) + " " + side.Says
		}
		if s.JitterMs != nil {
			side.Known, side.Value = true, *s.JitterMs
		}
		return side
	}, func(i int) float64 {
		for _, d := range sides {
			if d != nil && i < len(d.Spans) {
				return d.Spans[i].Start
			}
		}
		return 0
	})
}

// streamRecords are one a stretch of time and direction.
func streamRecords(r finding.StreamReport) document.Records {
	var rows [][]string
	columns := append(slices.Clone(MeasuredColumns), "from", "to", "direction", "start_s", "span_s", "sent", "lost", "delay_median_ms", "delay_max_ms", "jitter_ms", "r_factor", "mos")
	m := Measured{r.From, r.Target, r.Address, r.Format, r.StartedAt}
	for _, d := range r.Directions {
		for _, s := range d.Spans {
			rows = append(rows, append(m.Cells(), d.From, d.To, way(d.There), Cell(&s.Start), Cell(&s.Length), strconv.Itoa(s.Sent), strconv.Itoa(s.Lost), Cell(s.MedianMs), Cell(s.MaxMs), Cell(s.JitterMs), Cell(s.R), Cell(s.MOS)))
		}
	}
	return document.RecordsOf(columns, rows)
}

// way names a direction in CSV: from the near end, or back to it.
func way(there bool) string {
	if there {
		return "there"
	}
	return "back"
}

// Rate writes bits a second; nothing when absent.
func Rate(bps *float64) string {
	if bps == nil {
		return ""
	}
	return capacity.Rate(*bps).String()
}
