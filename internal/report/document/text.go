package document

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/fatih/color"
)

// Ink is how text is coloured: not at all unless at a terminal. Ochre and plum are of the
// palette of 256 colours, to be read on light and on dark grounds. The zero value has no
// colours.
type Ink struct{ colours map[rune]*color.Color }

// NewInk returns an ink that colours or not.
func NewInk(colours bool) Ink {
	if !colours {
		return Ink{}
	}
	i := Ink{map[rune]*color.Color{strong: color.New(color.Bold), faint: color.New(color.Faint), changed: color.New(38, 5, 136), lost: color.New(38, 5, 125)}}
	for _, c := range i.colours {
		c.EnableColor()
	}
	return i
}

// Colours reports whether it colours.
func (i Ink) Colours() bool { return i.colours != nil }

// Paint shows the marks of a text.
func (i Ink) Paint(text string) string {
	if !strings.ContainsFunc(text, isMark) {
		return text
	}
	var out, part strings.Builder
	as := rune(ends)
	flush := func() {
		if c := i.colours[as]; c != nil && part.Len() > 0 {
			out.WriteString(c.Sprint(part.String()))
		} else {
			out.WriteString(part.String())
		}
		part.Reset()
	}
	for _, r := range text {
		if isMark(r) {
			flush()
			as = r
			continue
		}
		part.WriteRune(r)
	}
	flush()
	return out.String()
}

// Text prints a document for a terminal or a file of text.
func Text(w io.Writer, ink Ink, d Document) error {
	out := bufio.NewWriter(w)
	p := printer{out, ink}
	for _, part := range d.Parts {
		p.print(part)
	}
	return out.Flush()
}

// String is a document as text.
func String(ink Ink, d Document) string {
	var b strings.Builder
	_ = Text(&b, ink, d)
	return b.String()
}

// printer prints parts; the writer keeps the first error.
type printer struct {
	w   *bufio.Writer
	ink Ink
}

func (p printer) line(indent int, text string) {
	if text != "" {
		text = strings.Repeat(" ", indent) + p.ink.Paint(text)
	}
	fmt.Fprintln(p.w, text)
}

func (p printer) print(part Part) {
	switch x := part.(type) {
	case Gap:
		p.line(0, "")
	case Section:
		p.line(0, "")
		p.line(0, Strong(x.Title))
	case Line:
		p.line(x.Indent, x.Text)
	case Finding:
		p.line(2, x.Sign+" "+x.Text)
		if x.Advice != "" {
			p.line(4, Faint(x.Advice))
		}
	case Field:
		p.line(2, pad(x.Name, 10, false)+" "+x.Says)
	case Table:
		p.table(x)
	case Mirror:
		p.mirror(x)
	case Cells:
		p.cells(x)
	case Ask:
		p.line(0, x.Label)
	case Plot:
		p.line(4, Faint(x.spark()))
	case Picture:
		for _, l := range x.Lines {
			p.line(0, l)
		}
	}
}

// table prints aligned columns under faint names.
func (p printer) table(t Table) {
	widths := make([]int, len(t.Columns))
	for i, c := range t.Columns {
		widths[i] = max(c.Width, seen(c.Name))
	}
	for _, row := range t.Rows {
		for i, cell := range row {
			widths[i] = max(widths[i], seen(cell))
		}
	}
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	p.line(0, Faint(strings.Repeat(" ", t.Indent)+strings.TrimRight(t.join(names, widths), " ")))
	for _, row := range t.Rows {
		p.line(t.Indent, strings.TrimRight(t.join(row, widths), " "))
	}
}

func (t Table) join(row []string, widths []int) string {
	var b strings.Builder
	for i, cell := range row {
		if i > 0 {
			b.WriteString("  ")
		}
		b.WriteString(pad(cell, widths[i], t.Columns[i].Right))
	}
	return b.String()
}

// seen counts the characters of a text that take room.
func seen(s string) (n int) {
	for _, r := range s {
		if !isMark(r) {
			n++
		}
	}
	return n
}

func pad(s string, n int, right bool) string {
	gap := strings.Repeat(" ", max(0, n-seen(s)))
	if right {
		return gap + s
	}
	return s + gap
}

func clip(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return string([]rune(s)[:n-1]) + "…"
}

const (
	sideWidth  = 24 // of a bar
	saysWidth  = 15 // of the figure beside the left one
	mirrorRows = 20 // at most; of more a few are left out evenly
)

func (p printer) mirror(m Mirror) {
	most := m.Most
	if most <= 0 {
		most = 1
	}
	bar := func(s Side) string {
		if !s.Known {
			return ""
		}
		return strings.Repeat("▪", int(s.Value/most*sideWidth+0.5))
	}
	whole := sideWidth + saysWidth + 1
	p.line(0, Faint("  "+pad("", 6, false)+" "+pad(clip(m.There, whole), whole, true)+" │ "+clip(m.Back, whole)))
	each := max(1, (len(m.Rows)+mirrorRows-1)/mirrorRows)
	for i := 0; i < len(m.Rows); i += each {
		r := m.Rows[i]
		left := pad(r.There.Says, saysWidth, true) + " " + pad(bar(r.There), sideWidth, true)
		right := strings.TrimRight(pad(bar(r.Back), sideWidth, false)+" "+r.Back.Says, " ")
		p.line(2, fmt.Sprintf("%5.0fs %s │ %s", r.At, left, right))
	}
}

func (p printer) cells(c Cells) {
	for _, r := range c.Rows {
		p.line(2, pad(r.Name, 15, false)+" "+r.Cells)
	}
	if c.Legend != "" {
		p.line(2, Faint(c.Legend))
	}
}
