package report

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/report/document"
)

// Throughput is how a bandwidth test reads.
func Throughput(r finding.ThroughputReport, zone *time.Location) document.Document {
	var doc document.Document
	k := r.Conditions
	what := strings.ToUpper(r.Protocol)
	if k.OfferedBps != nil {
		what += fmt.Sprintf(" at %s in packets of %d bytes", Rate(k.OfferedBps), k.PacketBytes)
	}
	if k.Streams > 1 {
		what += fmt.Sprintf(", %d streams", k.Streams)
	}
	if k.AtOnce {
		what += ", both ways at once"
	}
	what += fmt.Sprintf(", %gs from %s", k.For, r.StartedAt.In(zone).Format("15:04:05 MST"))
	twoHeads(&doc, r.Target, r.Address, r.From, what, r.Findings, r.Problem, r.Note)
	rows := [][]string{{"received"}, {"with warm-up"}, {"IP packets"}, {"frames"}, {"on the line"}, {"mean of repeats"}, {"sent"}, {"loss"}, {"jitter"}, {"overtaken"}, {"sent again"}, {"RTT at rest"},
		{"RTT under load"}, {"TCP efficiency"}, {"buffer delay"}, {"transfer time ratio"}, {"held up by receiver"}, {"held up by buffer"}, {"CPU here / there"}}
	var names []string
	for _, d := range r.Directions {
		names = append(names, d.Direction)
		for i, cell := range throughputCells(d, r) {
			rows[i] = append(rows[i], cell)
		}
	}
	if len(names) > 0 {
		doc.Gap()
		doc.Add(document.Beside(names, rows))
	}
	if y := r.Yardstick; y != nil {
		doc.Say("  %s", document.Faint(fmt.Sprintf("Within themselves the machines reach %s here and %s there.", orNone(Rate(y.NearBps)), orNone(Rate(y.FarBps)))))
	}
	for _, d := range r.Directions {
		for _, t := range d.Tried {
			doc.Say("  %s", document.Faint(fmt.Sprintf("%s: datagrams at %s lost %s, the others waited %s in the mean.", d.Direction, Rate(&t.OfferedBps), orNone(Percent(t.LossRatio)), orNone(Ms(t.DelayedMs)))))
		}
	}
	if len(r.Directions) > 0 {
		doc.Say("  %s", document.Faint(conditions(k)))
		doc.Gap()
		doc.Add(throughputStrip(r))
	}
	doc.Records = throughputRecords(r)
	return doc
}

func orNone(s string) string {
	if s == "" {
		return "nothing that could be measured"
	}
	return s
}

// conditions are those that the figures hold under.
func conditions(k finding.ThroughputConditions) string {
	parts := []string{"Rates are of payload where no layer is named"}
	if k.Congestion != "" {
		parts = append(parts, "congestion control "+k.Congestion)
	}
	if k.WindowBytes > 0 {
		parts = append(parts, fmt.Sprintf("window %d bytes", k.WindowBytes))
	}
	if k.WarmUp > 0 {
		parts = append(parts, fmt.Sprintf("the first %gs left out", k.WarmUp))
	}
	if k.NearSystem != "" {
		parts = append(parts, fmt.Sprintf("%s here, %s there", k.NearSystem, k.FarSystem))
	}
	return strings.Join(parts, "; ") + "."
}

func throughputCells(d finding.ThroughputDirection, r finding.ThroughputReport) []string {
	mean, again, overtaken, cpu, sent, whole := "", "", "", "", "", ""
	if n := len(r.Repeats); n > len(r.Directions) && d.Trimmed != nil {
		mean = Rate(d.Trimmed)
		if r.Conditions.AtOnce || n >= 5*len(r.Directions) {
			mean += ", best and worst left out"
		}
	}
	if d.Resent != nil && d.Segments != nil {
		again = fmt.Sprintf("%d of %d segments", *d.Resent, *d.Segments)
	}
	if d.Reordered != nil && *d.Reordered > 0 {
		overtaken = strconv.FormatInt(*d.Reordered, 10)
	}
	if d.BusyNear != nil && d.BusyFar != nil {
		cpu = Percent(d.BusyNear) + " / " + Percent(d.BusyFar)
	}
	if d.SentBps != nil {
		sent = Rate(d.SentBps)
	}
	if d.WholeBps != nil && d.ReceivedBps != nil && *d.WholeBps != *d.ReceivedBps {
		whole = Rate(d.WholeBps)
	}
	times := ""
	if d.TransferRatio != nil {
		times = strconv.FormatFloat(*d.TransferRatio, 'f', 2, 64)
	}
	return []string{Rate(d.ReceivedBps), whole, Rate(d.IPBps), Rate(d.FrameBps), Rate(d.LineBps), mean, sent, Percent(d.LossRatio), Ms(d.JitterMs), overtaken, again, Ms(d.RTTRestMs), Ms(d.RTTLoadMs),
		Percent(d.Efficiency), Percent(d.BufferDelay), times, Percent(d.ByReceiver), Percent(d.ByBuffer), cpu}
}

// throughputStrip is the rate of each second, at its receiver.
func throughputStrip(r finding.ThroughputReport) document.Mirror {
	var sides [2]*finding.ThroughputDirection
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
			most = max(most, s.ReceivedBps)
		}
	}
	name := func(d *finding.ThroughputDirection) string {
		if d == nil {
			return ""
		}
		return d.Direction
	}
	return mirror([2]string{name(sides[0]), name(sides[1])}, most, count, func(i, way int) (side document.Side) {
		d := sides[way]
		if d == nil || i >= len(d.Spans) {
			return side
		}
		s := d.Spans[i]
		side = document.Side{Value: s.ReceivedBps, Known: true, Says: Rate(&s.ReceivedBps)}
		if s.WarmUp {
			side.Says = "(" + side.Says + ")"
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

// throughputRecords are one an interval and direction.
func throughputRecords(r finding.ThroughputReport) document.Records {
	var rows [][]string
	columns := append(slices.Clone(MeasuredColumns), "from", "to", "direction", "start_s", "span_s", "received_bytes", "received_bps", "sent_bytes", "resent_segments", "rtt_ms", "window_bytes", "warm_up")
	m := Measured{r.From, r.Target, r.Address, r.Protocol, r.StartedAt}
	for _, d := range r.Directions {
		for _, s := range d.Spans {
			rows = append(rows, append(m.Cells(), d.From, d.To, way(d.There), Cell(&s.Start), Cell(&s.Length), strconv.FormatInt(s.ReceivedBytes, 10), Cell(&s.ReceivedBps), whole(s.SentBytes), whole(s.Resent),
				Cell(s.RTTMs), whole(s.WindowBytes), strconv.FormatBool(s.WarmUp)))
		}
	}
	return document.RecordsOf(columns, rows)
}
