package report

import (
	"fmt"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/internal/replay"
	"woodlark.example/internal/report/document"
)

// Replay is how what would have been told reads.
func Replay(o *replay.Output, zone *time.Location) document.Document {
	var doc document.Document
	if o.Readings == 0 {
		doc.Say("There are no readings.")
		return doc
	}
	doc.Say("%s", document.Strong(fmt.Sprintf("%s of %s: %s, %s, %s.", countOne(o.Readings, "reading"), countOne(o.Paths, "path"),
		countOne(len(o.Episodes), "episode"), countOne(len(o.Incidents), "incident"), countOf(len(o.Properties), "property", "properties"))))
	doc.Say("%s", document.Faint(fmt.Sprintf("%s to %s, %s", When(*o.FromAt, zone), When(*o.ToAt, zone), o.ToAt.In(zone).Format("MST"))))
	if len(o.Incidents) > 0 {
		doc.Section("Incidents")
	}
	for _, x := range o.Incidents {
		doc.Say("  %s to %s  told after %s", When(x.BeganAt, zone), endOf(x.EndedAt, zone), figure.FormatSpan(x.ToldAt.Sub(x.BeganAt)))
		doc.Say("    %s", x.Sentence)
		for _, p := range x.Paths {
			doc.Say("    %s", document.Faint(p.String()))
		}
	}
	if len(o.Episodes) > 0 {
		doc.Section("Episodes")
	}
	for _, e := range o.Episodes {
		state := "degraded"
		if e.Kind == guard.Lost {
			state = "lost"
		}
		doc.Say("  %s  %s → %s  told after %s", document.State(state), e.From, e.To, figure.FormatSpan(e.ToldAt.Sub(e.BeganAt)))
		for _, f := range e.Findings {
			doc.Say("    %s", f.Sentence)
		}
	}
	if len(o.Properties) > 0 {
		doc.Section("What paths keep to")
	}
	for _, p := range o.Properties {
		doc.Say("  %s → %s  told %s", p.From, p.To, When(p.ToldAt, zone))
		doc.Say("    %s", p.Sentence)
	}
	for _, x := range o.Learning {
		doc.Gap()
		doc.Say("%s → %s is still learnt, until %s: nothing but loss of all answers is told before.", x.From, x.To, When(x.Until, zone))
	}
	return doc
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
