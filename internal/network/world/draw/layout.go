package draw

import (
	"math"

	"woodlark.example/internal/network/world"
)

// point is a place on the sheet.
type point struct{ x, y float64 }

const rounds = 500

// layout places the nodes so that linked ones are near and others apart: a
// balance of springs along the links and of a force between all, cooled down
// (Fruchterman and Reingold, 1991). It is the same for the same world.
func layout(m *world.Model, width, height float64) []point {
	n := len(m.Nodes())
	at := make([]point, n)
	for i := range at {
		angle := 2.399963 * float64(i) // the golden angle, so that no two start together
		r := math.Sqrt(float64(i)+0.5) / math.Sqrt(float64(n))
		at[i] = point{r * math.Cos(angle), r * math.Sin(angle)}
	}
	if n < 2 {
		return fit(at, width, height)
	}
	ideal := math.Sqrt(4 / float64(n))
	for round := range rounds {
		push := make([]point, n)
		for i := range n {
			for j := range i {
				apart(at, push, i, j, ideal)
			}
		}
		for k, d := range m.Directions() {
			if k%2 == 0 {
				together(at, push, d.From, d.To, ideal)
			}
		}
		heat := 0.2 * (1 - float64(round)/rounds)
		for i := range n {
			length := math.Hypot(push[i].x, push[i].y)
			if length > 0 {
				step := math.Min(length, heat) / length
				at[i].x += push[i].x * step
				at[i].y += push[i].y * step
			}
		}
	}
	return fit(at, width, height)
}

func apart(at, push []point, i, j int, ideal float64) {
	dx, dy := at[i].x-at[j].x, at[i].y-at[j].y
	d2 := math.Max(dx*dx+dy*dy, 1e-6)
	f := ideal * ideal / d2
	push[i].x += dx * f
	push[i].y += dy * f
	push[j].x -= dx * f
	push[j].y -= dy * f
}

func together(at, push []point, i, j int, ideal float64) {
	dx, dy := at[i].x-at[j].x, at[i].y-at[j].y
	f := math.Hypot(dx, dy) / ideal
	push[i].x -= dx * f
	push[i].y -= dy * f
	push[j].x += dx * f
	push[j].y += dy * f
}

// fit brings the places onto the sheet, turned so that it is used widely.
func fit(at []point, width, height float64) []point {
	turn(at)
	low, high := at[0], at[0]
	for _, p := range at {
		low = point{math.Min(low.x, p.x), math.Min(low.y, p.y)}
		high = point{math.Max(high.x, p.x), math.Max(high.y, p.y)}
	}
	out := make([]point, len(at))
	for i, p := range at {
		out[i] = point{share(p.x, low.x, high.x) * width, share(p.y, low.y, high.y) * height}
	}
	return out
}

func share(v, low, high float64) float64 {
	if high-low < 1e-9 {
		return 0.5
	}
	return (v - low) / (high - low)
}

// turn lays the direction of the greatest spread across the sheet.
func turn(at []point) {
	var mean point
	for _, p := range at {
		mean.x += p.x / float64(len(at))
		mean.y += p.y / float64(len(at))
	}
	var xx, xy, yy float64
	for _, p := range at {
		dx, dy := p.x-mean.x, p.y-mean.y
		xx, xy, yy = xx+dx*dx, xy+dx*dy, yy+dy*dy
	}
	angle := -math.Atan2(2*xy, xx-yy) / 2
	sin, cos := math.Sincos(angle)
	for i, p := range at {
		dx, dy := p.x-mean.x, p.y-mean.y
		at[i] = point{dx*cos - dy*sin, dx*sin + dy*cos}
	}
}
