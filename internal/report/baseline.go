package report

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// Baseline is how what is normal of a path reads: by measure, with a picture of the week.
func Baseline(b apitype.Baseline, zone *time.Location) document.Document {
	var doc document.Document
	kind := "rolling"
	if b.Pinned {
		kind = "pinned"
	}
	doc.Say("%s  %s baseline of %d readings, %s to %s", endsOf(b.From, b.To, b.Family, b.Via), kind, b.Readings, When(b.FromAt, zone), When(b.ToAt, zone))
	if b.Learning != nil {
		doc.Say("%s", fmt.Sprintf("Still being learnt, until %s: nothing but the loss of all answers is told before.", When(*b.Learning, zone)))
	}
	for _, m := range b.Measures {
		doc.Gap()
		doc.Say("%s  %s over all hours, whose bands reach from %s to %s; from %s", document.Strong(document.MeasureName(m.Measure)), document.Amount(m.Unit, m.Overall.Median), document.Amount(m.Unit, m.Overall.Low), document.Amount(m.Unit, m.Overall.High), countOne(m.Days, "day"))
		week(&doc, m)
		for _, r := range m.Recurs {
			doc.Say("  expected %s %s to %s: up to %s worse", strings.Join(shortDays(r.Weekdays), " "), r.From, r.To, document.Amount(m.Unit, r.Shift))
		}
	}
	doc.Gap()
	doc.Say("%s", document.Faint(fmt.Sprintf("Hours are those of %s. A line is the middle of what is expected of an hour; nine of ten readings lie in the shade.", b.Zone)))
	doc.Records = weekRecords(b)
	return doc
}

// weekRows is how many lines a day's picture is high.
const weekRows = 6

// week draws what is expected by the hour with its band, once for days that are alike.
func week(doc *document.Document, m apitype.BaselineMeasure) {
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
		doc.Say("  %s  %s", name, document.Faint(fmt.Sprintf("widest at %02d:00: %s to %s", worst, document.Amount(m.Unit, hours[worst].Low), document.Amount(m.Unit, hours[worst].High))))
		for r, line := range dayPicture(hours, low, high) {
			label := ""
			switch r {
			case 0:
				label = document.Amount(m.Unit, high)
			case weekRows - 1:
				label = document.Amount(m.Unit, low)
			}
			doc.Say("  %12s │%s", label, line)
		}
		d += n
	}
	doc.Say("  %12s  %s", "", document.Faint("0           6           12          18          24"))
}

// dayPicture are the lines of a day's hours, from the highest down: two cells an hour, a bar at
// the middle of what is expected, and its band shaded.
func dayPicture(hours []apitype.Band, low, high float64) []string {
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
				line.WriteString(document.Faint("░░"))
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

// Differences are how what is normal of a path differs from another baseline.
func Differences(p apitype.Path, list []apitype.Difference) document.Document {
	var doc document.Document
	doc.Records = differenceRecords(p, list)
	n := 0
	for _, d := range list {
		if d.Differs {
			n++
		}
	}
	switch {
	case len(list) == 0:
		doc.Say("The two have no measure in common.")
	case n == 0:
		doc.Say("They say the same of all %s.", countOne(len(list), "measure"))
	default:
		doc.Say("%s", document.Strong(fmt.Sprintf("They differ in %d of %s.", n, countOne(len(list), "measure"))))
	}
	for _, d := range list {
		says := "the same"
		if d.Differs {
			says = fmt.Sprintf("differs most %s %02d:00: %s (%s to %s) and %s (%s to %s)", d.Weekday, d.Hour, document.Amount(d.Unit, d.WorstA.Median), document.Amount(d.Unit, d.WorstA.Low), document.Amount(d.Unit, d.WorstA.High),
				document.Amount(d.Unit, d.WorstB.Median), document.Amount(d.Unit, d.WorstB.Low), document.Amount(d.Unit, d.WorstB.High))
		}
		doc.Say("  %-12s  %s and %s over all hours; %s", document.MeasureName(d.Measure), document.Amount(d.Unit, d.A.Median), document.Amount(d.Unit, d.B.Median), says)
	}
	return doc
}

func differenceRecords(p apitype.Path, list []apitype.Difference) document.Records {
	var rows [][]string
	for _, d := range list {
		rows = append(rows, []string{p.From, p.To, strconv.Itoa(p.Family), p.Via, d.Measure, d.Unit, number(d.A.Median), number(d.B.Median), d.Weekday, strconv.Itoa(d.Hour), number(d.WorstA.Median), number(d.WorstB.Median), strconv.FormatBool(d.Differs)})
	}
	return document.RecordsOf([]string{"agent", "target", "family", "via", "measure", "unit", "a", "b", "weekday", "hour", "worst_a", "worst_b", "differs"}, rows)
}

// weekRecords are what is expected of each hour of the week.
func weekRecords(b apitype.Baseline) document.Records {
	var rows [][]string
	for _, m := range b.Measures {
		for i, h := range m.Week {
			rows = append(rows, []string{b.From, b.To, strconv.Itoa(b.Family), b.Via, m.Measure, m.Unit, time.Weekday(i / 24).String(), strconv.Itoa(i % 24), number(h.Low), number(h.Median), number(h.High)})
		}
	}
	return document.RecordsOf([]string{"agent", "target", "family", "via", "measure", "unit", "weekday", "hour", "low", "median", "high"}, rows)
}

// NormalRecords are what is normal of paths, in raw figures: nine of ten readings lie between
// low and high.
func NormalRecords(list []apitype.Baseline) document.Records {
	type B = apitype.Baseline
	of := func(b *apitype.Band, v func(apitype.Band) float64) string {
		if b == nil {
			return ""
		}
		return number(v(*b))
	}
	low, median, high := func(b apitype.Band) float64 { return b.Low }, func(b apitype.Band) float64 { return b.Median }, func(b apitype.Band) float64 { return b.High }
	return recordsOf(list, []field[B]{
		{"agent", func(b B) string { return b.From }},
		{"target", func(b B) string { return b.To }},
		{"family", func(b B) string { return strconv.Itoa(b.Family) }},
		{"via", func(b B) string { return b.Via }},
		{"rtt_low_ms", func(b B) string { return of(b.RTTMs, low) }},
		{"rtt_median_ms", func(b B) string { return of(b.RTTMs, median) }},
		{"rtt_high_ms", func(b B) string { return of(b.RTTMs, high) }},
		{"jitter_low_ms", func(b B) string { return of(b.JitterMs, low) }},
		{"jitter_median_ms", func(b B) string { return of(b.JitterMs, median) }},
		{"jitter_high_ms", func(b B) string { return of(b.JitterMs, high) }},
		{"loss_ratio", func(b B) string { return Cell(b.Loss) }},
		{"reading_count", func(b B) string { return strconv.Itoa(b.Readings) }},
		{"pinned", func(b B) string { return strconv.FormatBool(b.Pinned) }},
		{"learning_until_at", func(b B) string { return moment(b.Learning) }},
		{"taken_at", func(b B) string { return moment(&b.TakenAt) }},
	})
}
