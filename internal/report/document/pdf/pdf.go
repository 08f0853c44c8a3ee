// Package pdf prints documents as PDF: fonts inside, text that can be selected and searched,
// pictures as lines, with title, language and an outline.
//
//	err := pdf.Print(file, document.About{Title: "Degraded paths"}, time.Now(), doc)
package pdf

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/goregular"

	"woodlark.example/internal/report/document"
)

// In millimetres and, of letters, in points.
const (
	pageWidth, pageHeight = 210.0, 297.0 // A4
	margin, foot          = 18.0, 20.0
	across                = pageWidth - 2*margin
	perPoint              = 25.4 / 72
	body, title, heading  = 9.2, 16.0, 11.5
	small                 = 7.5
	leading               = 1.32
	indentOf              = 1.35 // a character
	headed                = 22.0 // room that a head needs with what follows
)

type colour [3]int

var (
	paper  = colour{255, 255, 255}
	land   = colour{236, 231, 219}
	ink    = colour{27, 42, 71}
	soft   = colour{86, 96, 122}
	ochre  = colour{141, 82, 0}
	plum   = colour{125, 36, 89}
	line   = colour{190, 185, 172}
	ribbon = colour{217, 224, 236}
)

// Print writes a document as PDF. made is what it gives as its date.
func Print(w io.Writer, a document.About, made time.Time, d document.Document) error {
	f := fpdf.New("P", "mm", "A4", "")
	f.AddUTF8FontFromBytes("sans", "", goregular.TTF)
	f.AddUTF8FontFromBytes("sans", "B", gobold.TTF)
	f.AddUTF8FontFromBytes("mono", "", gomono.TTF)
	language := a.Language
	if language == "" {
		language = "en"
	}
	f.SetLang(language)
	f.SetTitle(a.Title, true)
	f.SetSubject(a.Subject, true)
	f.SetProducer("Woodlark", true)
	f.SetCreator("Woodlark", true)
	f.SetCreationDate(made.UTC())
	f.SetModificationDate(made.UTC())
	f.SetCatalogSort(true)
	f.SetMargins(margin, margin, margin)
	f.SetAutoPageBreak(false, foot)
	f.SetCellMargin(0)
	f.AliasNbPages("{pages}")
	p := &printer{f: f, glyphs: newGlyphs()}
	f.SetFooterFunc(func() { p.foot(a) })
	f.AddPage()
	p.y = margin
	p.say(margin, across, title, title*1.2, document.Strong(a.Title))
	if a.Subject != "" {
		p.say(margin, across, body, body*leading, document.Faint(a.Subject))
	}
	p.y += 2
	for _, part := range d.Parts {
		p.print(part)
	}
	if p.glyphs.missed {
		p.y += 3
		p.say(margin, across, small, small*leading, document.Faint("Characters that the letters of this file lack are shown as □."))
	}
	if err := f.Output(w); err != nil {
		return fmt.Errorf("write a PDF: %w", err)
	}
	return nil
}

// printer is where it stands on the page.
type printer struct {
	f      *fpdf.Fpdf
	glyphs *glyphs
	y      float64
}

func (p *printer) foot(a document.About) {
	y := p.y
	p.y = pageHeight - 12
	p.rule(p.y - 2)
	p.lineOf(margin, small, small*leading, p.split(document.Faint(a.Made)))
	at := document.Faint(fmt.Sprintf("%d / {pages}", p.f.PageNo()))
	p.y = pageHeight - 12
	p.lineOf(pageWidth-margin-12, small, small*leading, p.split(at))
	p.y = y
}

// room begins another page where so much does not fit on this one, and reports whether it did.
func (p *printer) room(height float64) bool {
	if p.y+height <= pageHeight-foot || p.y <= margin {
		return false
	}
	p.f.AddPage()
	p.y = margin
	return true
}

func (p *printer) rule(y float64) {
	p.f.SetDrawColor(line[0], line[1], line[2])
	p.f.SetLineWidth(0.15)
	p.f.Line(margin, y, pageWidth-margin, y)
}

func (p *printer) print(part document.Part) {
	switch x := part.(type) {
	case document.Gap:
		p.y += 2.2
	case document.Section:
		p.room(24)
		p.y += 4
		p.f.SetFont("sans", "B", heading) // an outline is written in the font of its time
		p.f.Bookmark(p.glyphs.only(strings.TrimSpace(plain(x.Title))), 0, p.y)
		p.say(margin, across, heading, heading*1.25, document.Strong(plain(x.Title)))
		p.rule(p.y)
		p.y += 1.6
	case document.Line:
		if runs := document.Runs(x.Text); x.Indent == 0 && len(runs) > 0 && runs[0].Mark == document.IsStrong {
			p.room(headed) // it heads what follows
		}
		in := float64(x.Indent) * indentOf
		p.say(margin+in, across-in, body, body*leading, x.Text)
	case document.Finding:
		p.say(margin+2*indentOf, across-2*indentOf, body, body*leading, x.Sign+" "+x.Text)
		if x.Advice != "" {
			p.say(margin+4*indentOf, across-4*indentOf, body, body*leading, document.Faint(x.Advice))
		}
	case document.Field:
		y := p.y
		p.room(5)
		if p.y != y {
			y = p.y
		}
		p.lineOf(margin, body, body*leading, p.split(document.Faint(x.Name)))
		p.y = y
		p.say(margin+38, across-38, body, body*leading, x.Says)
	case document.Table:
		p.table(x)
	case document.Drawn:
		p.drawn(x)
	default: // what is drawn by characters
		p.mono(document.String(document.Ink{}, document.Document{Parts: []document.Part{part}}))
	}
}

// mono writes lines of characters of one width, as small as the longest needs.
func (p *printer) mono(text string) {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	longest := 1
	for _, l := range lines {
		longest = max(longest, len([]rune(l)))
	}
	size := min(body, across/(float64(longest)*0.6*perPoint))
	p.f.SetTextColor(ink[0], ink[1], ink[2])
	for _, l := range lines {
		p.room(size * leading * perPoint)
		p.f.SetFont("mono", "", size)
		p.y += size * leading * perPoint
		p.f.Text(margin, p.y, p.glyphs.only(l))
	}
}

// drawn draws shapes, as wide as the page.
func (p *printer) drawn(x document.Drawn) {
	d := x.Draw()
	by := across / d.W
	caption := 5.0
	p.room(d.H*by + caption + 2)
	p.y += 1
	top := p.y
	at := func(q [2]float64) fpdf.PointType {
		return fpdf.PointType{X: margin + q[0]*by, Y: top + q[1]*by}
	}
	for _, s := range d.Shapes {
		p.shape(s, at)
	}
	p.f.SetDashPattern(nil, 0)
	p.y = top + d.H*by
	p.say(margin, across, small, small*leading, document.Faint(x.Caption()))
	p.y += 1.5
}

func (p *printer) shape(s document.Shape, at func([2]float64) fpdf.PointType) {
	f := p.f
	f.SetDashPattern(nil, 0)
	draw := func(c colour, width float64) {
		f.SetDrawColor(c[0], c[1], c[2])
		f.SetLineWidth(width)
	}
	points := make([]fpdf.PointType, len(s.Points))
	for i, q := range s.Points {
		points[i] = at(q)
	}
	switch s.Look {
	case document.Label:
		text := p.glyphs.only(s.Text)
		f.SetFont("sans", "", 6.5)
		f.SetTextColor(soft[0], soft[1], soft[2])
		w := f.GetStringWidth(text)
		f.Text(points[0].X-map[string]float64{"middle": w / 2, "end": w}[s.Anchor], points[0].Y, text)
		return
	case document.Band:
		f.SetFillColor(ribbon[0], ribbon[1], ribbon[2])
		f.Polygon(points, "F")
		return
	case document.Flag, document.Half, document.Land, document.Water, document.Dot:
		c := map[document.Look]colour{document.Land: land, document.Water: paper, document.Dot: ink}[s.Look]
		if s.Look == document.Flag || s.Look == document.Half {
			c = ochre
		}
		f.SetFillColor(c[0], c[1], c[2])
		f.Polygon(points, "F")
		return
	case document.Told:
		draw(ochre, 0.25)
		f.SetDashPattern([]float64{1, 0.8}, 0)
		f.Polygon(points, "D")
		return
	case document.Axis:
		draw(line, 0.15)
	case document.Loss, document.Gone:
		draw(plum, 0.5)
	case document.Degraded:
		draw(ochre, 0.5)
		f.SetDashPattern([]float64{1.8, 0.7}, 0)
	case document.Unmeasured:
		draw(soft, 0.3)
		f.SetDashPattern([]float64{0.4, 0.8}, 0)
	case document.Steady:
		draw(ink, 0.2)
	case document.Second:
		draw(ochre, 0.35)
		f.SetDashPattern([]float64{1.4, 0.7}, 0)
	case document.Limit:
		draw(plum, 0.3)
		f.SetDashPattern([]float64{2.4, 0.8, 0.5, 0.8}, 0)
	case document.Edge:
		draw(ochre, 0.4)
	default:
		draw(ink, 0.3)
	}
	f.MoveTo(points[0].X, points[0].Y)
	for _, q := range points[1:] {
		f.LineTo(q.X, q.Y)
	}
	f.DrawPath("D")
}
