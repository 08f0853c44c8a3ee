package pdf

import (
	"woodlark.example/internal/report/document"
)

const (
	between  = 3.0 // millimetres, of columns
	mostSeen = 400 // rows that say how wide a column is to be
	least    = 9.0 // a column's width
)

// table writes rows under their columns' names, which come again on each page.
func (p *printer) table(t document.Table) {
	if len(t.Columns) == 0 {
		return
	}
	size := body - 0.6
	widths := p.widths(t, size)
	height := size * leading * perPoint
	head := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		head[i] = document.Faint(plain(c.Name))
	}
	top := func() {
		p.row(t, head, widths, size)
		p.rule(p.y + 0.4)
		p.y += 0.9
	}
	p.room(3 * height)
	p.y += 0.8
	top()
	for _, row := range t.Rows {
		lines := p.cells(row, widths, size)
		if p.room(float64(tallest(lines)) * height) {
			top()
		}
		p.put(t, lines, widths, size)
	}
	p.y += 1.2
}

func (p *printer) row(t document.Table, row []string, widths []float64, size float64) {
	p.put(t, p.cells(row, widths, size), widths, size)
}

func (p *printer) cells(row []string, widths []float64, size float64) [][][]word {
	out := make([][][]word, len(widths))
	for i := range widths {
		if i < len(row) {
			out[i] = p.wrap(p.split(row[i]), widths[i], size)
		}
	}
	return out
}

func tallest(lines [][][]word) int {
	n := 1
	for _, l := range lines {
		n = max(n, len(l))
	}
	return n
}

func (p *printer) put(t document.Table, lines [][][]word, widths []float64, size float64) {
	y := p.y
	x := margin + float64(t.Indent)*indentOf
	for i, cell := range lines {
		p.y = y
		for _, l := range cell {
			at := x
			if t.Columns[i].Right {
				at += widths[i] - p.lengthOf(l, size)
			}
			p.lineOf(at, size, size*leading, l)
		}
		x += widths[i] + between
	}
	p.y = y + float64(tallest(lines))*size*leading*perPoint
}

func (p *printer) lengthOf(words []word, size float64) (sum float64) {
	for i, w := range words {
		if w.blank && i > 0 {
			sum += gapOf(size)
		}
		sum += p.width(w, size)
	}
	return sum
}

// widths are those of columns: as wide as what stands in them; where that is too wide for the
// page, the widest give way.
func (p *printer) widths(t document.Table, size float64) []float64 {
	out := make([]float64, len(t.Columns))
	for i, c := range t.Columns {
		out[i] = max(2, p.lengthOf(p.split(plain(c.Name)), size))
		for n, row := range t.Rows {
			if n >= mostSeen {
				break
			}
			if i < len(row) {
				out[i] = max(out[i], p.lengthOf(p.split(row[i]), size))
			}
		}
		out[i] += 0.3
	}
	room := across - float64(t.Indent)*indentOf - between*float64(len(out)-1)
	for {
		sum, widest, second := 0.0, 0, 0.0
		for i, w := range out {
			sum += w
			if w > out[widest] {
				widest = i
			}
		}
		if sum <= room || out[widest] <= least {
			return out
		}
		for i, w := range out {
			if i != widest {
				second = max(second, w)
			}
		}
		// It gives way down to the next, or by what is too much.
		out[widest] = max(least, out[widest]-min(sum-room, max(0.5, out[widest]-second)))
	}
}
