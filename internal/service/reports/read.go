package reports

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/pdf"
	"woodlark.example/internal/store"
)

// Formats are those in which a report is printed, with their types for HTTP and mail.
func Formats() map[string]string {
	return map[string]string{"text": "text/plain; charset=utf-8", "html": "text/html; charset=utf-8", "pdf": "application/pdf", "csv": "text/csv; charset=utf-8", "json": "application/json"}
}

// Print writes a report in a format, in the hours of a zone.
func (r *Period) Print(w io.Writer, format string, zone *time.Location) error {
	about := document.About{Title: r.Title, Subject: r.period(zone), Made: fmt.Sprintf("Made by Woodlark on %s.", r.MadeAt.In(zone).Format("2 January 2006 15:04 MST"))}
	switch format {
	case "html":
		return document.HTML(w, about, r.Document(zone))
	case "pdf":
		return pdf.Print(w, about, r.MadeAt, r.Document(zone))
	case "csv":
		return document.CSV(w, document.Document{Records: r.records()})
	case "json":
		return document.JSON(w, r)
	case "text":
		d := document.Document{Parts: []document.Part{document.Line{Text: document.Strong(r.Title)}, document.Line{Text: document.Faint(about.Subject)}, document.Gap{}}}
		d.Append(r.Document(zone))
		return document.Text(w, document.Ink{}, d)
	}
	return fmt.Errorf("%w: a report is written as text, html, pdf, csv or json, not as %q", kind.ErrInvalid, kind.Shorten(format))
}

func (r *Period) period(zone *time.Location) string {
	text := when(r.FromAt, zone) + " to " + when(r.ToAt, zone) + " " + r.ToAt.In(zone).Format("MST")
	if r.Of != "" {
		text += "; " + r.Of
	}
	return text
}

func when(t time.Time, zone *time.Location) string { return t.In(zone).Format("Mon 2 Jan 2006 15:04") }

func (e Ends) line() string {
	by := ""
	if e.Via != "" && e.Via != "icmp" {
		by = " by " + e.Via
	}
	return document.Strong(e.From+" → "+e.To) + document.Faint(fmt.Sprintf("  IPv%d%s", e.Family, by))
}

func (e Ends) short() string { return fmt.Sprintf("%s → %s", e.From, e.To) }

// share is a part of a whole, with so many digits that all but the whole is seen to be less.
func share(v *float64) string {
	if v == nil {
		return "–"
	}
	text := fmt.Sprintf("%.3f %%", *v*100)
	if *v < 1 && text == "100.000 %" {
		return "99.999 %"
	}
	return text
}

// Document is how a report reads.
func (r *Period) Document(zone *time.Location) document.Document {
	var d document.Document
	d.Say("%s", document.Strong(r.Summary))
	if r.Objective != "" {
		d.Say("%s", document.Faint("Held against "+r.limits()+"."))
	}
	r.readIncidents(&d, zone)
	if len(r.Degraded) > 0 {
		d.Section("Worse than normal")
		d.Say("%s", document.Faint("In the pictures the line is the median round trip and the pale band what is normal; loss hangs from the top, longer for more; dashed is the time that is told of; flags below are changes of route and notes."))
		d.Gap()
	}
	for i, x := range r.Degraded {
		if i > 0 {
			d.Gap()
		}
		r.readDegraded(&d, x, zone)
	}
	r.readStanding(&d)
	r.readPaths(&d)
	r.readCarried(&d, zone)
	r.readSweeps(&d, zone)
	if len(r.NotJudged) > 0 {
		d.Section("Not judged")
		t := document.Table{Columns: append(endColumns(), document.Column{Name: "why"})}
		for _, n := range r.NotJudged {
			t.Rows = append(t.Rows, append(n.cells(), n.Says))
		}
		d.Add(t)
	}
	if len(r.Notes) > 0 {
		d.Section("Notes")
		for _, n := range r.Notes {
			of := ""
			if n.Path != "" {
				of = n.short() + "  "
			}
			d.Say("%s%s", of, document.Faint(n.span(zone)+", "+n.Author))
			d.Say("  %s", n.Text)
		}
	}
	d.Records = r.records()
	return d
}

func (n NoteTold) span(zone *time.Location) string {
	if n.Until != nil {
		return when(n.At, zone) + " to " + when(*n.Until, zone)
	}
	return when(n.At, zone)
}

func endColumns() []document.Column {
	return []document.Column{{Name: "from"}, {Name: "to"}, {Name: "by"}}
}

func (e Ends) cells() []string {
	return []string{e.From, e.To, fmt.Sprintf("IPv%d %s", e.Family, e.Via)}
}

func (r *Period) limits() string {
	text := "the objective " + r.Objective
	if r.ObjectiveSource != "" {
		text += " (" + r.ObjectiveSource + ")"
	}
	return text
}

func (r *Period) readIncidents(d *document.Document, zone *time.Location) {
	if len(r.Incidents) > 0 {
		d.Section("Incidents")
	}
	for _, x := range r.Incidents {
		d.Say("%s", document.Strong(x.Sentence))
		if x.EndedAt == nil {
			d.Say("  %s", document.Faint(fmt.Sprintf("since %s, for %s", when(x.BeganAt, zone), figure.FormatSpan(r.ToAt.Sub(x.BeganAt)))))
		} else {
			d.Say("  %s", document.Faint(fmt.Sprintf("%s to %s, for %s", when(x.BeganAt, zone), when(*x.EndedAt, zone), figure.FormatSpan(x.EndedAt.Sub(x.BeganAt)))))
		}
		var names []string
		for _, p := range x.Paths {
			names = append(names, p.short())
		}
		if x.Others > 0 {
			names = append(names, plural(x.Others, "other path"))
		}
		d.Say("  %s", strings.Join(names, ", "))
		if x.Advice != "" {
			d.Say("  %s", x.Advice)
		}
		d.Gap()
	}
}

func (r *Period) readDegraded(d *document.Document, x DegradedTold, zone *time.Location) {
	d.Say("%s%s", x.line(), document.Faint(", "+figure.FormatSpan(time.Duration(x.CostS*float64(time.Second)))+" of that time"))
	for _, e := range x.Episodes {
		d.Say("  %s  %s", document.State(e.Kind), e.span(r.ToAt, zone))
		d.Say("    %s", e.Sentence)
		for _, s := range e.Also {
			d.Say("    %s", s)
		}
		if e.Kind != string(guard.Lost) && len(e.Excesses) > 0 {
			d.Add(e.figures())
		}
		if e.Advice != "" {
			d.Say("    %s", document.Faint(e.Advice))
		}
	}
	if len(x.Picture) > 0 {
		d.Add(r.plot(x, zone))
	}
}

func (e EpisodeTold) span(to time.Time, zone *time.Location) string {
	text := "since " + when(e.BeganAt, zone)
	end := to
	if e.EndedAt != nil {
		end = *e.EndedAt
		text = when(e.BeganAt, zone) + " to " + when(end, zone)
	}
	text += ", for " + figure.FormatSpan(end.Sub(e.BeganAt))
	if doubt := e.LatestAt.Sub(e.EarliestAt) / 2; doubt >= 30*time.Second {
		text += ", its begin ± " + figure.FormatSpan(doubt)
	}
	if e.TimesCount > 1 {
		text += fmt.Sprintf(", %d times", e.TimesCount)
	}
	return text
}

func (e EpisodeTold) figures() document.Table {
	t := document.Table{Indent: 4, Columns: []document.Column{{Name: "measure"}, {Name: "before", Right: true}, {Name: "normal band"}, {Name: "in it", Right: true}, {Name: "95 % interval"}, {Name: "worst", Right: true}}}
	for _, x := range e.Excesses {
		span := func(a, b float64) string { return document.Amount(x.Unit, a) + " to " + document.Amount(x.Unit, b) }
		t.Rows = append(t.Rows, []string{document.MeasureName(x.Measure), document.Amount(x.Unit, x.Normal), span(x.Low, x.High), document.Amount(x.Unit, x.Now), span(x.NowLow, x.NowHigh), document.Amount(x.Unit, x.Worst)})
	}
	return t
}

func (r *Period) plot(x DegradedTold, zone *time.Location) document.Plot {
	p := document.Plot{Title: fmt.Sprintf("Median round trip, %s → %s", x.From, x.To), Unit: "ms", From: r.FromAt, To: r.ToAt, Zone: zone}
	p.Points = points(time.Duration(x.StepS*float64(time.Second)), x.Picture)
	for _, e := range x.Episodes {
		to := r.ToAt
		if e.EndedAt != nil {
			to = *e.EndedAt
		}
		p.Spans = append(p.Spans, document.PlotSpan{From: e.BeganAt, To: to, Says: e.Sentence})
	}
	for _, f := range x.Flags {
		p.Flags = append(p.Flags, document.PlotFlag{At: f.At, Says: f.Sentence})
	}
	for _, n := range r.Notes {
		if n.Path == "" || n.Path == x.Path {
			p.Flags = append(p.Flags, document.PlotFlag{At: n.At, Says: n.Author + ": " + n.Text})
		}
	}
	return p
}

func points(step time.Duration, list []PictureStep) (out []document.PlotPoint) {
	for _, q := range list {
		one := document.PlotPoint{At: q.At, Span: step, Value: q.MedianMs, Low: q.LowMs, High: q.HighMs}
		if q.Lost != nil {
			one.Lost = *q.Lost
		}
		out = append(out, one)
	}
	return out
}

// Plot is the round trip of a path over a time, with the stretches that are told of.
func (x *Reports) Plot(ctx context.Context, path ident.ID, from, to time.Time, told ...document.PlotSpan) (p document.Plot, err error) {
	of := x.Paths.ByID(path)
	if of == nil {
		return p, fmt.Errorf("path %s: %w", path, store.ErrNotFound)
	}
	var base *baseline.Baseline
	views := x.Views()
	if i := slices.IndexFunc(views, func(v View) bool { return v.ID == path }); i >= 0 {
		base = views[i].Baseline
	}
	step, list, err := x.steps(ctx, path, base, from, to)
	p = document.Plot{Title: fmt.Sprintf("Median round trip, %s → %s", x.Fleet.NameOf(of.AgentID), of.Target), Unit: "ms", From: from, To: to, Zone: x.Zone, Points: points(step, list), Spans: told}
	return p, err
}

func (r *Period) readStanding(d *document.Document) {
	if len(r.Standing) == 0 {
		return
	}
	d.Section("What comes back, crept or stayed")
	for _, x := range r.Standing {
		d.Say("%s", x.line())
		d.Say("  %s", x.Sentence)
		if x.Advice != "" {
			d.Say("  %s", document.Faint(x.Advice))
		}
	}
}

func (r *Period) readPaths(d *document.Document) {
	if len(r.Paths) == 0 {
		return
	}
	d.Section("Availability")
	d.Say("%s", document.Faint("Share of the measured time in which something answered. Worse: for how long a path was worse than normal."))
	t := document.Table{Columns: append(endColumns(), document.Column{Name: "available", Right: true}, document.Column{Name: "measured", Right: true}, document.Column{Name: "lost", Right: true}, document.Column{Name: "mean RTT", Right: true}, document.Column{Name: "worse", Right: true})}
	if r.Objective != "" {
		t.Columns = append(t.Columns, document.Column{Name: "within " + r.Objective, Right: true}, document.Column{Name: "beyond its limit"})
	}
	for _, x := range r.Paths {
		row := append(x.cells(), share(x.Availability), "–", "–", "–", "–")
		if x.MeasuredS > 0 {
			row[4] = figure.FormatSpan(time.Duration(x.MeasuredS * float64(time.Second)))
		}
		if x.Loss != nil {
			row[5] = figure.FormatRatio(*x.Loss)
		}
		if x.MeanMs != nil {
			row[6] = figure.FormatMs(*x.MeanMs)
		}
		if x.WorseS > 0 {
			row[7] = figure.FormatSpan(time.Duration(x.WorseS * float64(time.Second)))
		}
		if r.Objective != "" {
			var missed []string
			for _, m := range x.Missed {
				missed = append(missed, document.MeasureName(m))
			}
			row = append(row, share(x.Within), strings.Join(missed, ", "))
		}
		t.Rows = append(t.Rows, row)
	}
	d.Add(t)
}

func (r *Period) readCarried(d *document.Document, zone *time.Location) {
	if len(r.Throughput) == 0 {
		return
	}
	d.Section("Throughput against usual")
	t := document.Table{Columns: append(endColumns(), document.Column{Name: "way"}, document.Column{Name: "measured"}, document.Column{Name: "carried", Right: true}, document.Column{Name: "usual", Right: true}, document.Column{Name: "band"}, document.Column{Name: ""})}
	for _, x := range r.Throughput {
		usual, band := "–", "–"
		if x.UsualBps != nil {
			usual, band = document.Amount("bps", *x.UsualBps), document.Amount("bps", *x.UsualLow)+" to "+document.Amount("bps", *x.UsualHigh)
		}
		t.Rows = append(t.Rows, append(x.cells(), x.Way, x.At.In(zone).Format("Mon 2 Jan 15:04"), document.Amount("bps", x.Bps), usual, band, x.Says))
	}
	d.Add(t)
}

const listedAddresses = 40

func addresses(list []string) string {
	if len(list) > listedAddresses {
		return strings.Join(list[:listedAddresses], ", ") + fmt.Sprintf(" and %d more", len(list)-listedAddresses)
	}
	return strings.Join(list, ", ")
}

func (r *Period) readSweeps(d *document.Document, zone *time.Location) {
	if len(r.Sweeps) == 0 && r.SweepsLeft == 0 {
		return
	}
	d.Section("Addresses that came and went")
	for _, x := range r.Sweeps {
		d.Say("%s  %s", document.Strong(strings.Join(x.Prefixes, " ")), document.Faint(fmt.Sprintf("from %s, %s, %d answered", x.Agent, when(x.At, zone), x.Answered)))
		for _, part := range x.parts() {
			if len(part.list) > 0 {
				d.Say("  %s: %s", part.name, addresses(part.list))
			}
		}
	}
	if r.SweepsLeft > 0 {
		d.Say("%s", document.Faint(fmt.Sprintf("%d more sweeps of that time were not looked at.", r.SweepsLeft)))
	}
}

type part struct {
	name string
	list []string
}

func (x Swept) parts() []part { return []part{{"new", x.New}, {"gone", x.Gone}, {"slower", x.Slower}} }

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// summary says all in a sentence or two.
func (m *making) summary() string {
	r := m.out
	if r.Watched == 0 {
		if r.Of != "" {
			return "No watched path is among those that were chosen."
		}
		return "No path is watched."
	}
	text := fmt.Sprintf("%d of %s got worse than normal", len(r.Degraded), plural(r.Watched, "path"))
	lost := 0
	for _, d := range r.Degraded {
		if slices.ContainsFunc(d.Episodes, func(e EpisodeTold) bool { return e.Kind == string(guard.Lost) }) {
			lost++
		}
	}
	if lost > 0 {
		text += fmt.Sprintf(", %d of them without any answer for a while", lost)
	}
	if n := len(r.Incidents); n > 0 {
		text += "; " + plural(n, "incident")
	}
	text += "."
	if r.Objective != "" {
		held, met := 0, 0
		for _, x := range r.Paths {
			if x.Met != nil {
				held++
				if *x.Met {
					met++
				}
			}
		}
		text += fmt.Sprintf(" %d of %d met the objective %s.", met, held, r.Objective)
	}
	if n := len(r.NotJudged); n > 0 {
		text += fmt.Sprintf(" %s could not be judged.", plural(n, "path"))
	}
	return text
}
