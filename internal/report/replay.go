package report

import (
	"fmt"
	"io"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/internal/replay"
)

// Replay writes as text what would have been told.
func Replay(w io.Writer, ink Ink, o *replay.Output, zone *time.Location) error {
	l := lines{w: w}
	if o.Readings == 0 {
		l.put("There are no readings.")
		return l.err
	}
	l.put("%s", ink.Strong(fmt.Sprintf("%s of %s: %s, %s, %s.", countOne(o.Readings, "reading"), countOne(o.Paths, "path"),
		countOne(len(o.Episodes), "episode"), countOne(len(o.Incidents), "incident"), countOf(len(o.Properties), "property", "properties"))))
	l.put("%s", ink.Faint(fmt.Sprintf("%s to %s, %s", When(*o.FromAt, zone), When(*o.ToAt, zone), o.ToAt.In(zone).Format("MST"))))
	if len(o.Incidents) > 0 {
		l.put("\n%s", ink.Strong("Incidents"))
	}
	for _, x := range o.Incidents {
		l.put("  %s to %s  told after %s", When(x.BeganAt, zone), endOf(x.EndedAt, zone), figure.FormatSpan(x.ToldAt.Sub(x.BeganAt)))
		l.put("    %s", x.Sentence)
		for _, p := range x.Paths {
			l.put("    %s", ink.Faint(p.String()))
		}
	}
	if len(o.Episodes) > 0 {
		l.put("\n%s", ink.Strong("Episodes"))
	}
	for _, e := range o.Episodes {
		state := "degraded"
		if e.Kind == guard.Lost {
			state = "lost"
		}
		l.put("  %s  %s → %s  told after %s", ink.State(state), e.From, e.To, figure.FormatSpan(e.ToldAt.Sub(e.BeganAt)))
		for _, f := range e.Findings {
			l.put("    %s", f.Sentence)
		}
	}
	if len(o.Properties) > 0 {
		l.put("\n%s", ink.Strong("What paths keep to"))
	}
	for _, p := range o.Properties {
		l.put("  %s → %s  told %s", p.From, p.To, When(p.ToldAt, zone))
		l.put("    %s", p.Sentence)
	}
	for _, x := range o.Learning {
		l.put("\n%s → %s is still learnt, until %s: nothing but loss of all answers is told before.", x.From, x.To, When(x.Until, zone))
	}
	return l.err
}

func endOf(t *time.Time, zone *time.Location) string {
	if t == nil {
		return "now"
	}
	return When(*t, zone)
}

func countOne(n int, noun string) string { return countOf(n, noun, noun+"s") }

func countOf(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
