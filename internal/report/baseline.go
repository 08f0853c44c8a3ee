package report

import (
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
)

// Baseline writes what is normal of a path as text: by measure, with a picture of the week.
func Baseline(w io.Writer, ink Ink, b apitype.Baseline, zone *time.Location) error {
	l := lines{w: w}
	kind := "rolling"
	if b.Pinned {
		kind = "pinned"
	}
	l.put("%s  %s baseline of %d readings, %s to %s", ink.ends(b.From, b.To, b.Family, b.Via), kind, b.Readings, When(b.FromAt, zone), When(b.ToAt, zone))
	if b.Learning != nil {
		l.put("%s", fmt.Sprintf("Still being learnt, until %s: nothing but the loss of all answers is told before.", When(*b.Learning, zone)))
	}
	for _, m := range b.Measures {
		l.put("")
		l.put("%s  %s over all hours, whose bands reach from %s to %s; from %s", ink.Strong(measureName(m.Measure)), amount(m.Unit, m.Overall.Median), amount(m.Unit, m.Overall.Low), amount(m.Unit, m.Overall.High), countOne(m.Days, "day"))
		week(&l, ink, m)
		for _, r := range m.Recurs {
			l.put("  expected %s %s to %s: up to %s worse", strings.Join(shortDays(r.Weekdays), " "), r.From, r.To, amount(m.Unit, r.Shift))
		}
	}
	l.put("\n%s", ink.Faint(fmt.Sprintf("Hours are those of %s. A line is the middle of what is expected of an hour; nine of ten readings lie in the shade.", b.Zone)))
	return l.err
}

// weekRows is how many lines a day's picture is high.
const weekRows = 6

// week draws what is expected by the hour with its band, once for days that are alike.
func week(l *lines, ink Ink, m apitype.BaselineMeasure) {
	if len(m.Week) != 7*24 {
		return
	}
	low, high := math.Inf(1), math.Inf(-1)
	for _, h := range m.Week {
		low, high = min(low, h.Low), max(high, h.High)
	}
	for d := 0; d < 7; {
		from := (d + 1) % 7 // from Monday on
		n := 1
		for d+n < 7 && alike(m.Week, from, (d+1+n)%7) {
			n++
		}
		hours := m.Week[from*24 : (from+1)*24]
		worst := 0
		for h, v := range hours {
			if v.High > hours[worst].High {
				worst = h
			}
		}
		name := time.Weekday(from).String()[:3]
		if n > 1 {
			name += " to " + time.Weekday((d + n) % 7).String()[:3]
		}
		l.put("  %s  %s", name, ink.Faint(fmt.Sprintf("widest at %02d:00: %s to %s", worst, amount(m.Unit, hours[worst].Low), amount(m.Unit, hours[worst].High))))
		for r, line := range dayPicture(ink, hours, low, high) {
			label := ""
			switch r {
			case 0:
				label = amount(m.Unit, high)
			case weekRows - 1:
				label = amount(m.Unit, low)
			}
			l.put("  %12s │%s", label, line)
		}
		d += n
	}
	l.put("  %12s  %s", "", ink.Faint("0           6           12          18          24"))
}

// dayPicture are the lines of a day's hours, from the highest down: two cells an hour, a bar at
// the middle of what is expected, and its band shaded.
func dayPicture(ink Ink, hours []apitype.Band, low, high float64) []string {
	row := func(v float64) int {
		if high <= low {
			return 0
		}
		return min(weekRows-1, int((v-low)/(high-low)*weekRows))
	}
	out := make([]string, weekRows)
	for r := range out {
		at := weekRows - 1 - r
		var line strings.Builder
		for _, h := range hours {
			switch {
			case row(h.Median) == at:
				line.WriteString("━━")
			case at >= row(h.Low) && at <= row(h.High):
				line.WriteString(ink.Faint("░░"))
			default:
				line.WriteString("  ")
			}
		}
		out[r] = strings.TrimRight(line.String(), " ")
	}
	return out
}

func alike(week []apitype.Band, a, b int) bool {
	for h := range 24 {
		if week[a*24+h] != week[b*24+h] {
			return false
		}
	}
	return true
}

func shortDays(list []string) []string {
	out := make([]string, len(list))
	for i, d := range list {
		out[i] = d[:3]
	}
	return out
}

// Differences writes what differs between two baselines.
func Differences(w io.Writer, ink Ink, list []apitype.Difference) error {
	l := lines{w: w}
	n := 0
	for _, d := range list {
		if d.Differs {
			n++
		}
	}
	switch {
	case len(list) == 0:
		l.put("The two have no measure in common.")
	case n == 0:
		l.put("They say the same of all %s.", countOne(len(list), "measure"))
	default:
		l.put("%s", ink.Strong(fmt.Sprintf("They differ in %d of %s.", n, countOne(len(list), "measure"))))
	}
	for _, d := range list {
		says := "the same"
		if d.Differs {
			says = fmt.Sprintf("differs most %s %02d:00: %s (%s to %s) and %s (%s to %s)", d.Weekday, d.Hour, amount(d.Unit, d.WorstA.Median), amount(d.Unit, d.WorstA.Low), amount(d.Unit, d.WorstA.High),
				amount(d.Unit, d.WorstB.Median), amount(d.Unit, d.WorstB.Low), amount(d.Unit, d.WorstB.High))
		}
		l.put("  %-12s  %s and %s over all hours; %s", measureName(d.Measure), amount(d.Unit, d.A.Median), amount(d.Unit, d.B.Median), says)
	}
	return l.err
}
