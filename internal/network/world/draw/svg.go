package draw

import (
	"encoding/xml"
	"fmt"
	"math"
	"strings"

	"woodlark.example/internal/network/world"
)

const (
	sheetWidth, sheetHeight = 1280.0, 800.0
	marginX, marginY        = 120.0, 80.0
	headRoom                = 30.0
)

// SVG draws a world on a sheet of 1280 by 800: hosts as filled dots, routers as
// open squares, beside each link its main figures, where there is room; where
// its directions differ, both.
func SVG(m *world.Model) []byte {
	at := layout(m, sheetWidth-2*marginX, sheetHeight-2*marginY-headRoom)
	for i := range at {
		at[i].x += marginX
		at[i].y += marginY + headRoom
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %g %g" width="%g" height="%g" font-family="system-ui, 'DejaVu Sans', sans-serif">`+"\n", sheetWidth, sheetHeight, sheetWidth, sheetHeight)
	fmt.Fprintf(&b, `<rect width="100%%" height="100%%" fill="#faf6ec"/>`+"\n")
	hosts := len(m.Hosts())
	fmt.Fprintf(&b, `<text x="24" y="36" font-size="18" font-weight="600" fill="#1b2a47">%s</text>`+"\n", escape(m.Name))
	fmt.Fprintf(&b, `<text x="24" y="56" font-size="12" fill="#56607a">%d hosts, %d other nodes, %d links, as they stand when no change holds</text>`+"\n", hosts, len(m.Nodes())-hosts, len(m.Directions())/2)
	lines(&b, m, at)
	taken := nodes(&b, m, at)
	labels(&b, m, at, taken)
	b.WriteString("</svg>\n")
	return []byte(b.String())
}

// lines draws the links; what each does to packets is in its title.
func lines(b *strings.Builder, m *world.Model, at []point) {
	all := m.Directions()
	for i := 0; i+1 < len(all); i += 2 {
		d, back := all[i], all[i+1]
		p, q := at[d.From], at[d.To]
		dash := ""
		if !d.Up || !back.Up {
			dash = ` stroke-dasharray="2 5"`
		}
		fmt.Fprintf(b, `<g><title>%s → %s: %s; back: %s</title><line x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f" stroke="#56607a" stroke-width="1.2"%s/></g>`+"\n",
			escape(m.Nodes()[d.From].Name), escape(m.Nodes()[d.To].Name), escape(d.Describe()), escape(back.Describe()), p.x, p.y, q.x, q.y, dash)
	}
}

// labels writes the main figures beside the links, where there is room.
func labels(b *strings.Builder, m *world.Model, at []point, taken []box) {
	all := m.Directions()
	for i := 0; i+1 < len(all); i += 2 {
		d, back := all[i], all[i+1]
		p, q := at[d.From], at[d.To]
		says := []string{d.Brief()}
		if other := back.Brief(); other != says[0] {
			says = []string{"→ " + says[0], "← " + other}
			if p.x > q.x {
				says = []string{"← " + d.Brief(), "→ " + other}
			}
		}
		if says[0] == "" {
			continue
		}
		for _, part := range []float64{0.5, 0.42, 0.58, 0.34, 0.66, 0.27, 0.73} {
			x, y := p.x+(q.x-p.x)*part, p.y+(q.y-p.y)*part-4*float64(len(says)-1)
			place := box{x, y, 0, 12 * float64(len(says))}
			for _, s := range says {
				place.width = max(place.width, textWidth(s, 10))
			}
			if overlaps(place, taken) {
				continue
			}
			taken = append(taken, place)
			for k, s := range says {
				halo(b, x, y+13*float64(k)+3, 10, "#56607a", s)
			}
			break
		}
	}
}

// box is a place that is taken: its middle and its size.
type box struct{ x, y, width, height float64 }

func overlaps(a box, taken []box) bool {
	for _, o := range taken {
		if math.Abs(a.x-o.x) < (a.width+o.width)/2+4 && math.Abs(a.y-o.y) < (a.height+o.height)/2+2 {
			return true
		}
	}
	return false
}

// textWidth is about how wide a text is at a size.
func textWidth(s string, size float64) float64 { return 0.58 * size * float64(len([]rune(s))) }

// nodes draws the nodes and returns the places that they take.
func nodes(b *strings.Builder, m *world.Model, at []point) []box {
	var taken []box
	for i, n := range m.Nodes() {
		p := at[i]
		b.WriteString("<g><title>" + escape(about(n)) + "</title>")
		if n.Router {
			fmt.Fprintf(b, `<rect x="%.1f" y="%.1f" width="12" height="12" fill="#faf6ec" stroke="#1b2a47" stroke-width="1.6"/>`, p.x-6, p.y-6)
		} else {
			fmt.Fprintf(b, `<circle cx="%.1f" cy="%.1f" r="6" fill="#1b2a47"/>`, p.x, p.y)
		}
		halo(b, p.x, p.y+21, 12, "#1b2a47", n.Name)
		if len(n.Addresses) > 0 {
			halo(b, p.x, p.y+34, 10, "#56607a", n.Addresses[0].String())
		}
		b.WriteString("</g>\n")
		taken = append(taken, box{p.x, p.y + 14, textWidth(n.Name, 12), 46})
	}
	return taken
}

// halo writes text that stays readable over lines.
func halo(b *strings.Builder, x, y, size float64, colour, text string) {
	fmt.Fprintf(b, `<text x="%.1f" y="%.1f" font-size="%g" text-anchor="middle" fill="%s" stroke="#faf6ec" stroke-width="3" paint-order="stroke">%s</text>`, x, y, size, colour, escape(text))
}

func about(n world.Node) string {
	parts := []string{n.Name}
	if n.Site != "" {
		parts = append(parts, n.Site)
	}
	for _, a := range n.Addresses {
		parts = append(parts, a.String())
	}
	return strings.Join(parts, ", ")
}

func escape(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s))
	return b.String()
}
