package report

import (
	"fmt"
	"math"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/report/document"
)

// LiveRow is one target of a measurement that goes on, with its probes so far in
// the order of sending; nil for those whose fate is not known yet.
type LiveRow struct {
	Name   string
	Normal string // for this hour, where a service knows it; else empty
	Probes []*reading.Probe
}

// Hear puts a probe in its place.
func (r *LiveRow) Hear(p reading.Probe) {
	for len(r.Probes) <= p.Number {
		r.Probes = append(r.Probes, nil)
	}
	r.Probes[p.Number] = &p
}

// Known are the probes up to the first whose fate is not known: an answer is known
// sooner than a loss, so the newest alone would show too little of it.
func (r *LiveRow) Known() []reading.Probe {
	list := make([]reading.Probe, 0, len(r.Probes))
	for _, p := range r.Probes {
		if p == nil {
			break
		}
		list = append(list, *p)
	}
	return list
}

const (
	recent     = 10 // probes that are "now"
	shapeSteps = "▁▂▃▄▅▆▇█"
)

// Live draws the newest probes of each target, one a column, the oldest at the
// left: above, losses hang from the edge; below, the height is the round-trip
// time between the least and the largest shown.
func Live(width int, rows []LiveRow) document.Document {
	var picture document.Picture
	for _, r := range rows {
		shown := r.Probes[max(0, len(r.Probes)-width):]
		var marks, shape strings.Builder
		low, high := span(shown)
		for _, p := range shown {
			mark, step := " ", " "
			if p == nil {
				marks.WriteString(mark)
				shape.WriteString(step)
				continue
			}
			switch p.Outcome {
			case reading.Answered:
				step = stepOf(p.RTT, low, high)
			case reading.Refused:
				mark = document.Changed("╷")
			case reading.Unsent:
				mark = "?"
			default:
				mark = document.Lost("┬")
			}
			marks.WriteString(mark)
			shape.WriteString(step)
		}
		scale := ""
		if high > 0 {
			scale = "  " + document.Faint(figure.FormatMs(figure.Millis(low))+" to "+figure.FormatMs(figure.Millis(high)))
		}
		picture.Lines = append(picture.Lines, document.Strong(r.Name)+"  "+liveFigures(r), marks.String(), shape.String()+scale)
	}
	return document.Document{Parts: []document.Part{picture}}
}

// span is the least and the largest round-trip time.
func span(probes []*reading.Probe) (low, high time.Duration) {
	for _, p := range probes {
		if p == nil || p.Outcome != reading.Answered {
			continue
		}
		if low == 0 || p.RTT < low {
			low = p.RTT
		}
		high = max(high, p.RTT)
	}
	return low, high
}

func stepOf(v, low, high time.Duration) string {
	steps := []rune(shapeSteps)
	if high <= low {
		return string(steps[0])
	}
	i := int(math.Round(float64(v-low) / float64(high-low) * float64(len(steps)-1)))
	return string(steps[min(len(steps)-1, max(0, i))])
}

// liveFigures are the newest probes against all so far.
func liveFigures(r LiveRow) string {
	probes := r.Known()
	all := reading.Of(time.Time{}, 0, 0, 0, probes)
	now := reading.Of(time.Time{}, 0, 0, 0, probes[max(0, len(probes)-recent):])
	if all.Sent == 0 {
		return "waiting for the first answer"
	}
	f, n := all.Figures(), now.Figures()
	lost := fmt.Sprintf("%d probes, none lost", all.Sent)
	if all.Lost > 0 {
		lost = fmt.Sprintf("%d of %d lost (%s)", all.Lost, all.Sent, Percent(f.LossRatio))
	}
	normal := ""
	if r.Normal != "" {
		normal = "   normal " + r.Normal
	}
	return fmt.Sprintf("now %s%s   so far median %s   %s", Ms(n.RTTMedianMs), normal, Ms(f.RTTMedianMs), lost)
}
