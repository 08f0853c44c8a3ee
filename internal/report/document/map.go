package document

import (
	"math"

	"woodlark.example/core/geo"
)

// Drawn is a part that is drawn by shapes.
type Drawn interface {
	Part
	Draw() Drawing
	Caption() string
}

// Caption is what a plot is of.
func (p Plot) Caption() string { return p.Title }

// Map is sites where they are, with what is between them.
type Map struct {
	Title  string
	W, H   float64 // of the drawing; what is usual when 0
	Land   []geo.Ring
	Places []MapPlace
	Lines  []MapLine
}

func (Map) part() {}

// Caption is what a map is of.
func (m Map) Caption() string { return m.Title }

// MapPlace is a site.
type MapPlace struct {
	Name  string
	At    geo.Place
	State string // the worst of what is there
	Says  string
}

// MapLine is what goes from one place to another.
type MapLine struct {
	From, To int // by their numbers
	State    string
	Says     string
}

// The looks of maps.
const (
	Land  Look = "land"  // an area
	Water Look = "water" // an area within land
	Dot   Look = "dot"   // a small area in ink
	Half  Look = "half"  // a small area in ochre
	Edge  Look = "edge"  // the line around one
	// Of lines by state.
	Steady     Look = "steady"
	Degraded   Look = "degraded"
	Gone       Look = "gone"
	Unmeasured Look = "unmeasured"
)

const (
	mapWidth, mapHeight = 720.0, 440.0
	beside              = 2.2 // of two lines there and back from the middle between them
	markRadius          = 5.0
	letter              = 5.6 // wide, about
)

func lookOf(state string) Look {
	switch state {
	case "degraded":
		return Degraded
	case "lost":
		return Gone
	case "unmeasured":
		return Unmeasured
	}
	return Steady
}

// View is where things stand on the map.
func (m Map) View() geo.View {
	at := make([]geo.Place, len(m.Places))
	for i, p := range m.Places {
		at[i] = p.At
	}
	if m.W <= 0 || m.H <= 0 {
		m.W, m.H = mapWidth, mapHeight
	}
	return geo.Fit(at, m.W, m.H)
}

// Draw is the map as shapes.
func (m Map) Draw() Drawing {
	v := m.View()
	d := Drawing{W: v.W, H: v.H}
	for _, a := range v.Areas(m.Land) {
		look := Land
		if a.Hole {
			look = Water
		}
		d.Shapes = append(d.Shapes, Shape{Look: look, Points: a.Points})
	}
	// What is worse is drawn last.
	for _, look := range []Look{Steady, Unmeasured, Degraded, Gone} {
		for _, l := range m.Lines {
			if lookOf(l.State) != look || l.From == l.To {
				continue
			}
			a, b := m.Between(v, l)
			d.Shapes = append(d.Shapes, Shape{Look: look, Points: [][2]float64{a, b}, Text: l.Says})
			if look == Gone { // a bar across, for who sees no colour
				d.Shapes = append(d.Shapes, Shape{Look: Gone, Points: across(a, b)})
			}
		}
	}
	for _, p := range m.Places {
		x, y := v.XY(p.At)
		d.Shapes = append(d.Shapes, mark(p.State, x, y, p.Says)...)
	}
	for i, at := range m.Labels(v) {
		if at.Anchor != "" {
			d.Shapes = append(d.Shapes, Shape{Look: Label, Points: [][2]float64{{at.X, at.Y}}, Text: m.Places[i].Name, Anchor: at.Anchor})
		}
	}
	return d
}

// Between is a line between two places, to the right of the straight one: that back is beside it.
func (m Map) Between(v geo.View, l MapLine) (a, b [2]float64) {
	a[0], a[1] = v.XY(m.Places[l.From].At)
	b[0], b[1] = v.XY(m.Places[l.To].At)
	dx, dy := b[0]-a[0], b[1]-a[1]
	length := math.Hypot(dx, dy)
	if length == 0 {
		return a, b
	}
	for _, p := range []*[2]float64{&a, &b} {
		p[0], p[1] = p[0]-dy/length*beside, p[1]+dx/length*beside
	}
	return a, b
}

// across is a short bar over the middle of a line.
func across(a, b [2]float64) [][2]float64 {
	dx, dy := b[0]-a[0], b[1]-a[1]
	length := max(math.Hypot(dx, dy), 1e-9)
	x, y := (a[0]+b[0])/2, (a[1]+b[1])/2
	return [][2]float64{{x - dy/length*markRadius, y + dx/length*markRadius}, {x + dy/length*markRadius, y - dx/length*markRadius}}
}

// mark is a state by its shape.
func mark(state string, x, y float64, says string) []Shape {
	ring := func(r float64, look Look) Shape {
		s := Shape{Look: look, Text: says}
		for i := range 25 {
			at := float64(i) / 24 * 2 * math.Pi
			s.Points = append(s.Points, [2]float64{x + r*math.Cos(at), y + r*math.Sin(at)})
		}
		return s
	}
	switch lookOf(state) {
	case Degraded:
		r := markRadius + 1
		return []Shape{{Look: Water, Points: [][2]float64{{x, y - r}, {x + r, y}, {x, y + r}, {x - r, y}}},
			{Look: Half, Points: [][2]float64{{x, y - r}, {x - r, y}, {x, y + r}}},
			{Look: Edge, Points: [][2]float64{{x, y - r}, {x + r, y}, {x, y + r}, {x - r, y}, {x, y - r}}, Text: says}}
	case Gone:
		return []Shape{ring(markRadius, Water), ring(markRadius, Gone), {Look: Gone, Points: [][2]float64{{x - markRadius, y}, {x + markRadius, y}}}}
	case Unmeasured:
		return []Shape{ring(markRadius, Water), ring(markRadius, Unmeasured)}
	}
	return []Shape{ring(markRadius-1.8, Dot)}
}

// LabelAt is where the name of a place stands; nowhere when Anchor is empty.
type LabelAt struct {
	X, Y   float64
	Anchor string
}

type box struct{ west, east, top, bottom float64 }

func (a box) meets(b box) bool {
	return a.west < b.east && b.west < a.east && a.top < b.bottom && b.top < a.bottom
}

// holds is how many points are in it.
func (a box) holds(points [][2]float64) (n int) {
	for _, p := range points {
		if p[0] > a.west && p[0] < a.east && p[1] > a.top && p[1] < a.bottom {
			n++
		}
	}
	return n
}

// along are points along the lines, close enough to each other that a name does not fit between.
func (m Map) along(v geo.View) (points [][2]float64) {
	for _, l := range m.Lines {
		a, b := m.Between(v, l)
		n := max(1, int(math.Hypot(b[0]-a[0], b[1]-a[1])/4))
		for i := range n + 1 {
			t := float64(i) / float64(n)
			points = append(points, [2]float64{a[0] + t*(b[0]-a[0]), a[1] + t*(b[1]-a[1])})
		}
	}
	return points
}

// Labels are where the names of the places stand, so that none lies upon another or leaves the
// map, and on as little of the lines as can be. What has no room goes without: its mark and the list tell it.
func (m Map) Labels(v geo.View) []LabelAt {
	out := make([]LabelAt, len(m.Places))
	var taken []box
	for _, p := range m.Places {
		x, y := v.XY(p.At)
		taken = append(taken, box{x - markRadius, x + markRadius, y - markRadius, y + markRadius})
	}
	lines := m.along(v)
	// The names of what is worse are the last to go without.
	for _, look := range []Look{Gone, Degraded, Unmeasured, Steady} {
		for i, p := range m.Places {
			if lookOf(p.State) != look {
				continue
			}
			x, y := v.XY(p.At)
			wide := float64(len([]rune(p.Name))) * letter
			best, least := box{}, math.MaxInt
			for _, at := range []LabelAt{{x + 9, y + 3.5, "start"}, {x - 9, y + 3.5, "end"}, {x, y - 10, "middle"}, {x, y + 17, "middle"}, {x + 7, y - 7, "start"}, {x - 7, y - 7, "end"}, {x + 7, y + 14, "start"}, {x - 7, y + 14, "end"}} {
				b := box{at.X, at.X + wide, at.Y - 9, at.Y + 3}
				switch at.Anchor {
				case "end":
					b.west, b.east = at.X-wide, at.X
				case "middle":
					b.west, b.east = at.X-wide/2, at.X+wide/2
				}
				if b.west < 2 || b.east > v.W-2 || b.top < 2 || b.bottom > v.H-2 || meetsAny(b, taken) {
					continue
				}
				if n := b.holds(lines); n < least {
					best, least, out[i] = b, n, at
				}
			}
			if least < math.MaxInt {
				taken = append(taken, best)
			}
		}
	}
	return out
}

func meetsAny(b box, list []box) bool {
	for _, x := range list {
		if b.meets(x) {
			return true
		}
	}
	return false
}
