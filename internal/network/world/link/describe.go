package link

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Describe says in words what a direction does to packets, with its units. A
// link as long as nothing is said of it is "no delay".
func (p Properties) Describe() string {
	if !p.Up {
		return "cut"
	}
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if p.Rate > 0 {
		add("%s", RateText(p.Rate))
	}
	if p.Delay > 0 || p.Rate == 0 {
		add("%s", p.delayText())
	}
	if p.Loss.Kind != NoLoss {
		add("%s", p.Loss.text())
	}
	if p.Load > 0 {
		add("cross traffic of %s", percent(p.Load))
	}
	if p.Policer.Rate > 0 {
		add("policed to %s with bursts of %s", RateText(p.Policer.Rate), bytesText(p.Policer.Burst))
	}
	if p.Duplicates > 0 {
		add("doubles %s", percent(p.Duplicates))
	}
	if p.Reorders > 0 {
		add("holds %s back for %v", percent(p.Reorders), p.HeldBack)
	}
	if p.Rate > 0 || p.Load > 0 {
		add("%s", p.Queue.text())
	}
	if p.MTU > 0 {
		add("MTU %d", p.MTU)
		if p.Swallow {
			parts[len(parts)-1] += " (swallows what is bigger)"
		}
	}
	return strings.Join(parts, ", ")
}

func (p Properties) delayText() string {
	if p.Delay == 0 && p.Variation.Kind == Constant {
		return "no delay"
	}
	text := span(p.Delay)
	switch v := p.Variation; v.Kind {
	case Uniform:
		text += " ±" + span(v.Scale)
	case Gaussian:
		text += " (normal, standard deviation " + span(v.Scale) + ")"
	case Gamma:
		text += " + gamma of mean " + span(v.Scale)
	case Pareto:
		text += " + Pareto of mean " + span(v.Scale)
	case Histogram:
		text += " + histogram"
	}
	if p.Variation.Kind != Constant && p.Memory.For > 0 {
		text += " with a memory of " + span(p.Memory.For)
		if p.Memory.Share < 1 {
			text += " (" + percent(p.Memory.Share) + " of it)"
		}
	}
	return text
}

func (l Loss) text() string {
	switch l.Kind {
	case EveryNth:
		return fmt.Sprintf("loses every %d. packet", l.N)
	case BurstLoss:
		return "loses " + percent(l.Mean()) + " in bursts"
	}
	return "loses " + percent(l.Ratio)
}

func (q Queue) text() string {
	text := "queue of " + span(q.Time)
	if q.Bytes > 0 {
		text = "queue of " + bytesText(q.Bytes)
	}
	if q.Early {
		text += ", dropping early"
	}
	return text
}

// span writes a time in milliseconds or seconds with a space before the unit.
func span(d time.Duration) string {
	if d >= time.Second {
		return number(d.Seconds()) + " s"
	}
	if d > 0 && d < 100*time.Microsecond {
		return number(float64(d)/1e3) + " µs"
	}
	return number(float64(d)/1e6) + " ms"
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }

func percent(v float64) string { return number(v*100) + " %" }

func bytesText(n int) string {
	if n >= 1000 {
		return number(float64(n)/1e3) + " kB"
	}
	return fmt.Sprintf("%d bytes", n)
}

// RateText writes a rate in bit/s with its prefix.
func RateText(bps float64) string {
	for _, u := range []struct {
		scale float64
		name  string
	}{{1e9, "Gbit/s"}, {1e6, "Mbit/s"}, {1e3, "kbit/s"}} {
		if bps >= u.scale {
			return number(bps/u.scale) + " " + u.name
		}
	}
	return number(bps) + " bit/s"
}

// Brief is Describe with only what matters first: rate, delay, loss.
func (p Properties) Brief() string {
	if !p.Up {
		return "cut"
	}
	var parts []string
	if p.Rate > 0 {
		parts = append(parts, RateText(p.Rate))
	}
	if p.Delay > 0 {
		parts = append(parts, span(p.Delay))
	}
	if p.Loss.Kind != NoLoss {
		parts = append(parts, p.Loss.text())
	}
	return strings.Join(parts, ", ")
}
