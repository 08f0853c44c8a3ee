package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/internal/report/document"
)

// laneWidth is that of the bar of added delay, in columns.
const laneWidth = 12

// Trace is how a trace reads: what is concluded first, then a lane a hop.
func Trace(r finding.TraceReport, zone *time.Location) document.Document {
	var doc document.Document
	head := document.Strong(r.Target)
	if r.Address != r.Target {
		head += "  " + r.Address
	}
	doc.Say("%s  from %s by %s", head, r.From, r.Via)
	conclude(&doc, "◆", r.Findings)
	if r.Note != "" {
		doc.Say("  %s", r.Note)
	}
	doc.Say("  %s", traceSummary(r))
	if r.Dropped > 0 {
		doc.Say("  This host had no room for %d answers: what is lost above may have been lost here.", r.Dropped)
	}
	if r.Compared != nil {
		doc.Gap()
		traceCompared(&doc, *r.Compared, zone)
	}
	if len(r.Hops) > 0 {
		doc.Gap()
		doc.Add(Lanes(r))
	}
	if len(r.Branches) > 1 {
		doc.Gap()
		traceBranches(&doc, r)
	}
	if r.Back != nil {
		doc.Gap()
		doc.Say("And back:")
		doc.Append(Trace(*r.Back, zone))
	}
	return doc
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

// Lanes are a lane a hop, from here to the target.
func Lanes(r finding.TraceReport) document.Table {
	most := 0.0
	for _, h := range r.Hops {
		if h.CarriedMs != nil {
			most = max(most, *h.CarriedMs)
		}
	}
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "hop", Right: true, Width: 3}, {Name: "delay added", Width: laneWidth}, {Name: "adds", Right: true, Width: 9},
		{Name: "so far", Right: true, Width: 8}, {Name: "carried", Right: true, Width: 7}, {Name: "spared", Right: true, Width: 7}, {Name: "who"}}}
	here := "here"
	if r.Source != "" {
		here += ", " + r.Source
	}
	faint := document.Faint
	t.Rows = append(t.Rows, []string{faint("0"), faint("▏"), "", "", "", "", faint(here)})
	for _, h := range r.Hops {
		carried := carriedText(h)
		if h.CarriedRatio != nil && *h.CarriedRatio > 0 {
			carried = document.Lost(carried)
		}
		lane := []string{strconv.Itoa(h.TTL), bar(h.CarriedMs, most), signed(h), Ms(h.RTTMs), carried, sparedText(h), ""}
		who := &lane[len(lane)-1]
		t.Rows = append(t.Rows, lane)
		switch {
		case len(h.Nodes) == 0:
			*who = faint("nobody answers here")
		case len(h.Nodes) == 1:
			*who = nodeText(h.Nodes[0])
		default:
			*who = fmt.Sprintf("%d, by flow", len(h.Nodes))
			if h.PerPacket {
				*who = fmt.Sprintf("%d, by packet: one flow meets them all", len(h.Nodes))
			}
			t.Rows = append(t.Rows, branches(h)...)
		}
	}
	return t
}

// branches are a row for each who answers at a hop.
func branches(h finding.HopReport) (rows [][]string) {
	for i, n := range h.Nodes {
		mark := "├"
		if i == len(h.Nodes)-1 {
			mark = "└"
		}
		share := fmt.Sprintf("%.0f %%  ", 100*n.Share)
		if h.PerPacket {
			share = ""
		}
		rows = append(rows, []string{"", "", "", Ms(n.RTTMs), "", "", mark + " " + share + nodeText(n)})
	}
	return rows
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
func nodeText(n finding.NodeReport) string {
	text := n.Address
	if n.Name != "" {
		text = n.Name + " " + document.Faint(n.Address)
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
		text += "  " + document.Faint(strings.Join(notes, "; "))
	}
	return text
}

// traceBranches lists what flows meet from end to end.
func traceBranches(doc *document.Document, r finding.TraceReport) {
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
			doc.Say("  way %d  %3.0f %% of flows, nothing comes through behind hop %d", i+1, 100*b.Share, len(b.Hops))
			continue
		}
		doc.Say("  way %d  %3.0f %% of flows, %s there and back, %s of %d lost, by %s", i+1, 100*b.Share, Ms(b.RTTMs), lost, b.Probes, strings.Join(few(own, 4), ", "))
	}
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// traceCompared lists what differs from an earlier route.
func traceCompared(doc *document.Document, c finding.Comparison, zone *time.Location) {
	with := c.With
	if c.At != nil {
		with += ", of " + When(*c.At, zone)
	}
	if !c.Changed {
		doc.Say("  Compared with %s: the same way.", with)
	} else {
		doc.Say("  Compared with %s:", with)
	}
	for _, d := range c.Lines {
		who := or(d.Name, d.Address)
		if d.Name != "" {
			who += " " + document.Faint(d.Address)
		}
		switch d.Change {
		case "new":
			doc.Say("    + hop %-3d %s", d.TTLIs, who)
		case "gone":
			doc.Say("    − hop %-3d %s", d.TTLWas, who)
		case "moved":
			doc.Say("    ~ hop %-3d %s, was hop %d", d.TTLIs, who, d.TTLWas)
		case "share":
			doc.Say("    ~ hop %-3d %s, %.0f %% of the flows, was %.0f %%", d.TTLIs, who, 100*d.ShareIs, 100*d.ShareWas)
		}
	}
}

// TraceRecords are one for each who answered at each hop. Of the hop are its probes, the
// answers to them, and loss; who answered counts also what was asked to find flows.
func TraceRecords(list []finding.TraceReport) document.Records {
	var rows [][]string
	columns := append(slices.Clone(MeasuredColumns), "reached", "ttl", "hop_address", "name", "owner", "segment", "probes", "answered", "loss_ratio", "carried_loss_ratio", "hop_rtt_median_ms",
		"added_ms", "carried_added_ms", "share_ratio", "flows", "node_answered", "node_rtt_median_ms", "labels", "per_packet")
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
	return document.RecordsOf(columns, rows)
}
