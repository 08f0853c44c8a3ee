package boards

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/pdf"
	"woodlark.example/internal/service/reports"
)

// Formats are those in which a board is written, with their types for HTTP.
func Formats() map[string]string { return reports.Formats() }

// Print is what stands on parts now, to be read.
func (x *Boards) Print(ctx context.Context, parts []Part) (document.Document, error) {
	s, err := x.show(ctx, parts, true)
	if err != nil {
		return document.Document{}, err
	}
	return s.Document(x.Zone), nil
}

// Write writes what stands on a board now in a format; the error wraps kind.ErrInvalid when there
// is none of that name.
func (x *Boards) Write(ctx context.Context, w io.Writer, b Board, format string) error {
	s, err := x.show(ctx, b.Parts, true)
	if err != nil {
		return err
	}
	about := document.About{Title: b.Name, Made: fmt.Sprintf("As it was on %s.", s.At.In(x.Zone).Format("2 January 2006 15:04:05 MST"))}
	switch format {
	case "html":
		return document.HTML(w, about, s.Document(x.Zone))
	case "pdf":
		return pdf.Print(w, about, s.At, s.Document(x.Zone))
	case "csv":
		return document.CSV(w, s.Document(x.Zone))
	case "json":
		return document.JSON(w, s)
	case "text":
		return document.Text(w, document.Ink{}, s.Document(x.Zone))
	}
	return fmt.Errorf("%w: a board is written as text, html, pdf, csv or json, not as %q", kind.ErrInvalid, kind.Shorten(format))
}

// Document is how a board reads.
func (s *Shown) Document(zone *time.Location) document.Document {
	var d document.Document
	for _, p := range s.Parts {
		d.Section(p.Heading)
		p.read(&d, zone)
	}
	d.Records = document.RecordsOf([]string{"part", "kind", "from", "to", "family", "via", "path_id", "site", "at", "state", "measure", "unit", "value", "says"}, s.records())
	return d
}

func cellsOf(e reports.Ends) []string {
	return []string{e.From, e.To, "IPv" + strconv.Itoa(e.Family), e.Via}
}

func (p *ShownPart) read(d *document.Document, zone *time.Location) {
	for _, part := range p.drawn {
		d.Add(part)
	}
	ends := []document.Column{{Name: "from"}, {Name: "to"}, {Name: ""}, {Name: "by"}}
	switch p.Kind {
	case States:
		if c := p.States; c != nil {
			d.Say("%s   %s   %s   %s", document.Lost(fmt.Sprintf("⊖ %d lost", c.Lost)), document.Changed(fmt.Sprintf("◆ %d degraded", c.Degraded)), document.Faint(fmt.Sprintf("◌ %d unmeasured", c.Unmeasured)), fmt.Sprintf("● %d steady", c.Steady))
		}
	case Worst:
		t := document.Table{Columns: append(ends, document.Column{Name: "state"}, document.Column{Name: "since"}, document.Column{Name: "what"})}
		for _, w := range p.Worst {
			since := ""
			if w.SinceAt != nil {
				since = w.SinceAt.In(zone).Format("Mon 2 Jan 15:04")
			}
			t.Rows = append(t.Rows, append(cellsOf(w.Ends), document.State(w.State), since, w.Sentence))
		}
		addTable(d, t)
	case Matrix:
		if p.Matrix != nil {
			d.Add(p.Matrix.table())
		}
	case Voice:
		t := document.Table{Columns: append(ends, document.Column{Name: "MOS", Right: true}, document.Column{Name: "who calls"}, document.Column{Name: "mean RTT", Right: true}, document.Column{Name: "jitter", Right: true}, document.Column{Name: "loss", Right: true})}
		for _, v := range p.Voice {
			t.Rows = append(t.Rows, append(cellsOf(v.Ends), maybe("mos", v.MOS), v.Word, maybe("ms", v.MeanMs), maybe("ms", v.Jitter), maybe("ratio", v.Loss)))
		}
		addTable(d, t)
	case Map:
		if p.Map != nil {
			p.Map.read(d)
		}
	case Incidents:
		for _, x := range p.Incidents {
			d.Say("%s", x.Sentence)
			if x.Advice != "" {
				d.Say("  %s", document.Faint(x.Advice))
			}
		}
	case Text:
		for _, line := range strings.Split(p.Text, "\n") {
			d.Say("%s", line)
		}
	}
	if p.Says != "" {
		d.Say("%s", document.Faint(p.Says))
	}
}

func addTable(d *document.Document, t document.Table) {
	if len(t.Rows) > 0 {
		d.Add(t.Dense())
	}
}

func maybe(unit string, v *float64) string {
	if v == nil {
		return "–"
	}
	return document.Amount(unit, *v)
}

var signs = map[string]string{"steady": "●", "degraded": "◆", "lost": "⊖", "unmeasured": "◌"}

// mostBeside is how many targets stand beside each other in a table; of more, each has a row.
const mostBeside = 6

func (x *MatrixShown) table() document.Table {
	cell := func(c CellShown) string {
		text := signs[c.State] + " " + maybe(x.Unit, c.Value)
		switch c.State {
		case "degraded":
			return document.Changed(text)
		case "lost":
			return document.Lost(text)
		}
		return text
	}
	across, down := x.Agents, x.Sought
	if len(across) > mostBeside {
		t := document.Table{Columns: []document.Column{{Name: "from"}, {Name: "to"}, {Name: "now"}}}
		for _, c := range x.Cells {
			t.Rows = append(t.Rows, []string{x.Agents[c.Row], x.Sought[c.Column], cell(c)})
		}
		return t
	}
	t := document.Table{Columns: []document.Column{{Name: "to"}}}
	for _, a := range across {
		t.Columns = append(t.Columns, document.Column{Name: "from " + a})
	}
	for i := range down {
		row := slices.Repeat([]string{""}, len(across)+1)
		row[0] = down[i]
		for _, c := range x.Cells {
			if c.Column == i {
				row[c.Row+1] = cell(c)
			}
		}
		t.Rows = append(t.Rows, row)
	}
	return t
}

func (s *MapShown) read(d *document.Document) {
	t := document.Table{Columns: []document.Column{{Name: "site"}, {Name: "state"}, {Name: "paths", Right: true}, {Name: "latitude", Right: true}, {Name: "longitude", Right: true}}}
	for _, x := range s.Places {
		t.Rows = append(t.Rows, []string{x.Name, document.State(x.State), strconv.Itoa(x.Paths), fmt.Sprintf("%.4f", x.Lat), fmt.Sprintf("%.4f", x.Lon)})
	}
	addTable(d, t)
	for _, l := range s.Lines {
		if l.State != "steady" {
			d.Say("%s", l.Says)
		}
	}
}

// records are the raw figures, part by part.
func (s *Shown) records() (rows [][]string) {
	for i, p := range s.Parts {
		number := strconv.Itoa(i + 1)
		add := func(e reports.Ends, site, at, state, measure, unit, value, says string) {
			family := ""
			if e.Family > 0 {
				family = strconv.Itoa(e.Family)
			}
			rows = append(rows, []string{number, string(p.Kind), e.From, e.To, family, e.Via, e.Path, site, at, state, measure, unit, value, says})
		}
		number2 := func(v *float64) string {
			if v == nil {
				return ""
			}
			return strconv.FormatFloat(*v, 'g', -1, 64)
		}
		count := func(site string, c StatesShown) {
			for _, x := range []struct {
				state string
				n     int
			}{{"lost", c.Lost}, {"degraded", c.Degraded}, {"unmeasured", c.Unmeasured}, {"steady", c.Steady}} {
				add(reports.Ends{}, site, "", x.state, "paths", "", strconv.Itoa(x.n), "")
			}
		}
		if p.States != nil {
			count("", *p.States)
		}
		for _, w := range p.Worst {
			at := ""
			if w.SinceAt != nil {
				at = w.SinceAt.Format(time.RFC3339)
			}
			add(w.Ends, "", at, w.State, "", "", "", w.Sentence)
		}
		if x := p.Plot; x != nil {
			add(x.Ends, "", "", x.State, "", "", "", p.Says)
		}
		if x := p.Matrix; x != nil {
			for _, c := range x.Cells {
				add(reports.Ends{Path: c.Path, From: x.Agents[c.Row], To: x.Sought[c.Column], Family: c.Family, Via: c.Via}, "", "", c.State, p.Measure, x.Unit, number2(c.Value), "")
			}
		}
		if x := p.Trend; x != nil {
			for _, t := range x.Steps {
				add(reports.Ends{}, "", t.At.Format(time.RFC3339), "", p.Measure, x.Unit, number2(&t.Value), fmt.Sprintf("%d paths", t.Paths))
			}
		}
		for _, v := range p.Voice {
			at := ""
			if v.At != nil {
				at = v.At.Format(time.RFC3339)
			}
			add(v.Ends, "", at, v.State, "mos", "mos", number2(v.MOS), v.Word)
		}
		if x := p.Map; x != nil {
			for _, site := range x.Places {
				add(reports.Ends{}, site.Name, "", site.State, "paths", "", strconv.Itoa(site.Paths), "")
			}
			for _, l := range x.Lines {
				add(reports.Ends{Path: l.Path}, l.From+" → "+l.To, "", l.State, "", "", "", l.Says)
			}
		}
		for _, x := range p.Incidents {
			add(reports.Ends{}, "", x.BeganAt.Format(time.RFC3339), "", "paths", "", strconv.Itoa(x.Paths), x.Sentence)
		}
		if p.Kind == Text {
			add(reports.Ends{}, "", "", "", "", "", "", p.Text)
		}
	}
	return rows
}
