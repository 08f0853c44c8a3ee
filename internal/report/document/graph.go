package document

import (
	"math"
	"strconv"
)

// Graph is figures over something other than time: throughput over frame sizes, loss over rates.
type Graph struct {
	Title  string // what it is of, in a sentence
	Across string // what lies along the axis, with its unit
	Unit   string // of the values
	Ticks  []Tick // along the axis; where nothing is said, as the points are
	Lines  []GraphLine
	Limits []GraphLimit
}

// Tick is a place on the axis and what it is called.
type Tick struct {
	At   float64
	Says string
}

// GraphLine is a line through points in their order.
type GraphLine struct {
	Name   string
	Points [][2]float64
}

// GraphLimit is a limit: a line from left to right.
type GraphLimit struct {
	At   float64
	Says string
}

func (Graph) part() {}

// Caption is what a graph is of.
func (g Graph) Caption() string { return g.Title }

// The looks of graphs: lines are told apart by dashes and by the marks of their points.
const (
	Second Look = "second" // the line of other figures
	Limit  Look = "limit"
)

const graphHeight = 220.0

// Draw is the graph as shapes.
func (g Graph) Draw() Drawing {
	d := Drawing{W: plotWidth, H: graphHeight}
	left, right, top, bottom := plotLeft+8, plotWidth-plotRight-6, plotTop+14, graphHeight-plotBottom-12
	low, high := math.Inf(1), math.Inf(-1)
	x0, x1 := math.Inf(1), math.Inf(-1)
	var points []PlotPoint
	for _, l := range g.Lines {
		for _, p := range l.Points {
			x0, x1 = min(x0, p[0]), max(x1, p[0])
			low, high = min(low, p[1]), max(high, p[1])
		}
	}
	for _, l := range g.Limits {
		low, high = min(low, l.At), max(high, l.At)
	}
	if math.IsInf(x0, 1) {
		return d
	}
	points = append(points, PlotPoint{Value: &low}, PlotPoint{Value: &high})
	least, w, ticks := Plot{Points: points}.heights()
	if x1 == x0 {
		x0, x1 = x0-1, x1+1
	}
	x := func(v float64) float64 { return left + (v-x0)/(x1-x0)*(right-left) }
	y := func(v float64) float64 { return bottom - min(1, max(0, (v-least)/w))*(bottom-top) }
	add := func(s ...Shape) { d.Shapes = append(d.Shapes, s...) }
	for i, v := range ticks {
		says := strconv.FormatFloat(v, 'g', 6, 64)
		if i == len(ticks)-1 {
			says += " " + g.Unit
		}
		add(Shape{Look: Axis, Points: [][2]float64{{left, y(v)}, {right, y(v)}}}, Shape{Look: Label, Points: [][2]float64{{left - 5, y(v) + 3}}, Text: says, Anchor: "end"})
	}
	const apart = 26.0 // labels that are closer would lie upon each other
	last := math.Inf(-1)
	for _, t := range g.ticks() {
		at := x(t.At)
		add(Shape{Look: Axis, Points: [][2]float64{{at, bottom}, {at, bottom + 4}}})
		if at-last >= apart {
			add(Shape{Look: Label, Points: [][2]float64{{at, bottom + 15}}, Text: t.Says, Anchor: "middle"})
			last = at
		}
	}
	add(Shape{Look: Label, Points: [][2]float64{{right, bottom + 28}}, Text: g.Across, Anchor: "end"})
	for _, l := range g.Limits {
		add(Shape{Look: Limit, Points: [][2]float64{{left, y(l.At)}, {right, y(l.At)}}, Text: l.Says}, Shape{Look: Label, Points: [][2]float64{{left + 6, y(l.At) - 4}}, Text: l.Says, Anchor: "start"})
	}
	key := left
	for i, l := range g.Lines {
		look, mark := Trace, Dot
		if i%2 == 1 {
			look, mark = Second, Half
		}
		var line [][2]float64
		for _, p := range l.Points {
			line = append(line, [2]float64{x(p[0]), y(p[1])})
		}
		if len(line) > 1 {
			add(Shape{Look: look, Points: line})
		}
		for _, p := range line {
			add(Shape{Look: mark, Points: markAt(p, i%2 == 1)})
		}
		if len(g.Lines) > 1 || l.Name != "" {
			add(Shape{Look: mark, Points: markAt([2]float64{key + 4, top - 13}, i%2 == 1)}, Shape{Look: Label, Points: [][2]float64{{key + 12, top - 10}}, Text: l.Name, Anchor: "start"})
			key += 40 + 6*float64(len([]rune(l.Name)))
		}
	}
	return d
}

// ticks are those of the axis: of the points where none are said.
func (g Graph) ticks() []Tick {
	if len(g.Ticks) > 0 {
		return g.Ticks
	}
	known := map[float64]bool{}
	var list []Tick
	for _, l := range g.Lines {
		for _, p := range l.Points {
			if !known[p[0]] {
				known[p[0]] = true
				list = append(list, Tick{p[0], strconv.FormatFloat(p[0], 'g', 4, 64)})
			}
		}
	}
	return list
}

// markAt is the mark of a point: a square, or of the second line a triangle.
func markAt(p [2]float64, second bool) [][2]float64 {
	const r = 3.0
	if second {
		return [][2]float64{{p[0], p[1] - r - 1}, {p[0] + r + 0.5, p[1] + r}, {p[0] - r - 0.5, p[1] + r}}
	}
	return [][2]float64{{p[0] - r, p[1] - r}, {p[0] + r, p[1] - r}, {p[0] + r, p[1] + r}, {p[0] - r, p[1] + r}}
}
