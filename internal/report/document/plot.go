package document

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Plot is a measure over time: the line of it over the band that was normal, and what was lost
// hanging from the top, longer for more.
type Plot struct {
	Title    string // what it is of, in a sentence
	Unit     string // of the values
	From, To time.Time
	Zone     *time.Location // whose hours stand on the axis; UTC when nil
	Points   []PlotPoint    // in the order of time
	Spans    []PlotSpan     // that are told of
	Flags    []PlotFlag
}

func (Plot) part() {}

// PlotPoint is a stretch of time. What is not known is nil, which leaves a gap.
type PlotPoint struct {
	At        time.Time
	Span      time.Duration
	Value     *float64
	Low, High *float64 // of what was normal
	Lost      float64  // ratio
}

// PlotSpan is a stretch of time that something is told of.
type PlotSpan struct {
	From, To time.Time
	Says     string
}

// PlotFlag is a moment that something is told of.
type PlotFlag struct {
	At   time.Time
	Says string
}

// Drawing is a plot as shapes, from the upper left corner.
type Drawing struct {
	W, H   float64
	Shapes []Shape
}

// Look is how a shape is drawn.
type Look string

// The looks.
const (
	Axis  Look = "axis"  // a hairline
	Band  Look = "band"  // a pale area
	Trace Look = "line"  // the line of figures
	Loss  Look = "loss"  // a short thick line
	Told  Look = "told"  // an area with a border
	Flag  Look = "flag"  // a small area
	Label Look = "label" // a text
)

// Shape is a line, an area when it is closed, or a text at its point.
type Shape struct {
	Look   Look
	Points [][2]float64
	Text   string
	Anchor string // of a text: start, middle, end
}

// Closed reports whether a shape is an area.
func (s Shape) Closed() bool {
	switch s.Look {
	case Band, Told, Flag, Land, Water, Dot, Half:
		return true
	}
	return false
}

const (
	plotWidth, plotHeight = 720.0, 190.0
	plotLeft, plotBottom  = 52.0, 24.0
	plotTop, plotRight    = 12.0, 8.0
	mostLong              = 46.0 // of what hangs from the top; half of that is a quarter of all
)

type scale struct {
	p        Plot
	least, w float64 // value at the bottom, and how much there is to the top
}

func (s scale) x(t time.Time) float64 {
	share := t.Sub(s.p.From).Seconds() / s.p.To.Sub(s.p.From).Seconds()
	return plotLeft + min(1, max(0, share))*(plotWidth-plotLeft-plotRight)
}

func (s scale) y(v float64) float64 {
	return plotHeight - plotBottom - min(1, max(0, (v-s.least)/s.w))*(plotHeight-plotBottom-plotTop)
}

// Draw is the plot as shapes.
func (p Plot) Draw() Drawing {
	d := Drawing{W: plotWidth, H: plotHeight}
	if !p.To.After(p.From) {
		return d
	}
	if p.Zone == nil {
		p.Zone = time.UTC
	}
	s := scale{p: p}
	var ticks []float64
	s.least, s.w, ticks = p.heights()
	add := func(shapes ...Shape) { d.Shapes = append(d.Shapes, shapes...) }
	bottom, right := plotHeight-plotBottom, plotWidth-plotRight
	add(p.bands(s)...)
	for _, x := range p.Spans {
		a, b := s.x(x.From), s.x(x.To)
		add(Shape{Look: Told, Points: [][2]float64{{a, plotTop}, {max(b, a+1), plotTop}, {max(b, a+1), bottom}, {a, bottom}}, Text: x.Says})
	}
	for i, v := range ticks {
		y, says := s.y(v), strconv.FormatFloat(v, 'g', 6, 64)
		if i == len(ticks)-1 {
			says += " " + p.Unit
		}
		add(Shape{Look: Axis, Points: [][2]float64{{plotLeft, y}, {right, y}}}, Shape{Look: Label, Points: [][2]float64{{plotLeft - 5, y + 3}}, Text: says, Anchor: "end"})
	}
	for _, t := range p.hours() {
		x := s.x(t.at)
		add(Shape{Look: Axis, Points: [][2]float64{{x, bottom}, {x, bottom + 4}}})
		if x > plotLeft+18 && x < right-105 {
			add(Shape{Look: Label, Points: [][2]float64{{x, bottom + 15}}, Text: t.says, Anchor: "middle"})
		}
	}
	add(Shape{Look: Label, Points: [][2]float64{{right, bottom + 15}}, Text: p.To.In(p.Zone).Format("2 Jan 15:04 MST"), Anchor: "end"})
	add(p.lines(s)...)
	for _, x := range p.Points {
		if x.Lost > 0 {
			at := s.x(x.At.Add(x.Span / 2))
			add(Shape{Look: Loss, Points: [][2]float64{{at, plotTop}, {at, plotTop + 4 + math.Sqrt(min(1, x.Lost))*(mostLong-4)}}})
		}
	}
	for _, f := range p.Flags {
		x := s.x(f.At)
		add(Shape{Look: Flag, Points: [][2]float64{{x, bottom}, {x - 4, bottom + 7}, {x + 4, bottom + 7}}, Text: f.Says})
	}
	return d
}

// lines are those of the figures, apart where there was none.
func (p Plot) lines(s scale) (list []Shape) {
	var now [][2]float64
	end := time.Time{}
	flush := func() {
		if len(now) == 1 { // a lone figure is seen, too
			now = append(now, [2]float64{now[0][0] + 1.5, now[0][1]})
		}
		if len(now) > 0 {
			list = append(list, Shape{Look: Trace, Points: now})
		}
		now = nil
	}
	for _, x := range p.Points {
		if x.Value == nil || x.At.Sub(end) > x.Span {
			flush()
		}
		end = x.At.Add(x.Span)
		if x.Value != nil {
			now = append(now, [2]float64{s.x(x.At.Add(x.Span / 2)), s.y(*x.Value)})
		}
	}
	flush()
	return list
}

func (p Plot) bands(s scale) (list []Shape) {
	var upper, lower [][2]float64
	flush := func() {
		if len(upper) > 0 {
			for i := len(lower) - 1; i >= 0; i-- {
				upper = append(upper, lower[i])
			}
			list = append(list, Shape{Look: Band, Points: upper})
		}
		upper, lower = nil, nil
	}
	for _, x := range p.Points {
		if x.Low == nil || x.High == nil {
			flush()
			continue
		}
		for _, at := range []time.Time{x.At, x.At.Add(x.Span)} {
			upper, lower = append(upper, [2]float64{s.x(at), s.y(*x.High)}), append(lower, [2]float64{s.x(at), s.y(*x.Low)})
		}
	}
	flush()
	return list
}

// heights are the value at the bottom, how much there is to the top, and the figures that stand
// on the axis.
func (p Plot) heights() (least, w float64, ticks []float64) {
	low, high := math.Inf(1), math.Inf(-1)
	for _, x := range p.Points {
		for _, v := range []*float64{x.Value, x.Low, x.High} {
			if v != nil {
				low, high = min(low, *v), max(high, *v)
			}
		}
	}
	if math.IsInf(low, 1) {
		return 0, 1, nil
	}
	if low > 0 && low < 0.6*high || low == high {
		low = min(low, 0)
	}
	if high == low {
		high = low + 1
	}
	step := math.Pow(10, math.Floor(math.Log10((high-low)/3)))
	for _, m := range []float64{1, 2, 5, 10} {
		if (high-low)/(step*m) <= 5 {
			step *= m
			break
		}
	}
	least = math.Floor(low/step) * step
	top := math.Ceil(high/step) * step
	for v := least; v <= top+step/2; v += step {
		ticks = append(ticks, math.Round(v/step)*step)
	}
	return least, top - least, ticks
}

type hour struct {
	at   time.Time
	says string
}

// hours are those that stand on the axis, at most eight.
func (p Plot) hours() (list []hour) {
	span := p.To.Sub(p.From)
	for _, step := range []int{5, 15, 30, 60, 120, 180, 360, 720, 1440, 2 * 1440, 7 * 1440, 30 * 1440, 90 * 1440, 366 * 1440} {
		if span > 8*time.Duration(step)*time.Minute {
			continue
		}
		t := p.From.In(p.Zone)
		at := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, p.Zone)
		for n := 0; at.Before(p.To) && n < 5000; n++ {
			if !at.Before(p.From) {
				says := at.Format("15:04")
				if at.Hour() == 0 && at.Minute() == 0 {
					says = at.Format("2 Jan")
				}
				list = append(list, hour{at, says})
			}
			// By the wall's clock, so that a day of 23 hours has its midnight where it is.
			at = time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute()+step, 0, 0, p.Zone)
		}
		return list
	}
	return nil
}

// sparkWidth is how many characters a plot has as text.
const sparkWidth = 72

// spark is a plot as a line of characters, the lowest figure at their foot.
func (p Plot) spark() string {
	low, high := math.Inf(1), math.Inf(-1)
	most := make([]float64, sparkWidth)
	for i := range most {
		most[i] = math.Inf(-1)
	}
	for _, x := range p.Points {
		n := int(x.At.Sub(p.From).Seconds() / p.To.Sub(p.From).Seconds() * sparkWidth)
		if x.Value == nil || n < 0 || n >= sparkWidth {
			continue
		}
		most[n] = max(most[n], *x.Value)
		low, high = min(low, *x.Value), max(high, *x.Value)
	}
	if math.IsInf(low, 1) {
		return ""
	}
	steps := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, v := range most {
		if math.IsInf(v, -1) {
			b.WriteByte(' ')
			continue
		}
		n := 0
		if high > low {
			n = int((v - low) / (high - low) * float64(len(steps)-1))
		}
		b.WriteRune(steps[n])
	}
	return fmt.Sprintf("%s  %.4g to %.4g %s", strings.TrimRight(b.String(), " "), low, high, p.Unit)
}
