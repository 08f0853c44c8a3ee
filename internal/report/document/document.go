// Package document is how results read, whatever they are of and wherever they are printed: its
// parts are for people, its records for machines, and both come from one description.
//
//	var d document.Document
//	d.Say("%s  from %s", document.Strong("holm"), "quay")
//	d.Field("answered", "60 of 60 probes")
//	err := document.Text(os.Stdout, document.NewInk(true), d)
//	err = document.CSV(file, d)
package document

import (
	"fmt"
	"iter"
	"slices"
	"strings"
)

// Document is how something reads.
type Document struct {
	Parts   []Part
	Records Records
}

// Part is a part of a document: one of the types below. Texts in them may have Marks.
type Part interface{ part() }

// The parts.
type (
	// Gap is room between parts that belong together.
	Gap struct{}

	// Section begins what its title says.
	Section struct{ Title string }

	// Line is a line or a sentence. What is indented belongs to what is above it and is less so.
	Line struct {
		Indent int // in characters
		Text   string
	}

	// Finding is what is concluded, and what to do about it.
	Finding struct {
		Sign   string
		Text   string
		Advice string // empty when there is none
	}

	// Field is something by its name.
	Field struct{ Name, Says string }

	// Table is figures in rows and columns. Of rows that are side by side the first cell is the
	// row's name.
	Table struct {
		Columns []Column
		Rows    [][]string
		Indent  int
	}

	// Mirror is a length of time from top to bottom: what went there left of an axis, what came
	// back right of it.
	Mirror struct {
		There, Back string // what is drawn on each side
		Most        float64
		Rows        []MirrorRow
	}

	// Cells is a picture of many things, a character each, in rows with names.
	Cells struct {
		Rows   []CellRow
		Legend string
	}

	// Ask is a field for a secret, sent to where the page came from; on pages only.
	Ask struct{ Label, Name, Button string }

	// Picture is drawn by characters.
	Picture struct{ Lines []string }
)

// Column is a column of a table.
type Column struct {
	Name  string
	Right bool // aligned right, as numbers are
	Width int  // at least
}

// MirrorRow is a stretch of time.
type MirrorRow struct {
	At          float64 // seconds from the begin
	There, Back Side
}

// Side is a figure and what it says. One that is not known has only that.
type Side struct {
	Value float64
	Known bool
	Says  string
}

// CellRow is a row of Cells.
type CellRow struct{ Name, Cells string }

func (Gap) part()     {}
func (Section) part() {}
func (Line) part()    {}
func (Finding) part() {}
func (Field) part()   {}
func (Table) part()   {}
func (Mirror) part()  {}
func (Cells) part()   {}
func (Picture) part() {}
func (Ask) part()     {}

// Records are the raw figures that a document is of: each with the unit in its column's name,
// times in UTC (RFC 3339), empty what is not known.
type Records struct {
	Columns []string
	Rows    iter.Seq[[]string] // nil when there are none
}

// RecordsOf are records that are made already.
func RecordsOf(columns []string, rows [][]string) Records {
	return Records{columns, slices.Values(rows)}
}

// Add adds parts.
func (d *Document) Add(parts ...Part) { d.Parts = append(d.Parts, parts...) }

// Append adds the parts of another document.
func (d *Document) Append(other Document) { d.Parts = append(d.Parts, other.Parts...) }

// Say adds a line; blanks at its begin are its indent.
func (d *Document) Say(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	bare := strings.TrimLeft(text, " ")
	d.Add(Line{len(text) - len(bare), bare})
}

// Gap adds room, and Section begins what a title says.
func (d *Document) Gap() { d.Add(Gap{}) }

// Section begins what a title says.
func (d *Document) Section(title string) { d.Add(Section{title}) }

// Field adds something by its name.
func (d *Document) Field(name, format string, args ...any) {
	d.Add(Field{name, fmt.Sprintf(format, args...)})
}

// Of is a document of one table, with the records that it is of.
func Of(t Table, r Records) Document { return Document{[]Part{t}, r} }

// Beside is a table of figures side by side: a column for each of what they are of, a row a
// figure; rows in which nothing is known are left out.
func Beside(of []string, rows [][]string) Table {
	t := Table{Columns: []Column{{}}}
	for _, n := range of {
		t.Columns = append(t.Columns, Column{Name: n})
	}
	for _, row := range rows {
		if strings.Trim(strings.Join(row[1:], ""), "– ") != "" {
			t.Rows = append(t.Rows, append([]string{"  " + row[0]}, row[1:]...))
		}
	}
	return t
}

// Dense leaves out the columns of a table in which nothing stands.
func (t Table) Dense() Table {
	out := Table{Indent: t.Indent, Rows: make([][]string, len(t.Rows))}
	for i, c := range t.Columns {
		if !slices.ContainsFunc(t.Rows, func(row []string) bool { return row[i] != "" }) {
			continue
		}
		out.Columns = append(out.Columns, c)
		for n, row := range t.Rows {
			out.Rows[n] = append(out.Rows[n], row[i])
		}
	}
	return out
}

// Join puts documents of one kind behind each other: their parts, and their records under one
// heading.
func Join(list ...Document) (all Document) {
	var rows []iter.Seq[[]string]
	for _, d := range list {
		all.Append(d)
		all.Records.Columns = d.Records.Columns
		if d.Records.Rows != nil {
			rows = append(rows, d.Records.Rows)
		}
	}
	all.Records.Rows = func(yield func([]string) bool) {
		for _, some := range rows {
			for row := range some {
				if !yield(row) {
					return
				}
			}
		}
	}
	return all
}

// OrSay is a list of so many things, or a sentence when there are none.
func (d Document) OrSay(n int, none string) Document {
	if n == 0 {
		d.Parts = []Part{Line{Text: none}}
	}
	return d
}
