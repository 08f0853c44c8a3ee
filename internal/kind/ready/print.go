package ready

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/readiness"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// answers are the words of answers.
var answers = map[readiness.Answer]string{readiness.Fit: "fit", readiness.Limited: "fit, with limits", readiness.NotFit: "not fit", readiness.NotTold: "could not be told"}

var verdicts = map[acceptance.Verdict]string{acceptance.Pass: "holds", acceptance.Fail: "missed", acceptance.Unknown: "not told"}

// Title is what the report is called.
func (r *Result) Title() string { return "Ready for " + cmp.Or(r.Need.Name, "a service") }

// read is how results read: the answer first, then what to do, then what it rests on.
func read(all []any, zone *time.Location) document.Document {
	list := make([]document.Document, len(all))
	for i, x := range all {
		if r, is := x.(*Result); is {
			list[i] = documentOf(r, zone)
		}
	}
	return document.Join(list...)
}

func documentOf(r *Result, zone *time.Location) document.Document {
	var d document.Document
	answer := document.Strong(answers[r.Found.Answer])
	switch r.Found.Answer {
	case readiness.NotFit:
		answer = document.Lost(answers[r.Found.Answer])
	case readiness.NotTold, readiness.Limited:
		answer = document.Changed(answers[r.Found.Answer])
	}
	d.Say("%s: %s  %s", document.Strong(r.Title()), answer, document.Faint(r.Need.Says))
	sign := "›"
	if r.Found.Answer == readiness.NotFit || r.Found.Answer == readiness.Limited && r.Found.FitFor != nil && *r.Found.FitFor < r.Found.Seats {
		sign = "!"
	}
	d.Add(document.Finding{Sign: sign, Text: r.Found.Sentence})
	if len(r.Found.Advice) > 0 {
		d.Section("What to do")
		for i, a := range r.Found.Advice {
			d.Say("  %d  %s", i+1, a)
		}
	}
	criteria(&d, r)
	evidence(&d, r)
	d.Gap()
	d.Say("  %s", document.Faint("It was so at that moment, which is no guarantee: 'woodlark watch add -kind ready' asks again and again."))
	d.Gap()
	d.Field("from", "%s", cmp.Or(r.From, "here"))
	d.Field("to", "%s  %s", r.To, document.Faint(r.Address))
	how := ""
	if r.Quick {
		how = ", quick"
	}
	d.Field("begun", "%s, %s%s", r.StartedAt.In(zone).Format("Mon 2 Jan 2006 15:04:05 MST"), figure.FormatSpan(r.EndedAt.Sub(r.StartedAt)), how)
	d.Records = records(r)
	return d
}

// partNames are the words of parts.
var partNames = map[readiness.Part]string{readiness.Near: "first hop", readiness.Names: "names", readiness.Ports: "ports", readiness.Rest: "at rest", readiness.Packets: "packets", readiness.Streams: "streams",
	readiness.Rates: "rate", readiness.Loaded: "under load", readiness.Route: "route", readiness.WayBack: "way back", readiness.Priority: "class"}

func marked(c readiness.Criterion) string {
	text := verdicts[c.Verdict]
	switch c.Verdict {
	case acceptance.Fail:
		return document.Lost(text)
	case acceptance.Unknown:
		return document.Changed(text)
	}
	return text
}

// measured is a criterion's figure, or why there is none.
func measured(c readiness.Criterion) string {
	if c.Measured == nil {
		return "–"
	}
	return readiness.Written(*c.Measured, c.Unit)
}

func bound(c readiness.Criterion) string {
	if c.Limit == 0 && !c.AtLeast && c.Unit != "ratio" || c.Part == readiness.Ports {
		return "–"
	}
	sign := "≤ "
	if c.AtLeast {
		sign = "≥ "
	}
	return sign + readiness.Written(c.Limit, c.Unit)
}

// criteria are all that was asked, from near to far.
func criteria(d *document.Document, r *Result) {
	if len(r.Found.Criteria) == 0 {
		return
	}
	d.Section("What it asks")
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "verdict"}, {Name: "part"}, {Name: "what"}, {Name: "way"}, {Name: "measured", Right: true}, {Name: "asked", Right: true}}}
	var notes []string
	for _, c := range r.Found.Criteria {
		t.Rows = append(t.Rows, []string{marked(c), partNames[c.Part], c.What, c.Way, measured(c), bound(c)})
		if c.Why != "" && c.Verdict != acceptance.Pass {
			notes = append(notes, fmt.Sprintf("%s: %s", strings.TrimSpace(c.What+" "+c.Way), c.Why))
		}
	}
	d.Add(t)
	for _, n := range notes {
		d.Say("    %s", document.Faint("* "+n))
	}
}

// evidence is what was seen beside.
func evidence(d *document.Document, r *Result) {
	f := r.Facts
	d.Section("Seen beside")
	if f.Near != nil && f.Near.MedianMs != nil {
		d.Field("first hop", "%s, %s, %d of %d probes unanswered", f.Gateway, figure.FormatMs(*f.Near.MedianMs), f.Near.Lost, f.Near.Sent)
	}
	if f.Rest != nil && f.Rest.MedianMs != nil {
		d.Field("round trip", "%s at rest%s", figure.FormatMs(*f.Rest.MedianMs), of(f.Rest))
	}
	for _, x := range f.Rates {
		if x.Bps == nil {
			continue
		}
		way := map[bool]string{true: "there", false: "back"}[x.There]
		text := fmt.Sprintf("%v of payload by TCP", capacity.Rate(*x.Bps))
		if x.LoadedMs != nil {
			text += fmt.Sprintf(", the round trip meanwhile %s", figure.FormatMs(*x.LoadedMs))
		}
		if x.OfHost {
			text += "; held back by a host"
		}
		d.Field(way, "%s", text)
	}
	for _, s := range f.Tried {
		if s != r.Found.Seats {
			d.Field("tried", "streams of %d seats: %s", s, map[readiness.Carrying]string{readiness.Does: "all limits held", readiness.DoesNot: "missed", readiness.NotKnown: "not told"}[readiness.Carried(r.Need, f, s)])
		}
	}
	route(d, "way there", f.There, f.Untold[readiness.Route])
	route(d, "way back", f.Back, f.Untold[readiness.WayBack])
	for _, n := range r.Found.Notes {
		d.Say("  %s", n)
	}
}

func of(t *readiness.Trip) string {
	if t.Sent == 0 {
		return ""
	}
	return fmt.Sprintf(", %d of %d probes unanswered", t.Lost, t.Sent)
}

func route(d *document.Document, name string, hops []string, untold string) {
	switch {
	case len(hops) > 0:
		d.Field(name, "%s", strings.Join(hops, document.Faint("  ›  ")))
	case untold != "":
		d.Field(name, "%s", document.Changed("could not be told: "+untold))
	}
}

// records are all criteria, a line each.
func records(r *Result) document.Records {
	columns := []string{"need", "seats", "answer", "fit_for", "part", "what", "way", "verdict", "measured", "low", "high", "limit", "at_least", "unit", "why"}
	number := func(v *float64) string {
		if v == nil {
			return ""
		}
		return strconv.FormatFloat(*v, 'f', -1, 64)
	}
	fitFor := ""
	if r.Found.FitFor != nil {
		fitFor = strconv.Itoa(*r.Found.FitFor)
	}
	var rows [][]string
	for _, c := range r.Found.Criteria {
		limit := ""
		if c.Unit != "" && c.Part != readiness.Ports {
			limit = strconv.FormatFloat(c.Limit, 'f', -1, 64)
		}
		rows = append(rows, []string{r.Need.Name, strconv.Itoa(r.Found.Seats), string(r.Found.Answer), fitFor, string(c.Part), c.What, c.Way, string(c.Verdict), number(c.Measured), number(c.Low), number(c.High), limit, strconv.FormatBool(c.AtLeast), c.Unit, c.Why})
	}
	measured := report.Measured{Agent: r.From, Target: r.Target, Address: r.Address, StartedAt: r.StartedAt}.Cells()
	for i := range rows {
		rows[i] = append(slices.Clone(measured), rows[i]...)
	}
	return document.RecordsOf(append(slices.Clone(report.MeasuredColumns), columns...), rows)
}
