package report

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
)

// twoHeads begins the report of a measurement with two ends: what is concluded comes
// first.
func twoHeads(l *lines, ink Ink, target, address, from, what string, found []finding.Finding, problem, note string) {
	head := ink.Strong(target)
	if address != "" && address != target {
		head += "  " + address
	}
	l.put("%s  from %s, %s", head, from, what)
	if problem != "" {
		l.put("  It broke off: %s. What follows was measured until then.", problem)
	}
	for _, f := range found {
		l.put("  ◆ %s", f.Sentence)
		if f.Advice != "" {
			l.put("    %s", ink.Faint(f.Advice))
		}
	}
	if note != "" {
		l.put("  %s", note)
	}
}

// sideBySide writes rows of figures, a column for each direction; rows that are empty
// throughout are left out.
func sideBySide(l *lines, ink Ink, names []string, rows [][]string) {
	columns := []Column{{Name: ""}}
	for _, n := range names {
		columns = append(columns, Column{Name: n})
	}
	kept := rows[:0]
	for _, row := range rows {
		if strings.Trim(strings.Join(row[1:], ""), "– ") != "" {
			kept = append(kept, append([]string{"  " + row[0]}, row[1:]...))
		}
	}
	if l.err == nil {
		l.err = Table(l.w, ink, columns, kept)
	}
}

// Stream writes what a stream found as text.
func Stream(w io.Writer, ink Ink, r finding.StreamReport, zone *time.Location) error {
	l := lines{w: w}
	what := fmt.Sprintf("packets each %s", Ms(&r.IntervalMs))
	if r.Codec != "" {
		what = r.Codec + " over RTP"
	}
	if r.Streams > 1 {
		what += fmt.Sprintf(", %d streams", r.Streams)
	}
	what += fmt.Sprintf(", for %s from %s", spanOf(r.ElapsedMs), r.StartedAt.In(zone).Format("15:04:05 MST"))
	twoHeads(&l, ink, r.Target, r.Address, r.From, what, r.Findings, r.Problem, r.Note)
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
		l.put("")
		sideBySide(&l, ink, names, rows)
	}
	streamClock(&l, ink, r)
	reflectorLines(&l, ink, r.Reflector)
	if len(r.Directions) > 0 {
		l.put("")
		streamStrip(&l, ink, r)
	}
	return l.err
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

func streamClock(l *lines, ink Ink, r finding.StreamReport) {
	switch c := r.Clock; {
	case c.InStep && c.ErrorMs != nil && *c.ErrorMs == 0:
		l.put("  %s", ink.Faint("Both ends go by one clock."))
	case c.InStep:
		l.put("  %s", ink.Faint("Both clocks are in step, to within "+Ms(c.ErrorMs)+"."))
	case c.OffsetMs != nil:
		side, by := "ahead", math.Abs(*c.OffsetMs)
		if *c.OffsetMs < 0 {
			side = "behind"
		}
		l.put("  %s", ink.Faint(fmt.Sprintf("Far clock %s by %s, drifting by %.1f ppm; one-way delays are off by %s at most.", side, Ms(&by), *c.SkewPPM, Ms(c.ErrorMs))))
	}
	if r.RTTRestMs != nil {
		says := "Round trip at rest " + Ms(r.RTTRestMs)
		if r.RTTLoadMs != nil {
			says += ", beside the stream " + Ms(r.RTTLoadMs)
		}
		l.put("  %s", ink.Faint(says+"."))
	}
}

// reflectorLines say what is known of the reflector that a stream was measured by.
func reflectorLines(l *lines, ink Ink, r *finding.ReflectorReport) {
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
	l.put("  %s", ink.Faint(says+"."))
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
		l.put("  %s", ink.Faint(strings.ToUpper(text[:1])+text[1:]+"."))
	}
}

// stripWidth is how wide a side of a mirrored strip is, stripLines how long it is.
const (
	stripWidth = 24
	stripLines = 20
)

// strip writes stretches of time as lines, what went there to the left of an axis and
// what came back to its right.
func strip(l *lines, ink Ink, left, right string, most float64, count int, cell func(i int, there bool) (value float64, says string, ok bool), at func(i int) float64) {
	if most <= 0 {
		most = 1
	}
	each := (count + stripLines - 1) / max(1, stripLines)
	l.put("%s", ink.Faint(fmt.Sprintf("  %6s %*s │ %s", "", stripWidth+16, clip(left, stripWidth+16), clip(right, stripWidth+16))))
	for i := 0; i < count; i += max(1, each) {
		a, as, aok := cell(i, true)
		b, bs, bok := cell(i, false)
		bar := func(v float64, ok bool) string {
			if !ok {
				return ""
			}
			return strings.Repeat("▪", int(v/most*stripWidth+0.5))
		}
		leftSide := fmt.Sprintf("%*s", 15, as) + " " + pad(bar(a, aok), stripWidth, true)
		l.put("  %5.0fs %s │ %s", at(i), leftSide, strings.TrimRight(pad(bar(b, bok), stripWidth, false)+" "+bs, " "))
	}
}

func pad(s string, n int, right bool) string {
	gap := strings.Repeat(" ", max(0, n-utf8.RuneCountInString(s)))
	if right {
		return gap + s
	}
	return s + gap
}

func clip(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// streamStrip is the jitter of each stretch, with what was lost.
func streamStrip(l *lines, ink Ink, r finding.StreamReport) {
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
	strip(l, ink, name(sides[0]), name(sides[1]), most, count, func(i int, there bool) (float64, string, bool) {
		d := sides[1]
		if there {
			d = sides[0]
		}
		if d == nil || i >= len(d.Spans) {
			return 0, "", false
		}
		s := d.Spans[i]
		says := Ms(s.JitterMs)
		if s.Lost > 0 {
			says = ink.Lost(fmt.Sprintf("%d lost", s.Lost)) + " " + says
		}
		if s.JitterMs == nil {
			return 0, says, false
		}
		return *s.JitterMs, says, true
	}, func(i int) float64 {
		for _, d := range sides {
			if d != nil && i < len(d.Spans) {
				return d.Spans[i].Start
			}
		}
		return 0
	})
}

// StreamCSV writes one row a stretch of time and direction.
func StreamCSV(w io.Writer, r finding.StreamReport) error {
	rows := [][]string{append(slices.Clone(MeasuredColumns), "from", "to", "direction", "start_s", "span_s", "sent", "lost", "delay_median_ms", "delay_max_ms", "jitter_ms", "r_factor", "mos")}
	m := Measured{r.From, r.Target, r.Address, r.Format, r.StartedAt}
	for _, d := range r.Directions {
		for _, s := range d.Spans {
			rows = append(rows, append(m.Cells(), d.From, d.To, way(d.There), Cell(&s.Start), Cell(&s.Length), strconv.Itoa(s.Sent), strconv.Itoa(s.Lost), Cell(s.MedianMs), Cell(s.MaxMs), Cell(s.JitterMs), Cell(s.R), Cell(s.MOS)))
		}
	}
	return CSV(w, rows)
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
