package compare

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"woodlark.example/core/capacity"
)

// Side is one of the two.
type Side struct {
	Name    string   `json:"name"`
	What    string   `json:"what"`            // such as a run of a ping, or the readings of an hour
	Short   string   `json:"short,omitempty"` // by which the sentence calls it; its name when empty
	Figures []Figure `json:"figures"`
	Route   []string `json:"route,omitempty"` // hops, where it is known
	Notes   []string `json:"notes,omitempty"` // what has to be known of it
}

// called is what the sentence calls it.
func (s Side) called() string {
	if s.Short != "" {
		return s.Short
	}
	return s.Name
}

// State is what is known of a difference.
type State string

// The states.
const (
	Differs State = "differs"  // surely, and by as much as is worth speaking of
	Alike   State = "alike"    // surely by less than that
	NotTold State = "not_told" // it may differ by as much, or not: too little was measured
	OneOnly State = "one_only" // one side has no such figure
)

// Delta is one figure of both.
type Delta struct {
	Key    string   `json:"key"`
	Name   string   `json:"name"`
	Way    string   `json:"way,omitempty"`
	Unit   string   `json:"unit"`
	A      *float64 `json:"a"`
	B      *float64 `json:"b"`
	By     *float64 `json:"by"` // B less A
	Low    *float64 `json:"by_low"`
	High   *float64 `json:"by_high"`
	State  State    `json:"state"`
	Better string   `json:"better,omitempty"` // a or b, where they surely differ
	Why    string   `json:"why,omitempty"`
}

// Result is the comparison.
type Result struct {
	Sentence    string   `json:"sentence"`
	A           Side     `json:"a"`
	B           Side     `json:"b"`
	Differences []Delta  `json:"differences"` // what surely differs first
	Route       *Routes  `json:"route,omitempty"`
	Notes       []string `json:"notes,omitempty"`
}

// Routes are how two routes differ.
type Routes struct {
	Same  bool     `json:"same"`
	OnlyA []string `json:"only_a"`
	OnlyB []string `json:"only_b"`
}

// Of compares two sides.
func Of(a, b Side) Result {
	r := Result{A: a, B: b, Differences: []Delta{}}
	for _, x := range a.Figures {
		y := find(b.Figures, x)
		if y == nil {
			r.Differences = append(r.Differences, one(x, true))
			continue
		}
		r.Differences = append(r.Differences, between(x, *y))
	}
	for _, y := range b.Figures {
		if find(a.Figures, y) == nil {
			r.Differences = append(r.Differences, one(y, false))
		}
	}
	order := []State{Differs, NotTold, Alike, OneOnly}
	slices.SortStableFunc(r.Differences, func(x, y Delta) int { return slices.Index(order, x.State) - slices.Index(order, y.State) })
	if len(a.Route) > 0 && len(b.Route) > 0 {
		r.Route = routes(a.Route, b.Route)
	}
	for _, s := range []Side{a, b} {
		for _, n := range s.Notes {
			r.Notes = append(r.Notes, s.Name+": "+n)
		}
	}
	r.Sentence = r.sentence()
	return r
}

func find(list []Figure, f Figure) *Figure {
	for i := range list {
		if list[i].Key == f.Key && list[i].Way == f.Way && list[i].Unit == f.Unit {
			return &list[i]
		}
	}
	return nil
}

func one(f Figure, isA bool) Delta {
	d := Delta{Key: f.Key, Name: f.Name, Way: f.Way, Unit: f.Unit, State: OneOnly}
	if isA {
		d.A, d.Why = f.At, "the second has no such figure"
	} else {
		d.B, d.Why = f.At, "the first has no such figure"
	}
	return d
}

// between compares a figure of both: the interval of the difference comes from those of both
// (MOVER, Zou and Donner 2008; of two ratios by Wilson's intervals it is Newcombe's method 10).
func between(a, b Figure) Delta {
	d := Delta{Key: a.Key, Name: a.Name, Way: a.Way, Unit: a.Unit, A: a.At, B: b.At}
	if a.At == nil || b.At == nil {
		d.State, d.Why = OneOnly, "one of both was not measured"
		return d
	}
	by := *b.At - *a.At
	d.By = &by
	if a.Low == nil || a.High == nil || b.Low == nil || b.High == nil {
		d.State, d.Why = NotTold, "of one of both it is not known how sure it is: too little was measured"
		return d
	}
	low := by - math.Hypot(*b.At-*b.Low, *a.High-*a.At)
	high := by + math.Hypot(*b.High-*b.At, *a.At-*a.Low)
	d.Low, d.High = &low, &high
	worth := max(a.Worth, b.Worth, max(a.Part, b.Part)*min(math.Abs(*a.At), math.Abs(*b.At)))
	switch {
	case (low > 0 || high < 0) && math.Abs(by) >= worth:
		d.State = Differs
		if d.Better = "a"; (by > 0) == a.MoreIsBetter {
			d.Better = "b"
		}
	case low >= -worth && high <= worth:
		d.State = Alike
	default:
		d.State, d.Why = NotTold, fmt.Sprintf("it may differ by up to %s, or not at all", Written(max(math.Abs(low), math.Abs(high)), a.Unit))
		if low > 0 || high < 0 {
			d.State, d.Why = Alike, "it differs surely, and by less than is worth speaking of"
		}
	}
	return d
}

// routes are how two routes differ; what answered on neither is not told apart.
func routes(a, b []string) *Routes {
	x := &Routes{OnlyA: []string{}, OnlyB: []string{}}
	for _, h := range a {
		if h != "?" && !slices.Contains(b, h) {
			x.OnlyA = append(x.OnlyA, h)
		}
	}
	for _, h := range b {
		if h != "?" && !slices.Contains(a, h) {
			x.OnlyB = append(x.OnlyB, h)
		}
	}
	x.Same = len(x.OnlyA) == 0 && len(x.OnlyB) == 0
	return x
}

// most is how many differences the sentence names.
const most = 3

// sentence says what differs surely.
func (r Result) sentence() string {
	var said []string
	better := map[string]int{}
	sure, told := 0, 0
	for _, d := range r.Differences {
		if d.State == Differs || d.State == Alike {
			told++
		}
		if d.State != Differs {
			continue
		}
		sure++
		better[d.Better]++
		if len(said) < most {
			said = append(said, d.says())
		}
	}
	if sure > most {
		said = append(said, fmt.Sprintf("and %d more", sure-most))
	}
	route := ""
	if r.Route != nil && !r.Route.Same {
		route = " The way differs, too."
	}
	switch {
	case sure == 0 && told == 0:
		return "It could not be told whether they differ: " + r.why() + "." + strings.Replace(route, ", too", "", 1)
	case sure == 0:
		return "No figure surely differs by as much as is worth speaking of." + strings.Replace(route, ", too", "", 1)
	case better["b"] == 0:
		return fmt.Sprintf("%s is worse than %s: %s.%s", r.B.called(), r.A.called(), strings.Join(said, "; "), route)
	case better["a"] == 0:
		return fmt.Sprintf("%s is better than %s: %s.%s", r.B.called(), r.A.called(), strings.Join(said, "; "), route)
	}
	return fmt.Sprintf("%s against %s, better in part and worse in part: %s.%s", r.B.called(), r.A.called(), strings.Join(said, "; "), route)
}

func (r Result) why() string {
	if len(r.Differences) == 0 {
		return "they have no figure in common"
	}
	return "too little was measured, or they have no figure in common"
}

// says is a difference in words.
func (d Delta) says() string {
	text := d.Name
	if d.Way != "" {
		text += " " + d.Way
	}
	more := "+"
	if *d.By < 0 {
		more = "−"
	}
	return fmt.Sprintf("%s %s against %s (%s%s)", text, Written(*d.B, d.Unit), Written(*d.A, d.Unit), more, Written(math.Abs(*d.By), d.Unit))
}

// Written writes a figure with its unit.
func Written(v float64, unit string) string {
	switch unit {
	case "ms":
		return fmt.Sprintf("%.3g ms", v)
	case "bit/s":
		return capacity.Rate(v).String()
	case "ratio":
		return fmt.Sprintf("%.3g %%", v*100)
	case "":
		return fmt.Sprintf("%g", v)
	}
	return fmt.Sprintf("%.3g %s", v, unit)
}
