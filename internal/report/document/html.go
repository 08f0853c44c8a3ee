package document

import (
	"bufio"
	"fmt"
	"html"
	"io"
	"strings"
)

// About says what a printed document is.
type About struct {
	Title    string
	Subject  string // in a sentence
	Language string // BCP 47; en when empty
	Made     string // when and by what, for the foot
}

// style is paper and ink, to be read in black and white, and printed.
const style = `:root{--paper:#faf6ec;--ink:#1b2a47;--soft:#56607a;--line:#ddd5c3;--land:#ece5d3;--ribbon:#d9e0ec;--ochre:#8d5200;--plum:#7d2459}
@media (prefers-color-scheme:dark){:root{--paper:#1a2027;--ink:#dfe6f2;--soft:#a3aebf;--line:#37424f;--land:#262f39;--ribbon:#2f3f57;--ochre:#e3a24a;--plum:#e08fbd}}
@media print{:root{--paper:#fff;--ink:#000;--soft:#333;--line:#bbb;--land:#eee;--ribbon:#ddd;--ochre:#000;--plum:#000}body{font-size:10pt}table,figure,svg{break-inside:avoid}h2{break-after:avoid}}
body{background:var(--paper);color:var(--ink);font:15px/1.45 ui-sans-serif,system-ui,"Liberation Sans","DejaVu Sans",sans-serif;max-width:62rem;margin:2rem auto;padding:0 1rem}
h1{font-size:1.5rem;margin:0}h2{font-size:1.1rem;border-bottom:1px solid var(--line);margin:1.8rem 0 .6rem;padding-bottom:.2rem}
p{margin:.15rem 0}p.gap{height:.6rem}.faint{color:var(--soft)}.changed{color:var(--ochre)}.lost{color:var(--plum)}b,.changed,.lost{font-weight:600}
table{border-collapse:collapse;margin:.5rem 0;font-variant-numeric:tabular-nums;max-width:100%}th{font-weight:400;color:var(--soft);text-align:left;vertical-align:bottom}
th,td{padding:.15rem .9rem .15rem 0;border-bottom:1px solid var(--line);vertical-align:top}.right{text-align:right}
dl{display:grid;grid-template-columns:max-content 1fr;gap:.1rem 1rem;margin:.2rem 0}dt{color:var(--soft)}dd{margin:0}
figure{margin:.4rem 0}figcaption{color:var(--soft);font-size:.85rem}svg{width:100%;height:auto;max-width:48rem;display:block}pre{font:.85rem/1.2 ui-monospace,"DejaVu Sans Mono",monospace;overflow-x:auto}
svg text{font:10px ui-sans-serif,system-ui,"Liberation Sans","DejaVu Sans",sans-serif;fill:var(--soft)}
svg .axis{stroke:var(--line);fill:none}svg .band{fill:var(--ribbon)}svg .line{stroke:var(--ink);fill:none;stroke-width:1.3}svg .loss{stroke:var(--plum);stroke-width:2}
svg .told{fill:none;stroke:var(--ochre);stroke-dasharray:3 2}svg .flag,svg .half{fill:var(--ochre)}svg .land{fill:var(--land)}svg .water{fill:var(--paper)}svg .dot{fill:var(--ink)}
svg .steady{stroke:var(--ink);fill:none;stroke-width:.8}svg .degraded{stroke:var(--ochre);fill:none;stroke-width:2;stroke-dasharray:7 3}
svg .second{stroke:var(--ochre);fill:none;stroke-width:1.4;stroke-dasharray:6 3}svg .limit{stroke:var(--plum);fill:none;stroke-width:1.2;stroke-dasharray:9 3 2 3}
svg .edge{stroke:var(--ochre);fill:none;stroke-width:1.4}svg .gone{stroke:var(--plum);fill:none;stroke-width:2.2}svg .unmeasured{stroke:var(--soft);fill:none;stroke-width:1.2;stroke-dasharray:1.5 3}footer{margin-top:2rem;border-top:1px solid var(--line);color:var(--soft);font-size:.85rem}
form{margin:1rem 0}input,button{font:inherit;color:inherit;background:transparent;border:1px solid var(--soft);padding:.3rem .6rem;margin-top:.2rem}input:focus-visible,button:focus-visible{outline:2px solid var(--ochre);outline-offset:2px}
@media (max-width:40rem){body{margin:1rem auto}.wide{overflow-x:auto}}
`

// HTML prints a document as one page that needs nothing else.
func HTML(w io.Writer, a About, d Document) error {
	out := bufio.NewWriter(w)
	language := a.Language
	if language == "" {
		language = "en"
	}
	esc := html.EscapeString
	fmt.Fprintf(out, "<!DOCTYPE html>\n<html lang=\"%s\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>%s</title>\n", esc(language), esc(a.Title))
	// Nothing is fetched and nothing is run, whatever stands in it.
	fmt.Fprintf(out, "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; form-action 'self'\">\n<style>\n%s</style>\n</head>\n<body>\n<main>\n<h1>%s</h1>\n", style, esc(a.Title))
	if a.Subject != "" {
		fmt.Fprintf(out, "<p class=\"faint\">%s</p>\n", esc(a.Subject))
	}
	p := page{w: out}
	for _, part := range d.Parts {
		p.print(part)
	}
	p.fields(false)
	fmt.Fprintf(out, "</main>\n<footer>%s</footer>\n</body>\n</html>\n", esc(a.Made))
	return out.Flush()
}

type page struct {
	w     *bufio.Writer
	named bool // fields are being listed
}

var classes = map[rune]string{faint: "faint", changed: "changed", lost: "lost"}

// marks is a text with its marks as elements.
func (p *page) marks(text string) string {
	var b strings.Builder
	var open string
	for _, r := range text {
		if !isMark(r) {
			b.WriteString(html.EscapeString(string(r)))
			continue
		}
		b.WriteString(open)
		open = ""
		switch {
		case r == strong:
			b.WriteString("<b>")
			open = "</b>"
		case classes[r] != "":
			b.WriteString("<span class=\"" + classes[r] + "\">")
			open = "</span>"
		}
	}
	return b.String() + open
}

func (p *page) fields(begin bool) {
	switch {
	case begin && !p.named:
		fmt.Fprintln(p.w, "<dl>")
	case !begin && p.named:
		fmt.Fprintln(p.w, "</dl>")
	}
	p.named = begin
}

func (p *page) line(indent int, text string) {
	fmt.Fprintf(p.w, "<p%s>%s</p>\n", indented(indent), p.marks(text))
}

func indented(characters int) string {
	if characters == 0 {
		return ""
	}
	return fmt.Sprintf(" style=\"margin-left:%.1fem\"", float64(characters)*0.5)
}

func (p *page) print(part Part) {
	_, isField := part.(Field)
	p.fields(isField)
	switch x := part.(type) {
	case Gap:
		fmt.Fprintln(p.w, "<p class=\"gap\"></p>")
	case Section:
		fmt.Fprintf(p.w, "<h2>%s</h2>\n", p.marks(x.Title))
	case Line:
		p.line(x.Indent, x.Text)
	case Finding:
		p.line(2, x.Sign+" "+x.Text)
		if x.Advice != "" {
			p.line(4, Faint(x.Advice))
		}
	case Field:
		fmt.Fprintf(p.w, "<dt>%s</dt><dd>%s</dd>\n", p.marks(x.Name), p.marks(x.Says))
	case Table:
		p.table(x)
	case Ask:
		esc := html.EscapeString
		fmt.Fprintf(p.w, "<form method=\"post\"><label for=\"ask\">%s</label><br><input id=\"ask\" name=\"%s\" type=\"password\" autocomplete=\"off\" required autofocus> <button>%s</button></form>\n", esc(x.Label), esc(x.Name), esc(x.Button))
	case Drawn:
		p.drawn(x)
	default: // what is drawn by characters
		fmt.Fprintf(p.w, "<pre>%s</pre>\n", html.EscapeString(String(Ink{}, Document{Parts: []Part{part}})))
	}
}

func (p *page) table(t Table) {
	fmt.Fprintf(p.w, "<div class=\"wide\"%s><table>\n<thead><tr>", indented(t.Indent))
	side := func(i int) string {
		if t.Columns[i].Right {
			return " class=\"right\""
		}
		return ""
	}
	for i, c := range t.Columns {
		fmt.Fprintf(p.w, "<th scope=\"col\"%s>%s</th>", side(i), p.marks(c.Name))
	}
	fmt.Fprint(p.w, "</tr></thead>\n<tbody>\n")
	for _, row := range t.Rows {
		fmt.Fprint(p.w, "<tr>")
		for i, cell := range row {
			fmt.Fprintf(p.w, "<td%s>%s</td>", side(i), p.marks(strings.TrimSpace(cell)))
		}
		fmt.Fprint(p.w, "</tr>\n")
	}
	fmt.Fprint(p.w, "</tbody></table></div>\n")
}

func (p *page) drawn(x Drawn) {
	fmt.Fprintf(p.w, "<figure>%s<figcaption>%s</figcaption></figure>\n", SVG(x), html.EscapeString(x.Caption()))
}

// SVG is what is drawn as a picture within a page of HTML.
func SVG(x Drawn) string {
	d := x.Draw()
	var b strings.Builder
	fmt.Fprintf(&b, "<svg viewBox=\"0 0 %g %g\" role=\"img\" aria-label=\"%s\">", d.W, d.H, html.EscapeString(x.Caption()))
	for _, s := range d.Shapes {
		if s.Look == Label {
			fmt.Fprintf(&b, "<text x=\"%.1f\" y=\"%.1f\" text-anchor=\"%s\">%s</text>", s.Points[0][0], s.Points[0][1], s.Anchor, html.EscapeString(s.Text))
			continue
		}
		element := "polyline"
		if s.Closed() {
			element = "polygon"
		}
		fmt.Fprintf(&b, "<%s class=\"%s\" points=\"", element, s.Look)
		for i, at := range s.Points {
			if i > 0 {
				b.WriteByte(' ')
			}
			fmt.Fprintf(&b, "%.1f,%.1f", at[0], at[1])
		}
		b.WriteByte('"')
		if s.Text != "" {
			fmt.Fprintf(&b, "><title>%s</title></%s>", html.EscapeString(s.Text), element)
			continue
		}
		b.WriteString("/>")
	}
	b.WriteString("</svg>")
	return b.String()
}
