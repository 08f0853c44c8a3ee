package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
)

// laneWidth is that of the bar of added delay, in columns.
const laneWidth = 12

// Trace writes a trace as text: what is concluded first, then a lane a hop.
func Trace(w io.Writer, ink Ink, r finding.TraceReport, zone *time.Location) error {
	l := lines{w: w}
	head := ink.Strong(r.Target)
	if r.Address != r.Target {
		head += "  " + r.Address
	}
	l.put("%s  from %s by %s", head, r.From, r.Via)
	for _, f := range r.Findings {
		l.put("  ◆ %s", f.Sentence)
		if f.Advice != "" {
			l.put("    %s", ink.Faint(f.Advice))
		}
	}
	if r.Note != "" {
		l.put("  %s", r.Note)
	}
	l.put("  %s", traceSummary(r))
	if r.Dropped > 0 {
		l.put("  This host had no room for %d answers: what is lost above may have been lost here.", r.Dropped)
	}
	if r.Compared != nil {
		l.put("")
		traceCompared(&l, ink, *r.Compared, zone)
	}
	if len(r.Hops) > 0 {
		l.put("")
		traceLanes(&l, ink, r)
	}
	if len(r.Branches) > 1 {
		l.put("")
		traceBranches(&l, r)
	}
	if r.Back != nil && l.err == nil {
		l.put("")
		l.put("And back:")
		if l.err == nil {
			return Trace(w, ink, *r.Back, zone)
		}
	}
	return l.err
}

// traceSummary is one sentence of what the trace is.
func traceSummary(r finding.TraceReport) string {
	var b strings.Builder
	switch {
	case r.Reached:
		fmt.Fprintf(&b, "Reached over %s", plural(len(r.Hops), "hop"))
		if len(r.Branches) > 1 {
			fmt.Fprintf(&b, " on %d ways, of %d flows", len(r.Branches), r.Flows)
		}
		if !r.Complete {
			b.WriteString("; there may be more ways than were looked for")
		}
		fmt.Fprintf(&b, ". There and back %s", Ms(r.RTTMs))
		if r.LossRatio != nil && *r.LossRatio > 0 {
			fmt.Fprintf(&b, ", %s lost", figure.FormatRatio(*r.LossRatio))
		}
		b.WriteString(".")
	default:
		fmt.Fprintf(&b, "Not reached: %s.", r.Ended)
	}
	if r.PathMTU != nil {
		fmt.Fprintf(&b, " Packets of up to %d bytes pass.", *r.PathMTU)
	}
	fmt.Fprintf(&b, " %s in %s.", plural(r.Sent, "probe"), took(r.ElapsedMs))
	return b.String()
}

// took is a length of time: seconds where there are some.
func took(ms float64) string {
	if ms < 1000 {
		return figure.FormatMs(ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// traceLanes draws a lane a hop, from here to the target.
func traceLanes(l *lines, ink Ink, r finding.TraceReport) {
	most := 0.0
	for _, h := range r.Hops {
		if h.CarriedMs != nil {
			most = max(most, *h.CarriedMs)
		}
	}
	l.put("%s", ink.Faint(fmt.Sprintf("  %3s  %-*s %10s %9s %8s %8s  %s", "hop", laneWidth, "delay added", "adds", "so far", "carried", "spared", "who")))
	here := "here"
	if r.Source != "" {
		here += ", " + r.Source
	}
	l.put("%s", ink.Faint(fmt.Sprintf("  %3d  %-*s %10s %9s %8s %8s  %s", 0, laneWidth, "▏", "", "", "", "", here)))
	for _, h := range r.Hops {
		lane := fmt.Sprintf("  %3d  %s %10s %9s %8s %8s  ", h.TTL, bar(h.CarriedMs, most), signed(h), Ms(h.RTTMs), carriedText(h), sparedText(h))
		if h.CarriedRatio != nil && *h.CarriedRatio > 0 {
			lane = strings.Replace(lane, carriedText(h), ink.Lost(carriedText(h)), 1)
		}
		switch {
		case len(h.Nodes) == 0:
			l.put("%s%s", lane, ink.Faint("nobody answers here"))
		case len(h.Nodes) == 1:
			l.put("%s%s", lane, nodeText(ink, h.Nodes[0]))
		default:
			how := fmt.Sprintf("%d, by flow", len(h.Nodes))
			if h.PerPacket {
				how = fmt.Sprintf("%d, by packet: one flow meets them all", len(h.Nodes))
			}
			l.put("%s%s", lane, how)
			for i, n := range h.Nodes {
				mark := "├"
				if i == len(h.Nodes)-1 {
					mark = "└"
				}
				share := fmt.Sprintf("%.0f %%  ", 100*n.Share)
				if h.PerPacket {
					share = ""
				}
				l.put("  %3s  %-*s %10s %9s %17s  %s %s%s", "", laneWidth, "", "", Ms(n.RTTMs), "", mark, share, nodeText(ink, n))
			}
		}
	}
}

// TraceLanes writes the lanes alone, of a trace that goes on.
func TraceLanes(w io.Writer, ink Ink, r finding.TraceReport) error {
	l := lines{w: w}
	traceLanes(&l, ink, r)
	return l.err
}

// LanesText is the lanes alone, with the target above.
func LanesText(ink Ink, r finding.TraceReport) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  from %s\n", ink.Strong(r.Target), r.From)
	_ = TraceLanes(&b, ink, r)
	return b.String()
}

// bar is added delay that carries on, as a length.
func bar(ms *float64, most float64) string {
	const eighths = " ▏▎▍▌▋▊▉█"
	if ms == nil || most <= 0 || *ms <= 0 {
		return "▏" + strings.Repeat(" ", laneWidth-1)
	}
	steps := max(1, int(*ms/most*laneWidth*8+0.5))
	var b strings.Builder
	for i := range laneWidth {
		n := min(8, max(0, steps-8*i))
		b.WriteRune([]rune(eighths)[n])
	}
	return b.String()
}

// signed is the delay that a hop adds.
func signed(h finding.HopReport) string {
	if h.AddedMs == nil {
		return "–"
	}
	if *h.AddedMs < 0 {
		return "−" + Ms(negated(h.AddedMs))
	}
	return "+" + Ms(h.AddedMs)
}

func negated(v *float64) *float64 {
	n := -*v
	return &n
}

// carriedText is the loss that carries on from a hop to the target.
func carriedText(h finding.HopReport) string {
	if h.CarriedRatio == nil || h.Answered == 0 {
		return "–"
	}
	return figure.FormatRatio(*h.CarriedRatio)
}

// sparedText is the part of the answers that the hop itself left out.
func sparedText(h finding.HopReport) string {
	switch {
	case h.LossRatio == nil || h.Answered == 0:
		return "–"
	case h.Spares && h.CarriedRatio != nil:
		return figure.FormatRatio(*h.LossRatio - *h.CarriedRatio)
	case h.CarriedRatio == nil && *h.LossRatio > 0:
		return "≤ " + figure.FormatRatio(*h.LossRatio)
	}
	return "·"
}

// nodeText names who answered.
func nodeText(ink Ink, n finding.NodeReport) string {
	text := n.Address
	if n.Name != "" {
		text = n.Name + " " + ink.Faint(n.Address)
	}
	var notes []string
	if n.Owner != "" {
		notes = append(notes, n.Owner+" ("+n.Segment+")")
	}
	if len(n.Labels) > 0 {
		notes = append(notes, "label "+strings.Join(n.Labels, ", "))
	}
	if n.Interface != "" {
		notes = append(notes, "in by "+n.Interface)
	}
	if n.Rewritten != "" {
		notes = append(notes, "sees the target as "+n.Rewritten)
	}
	if n.Refusal != "" {
		notes = append(notes, "refuses: "+n.Refusal)
	}
	if n.MTU > 0 {
		notes = append(notes, fmt.Sprintf("takes %d bytes", n.MTU))
	}
	if len(notes) > 0 {
		text += "  " + ink.Faint(strings.Join(notes, "; "))
	}
	return text
}

// traceBranches lists what flows meet from end to end.
func traceBranches(l *lines, r finding.TraceReport) {
	names := map[string]string{}
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			names[n.Address] = n.Name
		}
	}
	for i, b := range r.Branches {
		var own []string
		for _, ttl := range b.Own {
			if ttl > len(b.Hops) || b.Hops[ttl-1] == "" {
				continue
			}
			own = append(own, or(names[b.Hops[ttl-1]], b.Hops[ttl-1]))
		}
		lost := "–"
		if b.LossRatio != nil {
			lost = figure.FormatRatio(*b.LossRatio)
		}
		if b.Dead {
			l.put("  way %d  %3.0f %% of flows, nothing comes through behind hop %d", i+1, 100*b.Share, len(b.Hops))
			continue
		}
		l.put("  way %d  %3.0f %% of flows, %s there and back, %s of %d lost, by %s", i+1, 100*b.Share, Ms(b.RTTMs), lost, b.Probes, strings.Join(few(own, 4), ", "))
	}
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// traceCompared lists what differs from an earlier route.
func traceCompared(l *lines, ink Ink, c finding.Comparison, zone *time.Location) {
	with := c.With
	if c.At != nil {
		with += ", of " + When(*c.At, zone)
	}
	if !c.Changed {
		l.put("  Compared with %s: the same way.", with)
	} else {
		l.put("  Compared with %s:", with)
	}
	for _, d := range c.Lines {
		who := or(d.Name, d.Address)
		if d.Name != "" {
			who += " " + ink.Faint(d.Address)
		}
		switch d.Change {
		case "new":
			l.put("    + hop %-3d %s", d.TTLIs, who)
		case "gone":
			l.put("    − hop %-3d %s", d.TTLWas, who)
		case "moved":
			l.put("    ~ hop %-3d %s, was hop %d", d.TTLIs, who, d.TTLWas)
		case "share":
			l.put("    ~ hop %-3d %s, %.0f %% of the flows, was %.0f %%", d.TTLIs, who, 100*d.ShareIs, 100*d.ShareWas)
		}
	}
}

// TraceCSV writes a row for each who answered at each hop. Of the hop are its probes, the
// answers to them, and loss; who answered counts also what was asked to find flows.
func TraceCSV(w io.Writer, list []finding.TraceReport) error {
	rows := [][]string{append(slices.Clone(MeasuredColumns), "reached", "ttl", "hop_address", "name", "owner", "segment", "probes", "answered", "loss_ratio", "carried_loss_ratio", "hop_rtt_median_ms",
		"added_ms", "carried_added_ms", "share_ratio", "flows", "node_answered", "node_rtt_median_ms", "labels", "per_packet")}
	for _, r := range list {
		m := Measured{r.From, r.Target, r.Address, r.Via, r.StartedAt}
		for _, h := range r.Hops {
			nodes := h.Nodes
			if len(nodes) == 0 {
				nodes = []finding.NodeReport{{}}
			}
			for _, n := range nodes {
				share, flows, answered := "", "", ""
				if n.Address != "" {
					share, flows, answered = Cell(&n.Share), strconv.Itoa(n.Flows), strconv.Itoa(n.Answered)
				}
				rows = append(rows, append(m.Cells(), strconv.FormatBool(r.Reached), strconv.Itoa(h.TTL), n.Address, n.Name, n.Owner, n.Segment, strconv.Itoa(h.Probes), strconv.Itoa(h.Answered),
					Cell(h.LossRatio), Cell(h.CarriedRatio), Cell(h.RTTMs), Cell(h.AddedMs), Cell(h.CarriedMs), share, flows, answered, Cell(n.RTTMs), strings.Join(n.Labels, " "), strconv.FormatBool(h.PerPacket)))
			}
		}
	}
	return CSV(w, rows)
}
