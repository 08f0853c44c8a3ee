package pdf

import (
	"strings"

	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"woodlark.example/internal/report/document"
)

// glyphs knows which characters the letters have.
type glyphs struct {
	font   *sfnt.Font
	buffer sfnt.Buffer
	known  map[rune]bool
	missed bool
}

func newGlyphs() *glyphs {
	font, err := sfnt.Parse(goregular.TTF)
	if err != nil {
		panic(err) // it is compiled in
	}
	return &glyphs{font: font, known: map[rune]bool{}}
}

// drawn are the marks of states, which are drawn.
const drawn = "●◆⊖◌"

// only is a text of characters that can be shown.
func (g *glyphs) only(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\u00a0' || r == '\u202f' {
			return ' '
		}
		if r < ' ' {
			return -1
		}
		is, seen := g.known[r]
		if !seen {
			n, err := g.font.GlyphIndex(&g.buffer, r)
			is = r <= 0xFFFF && err == nil && n != 0
			g.known[r] = is
		}
		if !is {
			g.missed = true
			return '□'
		}
		return r
	}, text)
}

// word is a piece of text without a blank in it.
type word struct {
	text  string
	mark  document.Mark
	drawn rune // a mark of a state instead of a text
	blank bool // before it
}

// plain is a text without its marks.
func plain(text string) (out string) {
	for _, r := range document.Runs(text) {
		out += r.Text
	}
	return out
}

// split makes words of a text with marks.
func (p *printer) split(text string) (list []word) {
	blank := false
	for _, r := range document.Runs(text) {
		var now strings.Builder
		flush := func() {
			if now.Len() > 0 {
				list = append(list, word{text: p.glyphs.only(now.String()), mark: r.Mark, blank: blank})
				now.Reset()
				blank = false
			}
		}
		for _, c := range r.Text {
			switch {
			case c == ' ' || c == '\n':
				flush()
				blank = true
			case strings.ContainsRune(drawn, c):
				flush()
				list = append(list, word{drawn: c, mark: r.Mark, blank: blank})
				blank = false
			default:
				now.WriteRune(c)
			}
		}
		flush()
	}
	return list
}

func (p *printer) font(m document.Mark, size float64) colour {
	weight, c := "", ink
	switch m {
	case document.IsStrong:
		weight = "B"
	case document.IsFaint:
		c = soft
	case document.IsChanged:
		weight, c = "B", ochre
	case document.IsLost:
		weight, c = "B", plum
	}
	p.f.SetFont("sans", weight, size)
	return c
}

func (p *printer) width(w word, size float64) float64 {
	if w.drawn != 0 {
		return size * perPoint * 0.72
	}
	p.font(w.mark, size)
	return p.f.GetStringWidth(w.text)
}

func gapOf(size float64) float64 { return size * perPoint * 0.28 }

// wrap breaks words into lines of a width; a word that is wider is broken anywhere.
func (p *printer) wrap(words []word, width, size float64) (lines [][]word) {
	var now []word
	used := 0.0
	for len(words) > 0 {
		w := words[0]
		need := p.width(w, size)
		gap := 0.0
		if w.blank && len(now) > 0 {
			gap = gapOf(size)
		}
		switch {
		case used+gap+need <= width:
		case len(now) > 0:
			lines, now, used = append(lines, now), nil, 0
			continue
		case w.drawn == 0 && len([]rune(w.text)) > 1:
			letters := []rune(w.text)
			n := len(letters) - 1
			for n > 1 && p.width(word{text: string(letters[:n]), mark: w.mark}, size) > width {
				n = max(1, n*9/10)
			}
			lines = append(lines, []word{{text: string(letters[:n]), mark: w.mark}})
			words[0].text, words[0].blank = string(letters[n:]), false
			continue
		}
		now, used = append(now, w), used+gap+need
		words = words[1:]
	}
	if len(now) > 0 || len(lines) == 0 {
		lines = append(lines, now)
	}
	return lines
}

// say writes a text of a width, over as many lines and pages as it takes.
func (p *printer) say(x, width, size, height float64, text string) {
	for _, l := range p.wrap(p.split(text), width, size) {
		p.room(height * perPoint)
		p.lineOf(x, size, height, l)
	}
}

// lineOf writes words on a line, which takes so many points, and goes below it.
func (p *printer) lineOf(x, size, height float64, words []word) {
	p.y += height * perPoint
	base := p.y - (height-size)*perPoint/2 - size*perPoint*0.2
	for i := 0; i < len(words); i++ {
		w := words[i]
		if w.blank && i > 0 {
			x += gapOf(size)
		}
		if w.drawn != 0 {
			p.mark(w.drawn, x, base, size*perPoint)
			x += p.width(w, size)
			continue
		}
		// Words of one look are one text, so that it is found as it reads.
		text := w.text
		for i+1 < len(words) && words[i+1].mark == w.mark && words[i+1].drawn == 0 {
			if words[i+1].blank {
				text += " "
			}
			text += words[i+1].text
			i++
		}
		c := p.font(w.mark, size)
		p.f.SetTextColor(c[0], c[1], c[2])
		p.f.Text(x, base, text)
		x += p.f.GetStringWidth(text)
	}
}

// mark draws the mark of a state on a line.
func (p *printer) mark(r rune, x, base, em float64) {
	f, h := p.f, em*0.26
	cx, cy := x+h, base-em*0.32
	f.SetDashPattern(nil, 0)
	f.SetLineWidth(em * 0.07)
	colours := map[rune]colour{'●': ink, '◆': ochre, '⊖': plum, '◌': soft}
	c := colours[r]
	f.SetDrawColor(c[0], c[1], c[2])
	f.SetFillColor(c[0], c[1], c[2])
	switch r {
	case '●':
		f.Circle(cx, cy, h*0.7, "F")
	case '◆':
		f.MoveTo(cx, cy-h*1.1)
		f.LineTo(cx+h*1.1, cy)
		f.LineTo(cx, cy+h*1.1)
		f.LineTo(cx-h*1.1, cy)
		f.ClosePath()
		f.DrawPath("D")
		f.MoveTo(cx, cy-h*1.1)
		f.LineTo(cx, cy+h*1.1)
		f.LineTo(cx-h*1.1, cy)
		f.ClosePath()
		f.DrawPath("F")
	case '⊖':
		f.Circle(cx, cy, h, "D")
		f.Line(cx-h, cy, cx+h, cy)
	default:
		f.SetDashPattern([]float64{em * 0.08, em * 0.1}, 0)
		f.Circle(cx, cy, h, "D")
		f.SetDashPattern(nil, 0)
	}
}
