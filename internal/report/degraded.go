package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
)

// Degraded writes the report of degraded paths as text.
func Degraded(w io.Writer, ink Ink, d apitype.Degraded, zone *time.Location) error {
	l := lines{w: w}
	l.put("%s", ink.Strong(d.Summary))
	l.put("%s", ink.Faint(fmt.Sprintf("%s to %s, %s", When(d.FromAt, zone), When(d.ToAt, zone), d.ToAt.In(zone).Format("MST"))))
	section(&l, ink, "Worse than normal now", d.Now, func(p apitype.Path) string {
		if p.SinceAt == nil {
			return ""
		}
		return fmt.Sprintf("since %s, for %s", When(*p.SinceAt, zone), figure.FormatSpan(d.ToAt.Sub(*p.SinceAt)))
	})
	section(&l, ink, "Steady now, worse at the same hours", d.Daily, func(p apitype.Path) string { return "" })
	if len(d.Ended) > 0 {
		l.put("\n%s", ink.Strong("Over"))
		for _, e := range d.Ended {
			l.put("  %s", ink.Ends(e.Path))
			for _, x := range e.Episodes {
				l.put("    %s", episode(x, zone))
			}
		}
	}
	section(&l, ink, "Never answered", d.Never, func(apitype.Path) string { return "" })
	return l.err
}

func section(l *lines, ink Ink, title string, paths []apitype.Path, since func(apitype.Path) string) {
	if len(paths) == 0 {
		return
	}
	l.put("\n%s", ink.Strong(title))
	for _, p := range paths {
		l.put("  %s  %s  %s", ink.State(p.State), ink.Ends(p), since(p))
		for _, f := range p.Findings {
			if f.Code == "steady" && len(p.Findings) > 1 {
				continue
			}
			l.put("    %s", f.Sentence)
			if f.Advice != "" {
				l.put("    %s", ink.Faint(f.Advice))
			}
		}
	}
}

func episode(e apitype.Episode, zone *time.Location) string {
	if e.ToAt == nil {
		return fmt.Sprintf("%s since %s", e.Kind, When(e.FromAt, zone))
	}
	text := fmt.Sprintf("%s for %s, %s to %s", e.Kind, figure.FormatSpan(e.ToAt.Sub(e.FromAt)), When(e.FromAt, zone), e.ToAt.In(zone).Format("15:04"))
	var parts []string
	for _, x := range e.Excesses {
		if e.Kind == "lost" {
			continue
		}
		if x.Unit == "ratio" {
			parts = append(parts, fmt.Sprintf("%s up to %s", x.Measure, figure.FormatRatio(x.Worst)))
		} else {
			parts = append(parts, fmt.Sprintf("%s up to %s", measureName(x.Measure), figure.FormatMs(x.Worst)))
		}
	}
	if len(parts) > 0 {
		text += ": " + strings.Join(parts, ", ")
	}
	return text
}

func measureName(m string) string {
	if m == "rtt" {
		return "RTT"
	}
	return m
}

// DegradedCSV writes one row a path that is degraded, lost or worse daily, and
// one an episode that is over.
func DegradedCSV(w io.Writer, d apitype.Degraded) error {
	rows := [][]string{{"from", "to", "family", "state", "since_at", "until_at", "code", "sentence"}}
	row := func(p apitype.Path, state, since, until string, f apitype.Finding) {
		rows = append(rows, []string{p.From, p.To, fmt.Sprint(p.Family), state, since, until, string(f.Code), f.Sentence})
	}
	for _, p := range append(append([]apitype.Path{}, d.Now...), d.Never...) {
		row(p, p.State, stamp(p.SinceAt), "", p.Findings[0])
	}
	for _, p := range d.Daily {
		row(p, p.State, "", "", p.Findings[len(p.Findings)-1])
	}
	for _, e := range d.Ended {
		for _, x := range e.Episodes {
			row(e.Path, x.Kind, stamp(&x.FromAt), stamp(x.ToAt), e.Path.Findings[0])
		}
	}
	return CSV(w, rows)
}

func stamp(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
