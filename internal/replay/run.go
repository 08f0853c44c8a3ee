package replay

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
)

// Input is what is judged.
type Input struct {
	Readings     io.Reader
	ReadingsName string    // for messages
	Routes       io.Reader // nil when there are none
	RoutesName   string
}

// Options say how.
type Options struct {
	Zone       *time.Location // whose hours count; UTC when nil
	Holidays   []time.Time
	Tolerances baseline.Tolerances
}

// ErrInput is wrapped by errors that name a line of the input.
var ErrInput = errors.New("the input cannot be judged")

// Output is what would have been told.
type Output struct {
	Readings   int        `json:"readings"`
	Skipped    int        `json:"not_judged"` // readings on demand, by a wrong clock, or beside another
	Paths      int        `json:"paths"`
	FromAt     *time.Time `json:"from_at"`
	ToAt       *time.Time `json:"to_at"`
	Episodes   []Episode  `json:"episodes"`
	Properties []Property `json:"properties"`
	Incidents  []Incident `json:"incidents"`
	Learning   []Learning `json:"learning"`
	// Unknown are keys of the readings that mean nothing here, or not by themselves.
	Unknown []string `json:"unknown_keys"`
}

// Episode is one that would have been told.
type Episode struct {
	From       string            `json:"from"`
	To         string            `json:"to"`
	Family     text              `json:"family"`
	Via        text              `json:"via"`
	Kind       guard.Kind        `json:"kind"`
	Measure    baseline.Measure  `json:"measure"`
	BeganAt    time.Time         `json:"began_at"`
	BeganLowAt time.Time         `json:"began_earliest_at"`
	BeganTopAt time.Time         `json:"began_latest_at"`
	ToldAt     time.Time         `json:"told_at"`
	EndedAt    *time.Time        `json:"ended_at"`
	OverToldAt *time.Time        `json:"over_told_at"`
	Cause      *finding.Code     `json:"cause"`
	Sentence   string            `json:"sentence"`
	Normal     float64           `json:"normal"`
	Worst      float64           `json:"worst"`
	Unit       baseline.Unit     `json:"unit"`
	Times      int               `json:"times"` // that it came, with pauses of under half an hour
	Findings   []finding.Finding `json:"findings"`
	Excesses   []guard.Excess    `json:"measures"`
}

// Property is something that a path keeps to.
type Property struct {
	From     string             `json:"from"`
	To       string             `json:"to"`
	Family   text               `json:"family"`
	Via      text               `json:"via"`
	Kind     guard.PropertyKind `json:"kind"`
	Measure  baseline.Measure   `json:"measure"`
	Since    time.Time          `json:"since"`
	ToldAt   time.Time          `json:"told_at"`
	EndedAt  *time.Time         `json:"ended_at"`
	Sentence string             `json:"sentence"`
	Before   float64            `json:"before"`
	Now      float64            `json:"now"`
}

// Incident is what several paths had in common.
type Incident struct {
	BeganAt    time.Time        `json:"began_at"`
	ToldAt     time.Time        `json:"told_at"`
	EndedAt    *time.Time       `json:"ended_at"`
	Segments   [][2]string      `json:"segments"`
	Others     [][2]string      `json:"other_segments"` // that would explain it as well
	Paths      []Path           `json:"paths"`
	Confidence float64          `json:"confidence"`
	Sentence   string           `json:"sentence"`
	Measure    baseline.Measure `json:"measure"`
	Excess     float64          `json:"excess"` // ms, or a ratio of loss
}

// Path is a path by its ends.
type Path struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Family text   `json:"family"`
	Via    text   `json:"via"`
}

func (p Path) String() string { return p.From + " → " + p.To }

func pathsOf(keys []guard.Key) []Path {
	list := make([]Path, len(keys))
	for i, k := range keys {
		list[i] = Path{k.From, k.To, text(k.Family), text(k.Via)}
	}
	return list
}

// Learning is a path that there was too little of to judge it by.
type Learning struct {
	From  string    `json:"from"`
	To    string    `json:"to"`
	Until time.Time `json:"until"`
}

// stretch is when a reading began, and its middle.
type stretch struct{ at, middle time.Time }

const longestLine = 1 << 20

// Run judges the readings of an input.
func Run(in Input, o Options) (*Output, error) {
	routes, err := readRoutes(in)
	if err != nil {
		return nil, err
	}
	g := guard.New(guard.Options{Calendar: baseline.Calendar{Zone: o.Zone, Holidays: o.Holidays}, Tolerances: o.Tolerances})
	out := &Output{}
	r := &replayer{guard: g, out: out, routes: routes, last: map[guard.Key]stretch{}, unknown: map[string]bool{}}
	n := 0
	lines := bufio.NewScanner(in.Readings)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	for lines.Scan() {
		n++
		data := bytes.TrimSpace(lines.Bytes())
		if len(data) == 0 {
			continue
		}
		if n <= 1000 {
			noteUnknown(data, r.unknown)
		}
		l, err := readLine(data)
		if err == nil {
			err = r.take(l)
		}
		if err != nil {
			return nil, bad(in.ReadingsName, n, err)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, bad(in.ReadingsName, n+1, err)
	}
	r.noteRoutes(nil)
	g.Flush()
	out.Paths = len(g.Keys())
	for k := range r.unknown {
		out.Unknown = append(out.Unknown, k)
	}
	slices.Sort(out.Unknown)
	out.fill(g, o.Zone)
	return out, nil
}

// replayer feeds the guard.
type replayer struct {
	guard   *guard.Guard
	out     *Output
	routes  []RouteLine // those that are still to come
	last    map[guard.Key]stretch
	unknown map[string]bool
}

func readLine(data []byte) (*Line, error) {
	l := &Line{}
	if err := json.Unmarshal(data, l); err != nil {
		return nil, err
	}
	return l, l.check()
}

// take judges the next reading.
func (r *replayer) take(l *Line) error {
	if !l.judged() {
		r.out.Skipped++
		return nil
	}
	k := l.key()
	span := time.Duration(l.SpanS * float64(time.Second))
	was, ok := r.last[k]
	if ok && l.StartedAt.Before(was.at) {
		return fmt.Errorf("the reading of %s at %s is before that of %s: readings come in the order of time", k, l.StartedAt.Format(time.RFC3339), was.at.Format(time.RFC3339))
	}
	// What was measured beside another reading holds the same time twice.
	if ok && l.StartedAt.Before(was.middle) {
		r.out.Skipped++
		return nil
	}
	r.last[k] = stretch{l.StartedAt, l.StartedAt.Add(span / 2)}
	r.noteRoutes(&l.StartedAt)
	r.out.Readings++
	if r.out.FromAt == nil {
		r.out.FromAt = &l.StartedAt
	}
	if at := l.StartedAt.Add(span); r.out.ToAt == nil || at.After(*r.out.ToAt) {
		r.out.ToAt = &at
	}
	if l.loaded() {
		r.guard.AddLoaded(k, l.point())
	} else {
		r.guard.Add(k, l.point())
	}
	if count(l.Sent) == 0 && (l.LossThereRatio != nil || l.LossBackRatio != nil) {
		r.unknown["the loss of a direction without sent"] = true
	}
	return nil
}

// noteRoutes tells the guard of the routes up to a time, or of all that are left.
func (r *replayer) noteRoutes(until *time.Time) {
	for len(r.routes) > 0 && (until == nil || !r.routes[0].At.After(*until)) {
		r.routes[0].note(r.guard)
		r.routes = r.routes[1:]
	}
}

func bad(name string, line int, err error) error {
	if name == "" {
		name = "the readings"
	}
	return fmt.Errorf("%w: %s, line %d: %w", ErrInput, name, line, err)
}

func readRoutes(in Input) ([]RouteLine, error) {
	if in.Routes == nil {
		return nil, nil
	}
	var list []RouteLine
	lines := bufio.NewScanner(in.Routes)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	n := 0
	for lines.Scan() {
		n++
		data := bytes.TrimSpace(lines.Bytes())
		if len(data) == 0 {
			continue
		}
		var r RouteLine
		if err := json.Unmarshal(data, &r); err != nil {
			return nil, bad(in.RoutesName, n, err)
		}
		if r.From == "" || r.To == "" || r.At.IsZero() {
			return nil, bad(in.RoutesName, n, errors.New("a route has from, to, at and hops"))
		}
		list = append(list, r)
	}
	if err := lines.Err(); err != nil {
		return nil, bad(in.RoutesName, n+1, err)
	}
	slices.SortStableFunc(list, func(a, b RouteLine) int { return a.At.Compare(b.At) })
	return list, nil
}

// note tells the guard of a route: on the path that it names, or on all between those ends
// when it names no way of asking.
func (r RouteLine) note(g *guard.Guard) {
	hops := make([]string, len(r.Hops))
	for i, h := range r.Hops {
		if h != nil {
			hops[i] = *h
		}
	}
	k := guard.Key{From: r.From, To: r.To, Family: string(r.Family), Via: r.Via}
	if r.Via != "" && r.Family != "" {
		g.Route(k, r.At, hops)
		return
	}
	hit := false
	for _, other := range g.Keys() {
		if other.From == k.From && other.To == k.To && (k.Family == "" || other.Family == k.Family) && (k.Via == "" || other.Via == k.Via) {
			g.Route(other, r.At, hops)
			hit = true
		}
	}
	if !hit {
		g.Route(k, r.At, hops)
	}
}

// noteUnknown gathers the keys of a reading that mean nothing here.
func noteUnknown(data []byte, unknown map[string]bool) {
	var keys map[string]json.RawMessage
	if json.Unmarshal(data, &keys) != nil {
		return
	}
	for k := range keys {
		if !knownKeys[k] {
			unknown[k] = true
		}
	}
}

// fill says what was told.
func (out *Output) fill(g *guard.Guard, zone *time.Location) {
	now := time.Time{}
	if out.ToAt != nil {
		now = *out.ToAt
	}
	incidents := g.Incidents()
	out.Episodes, out.Properties, out.Incidents, out.Learning = []Episode{}, []Property{}, []Incident{}, []Learning{}
	if out.Unknown == nil {
		out.Unknown = []string{}
	}
	for _, k := range g.Keys() {
		p := g.Path(k)
		for i, e := range p.Episodes() {
			out.Episodes = append(out.Episodes, episodeOf(k, i+1, e, p, incidents, zone, now))
		}
		for _, x := range p.Properties() {
			y := Property{From: k.From, To: k.To, Family: text(k.Family), Via: text(k.Via), Kind: x.Kind, Measure: x.Measure, Since: x.Since.UTC(), ToldAt: x.ToldAt.UTC(), Before: x.Before, Now: x.Now,
				Sentence: finding.OfProperty(x, zone).Sentence, EndedAt: utc(x.EndedAt)}
			out.Properties = append(out.Properties, y)
		}
		if until, is := p.Learning(now); is {
			out.Learning = append(out.Learning, Learning{From: k.From, To: k.To, Until: until.UTC()})
		}
	}
	slices.SortStableFunc(out.Episodes, func(a, b Episode) int { return a.ToldAt.Compare(b.ToldAt) })
	slices.SortStableFunc(out.Properties, func(a, b Property) int { return a.ToldAt.Compare(b.ToldAt) })
	for _, x := range incidents {
		y := Incident{BeganAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), EndedAt: utc(x.To), Paths: pathsOf(x.Paths()), Confidence: x.Sure, Measure: x.Measure, Excess: x.Added(),
			Segments: x.Ends(), Others: x.OtherEnds(), Sentence: finding.OfIncident(x, nil).Sentence}
		if y.Others == nil {
			y.Others = [][2]string{}
		}
		out.Incidents = append(out.Incidents, y)
	}
}

func episodeOf(k guard.Key, number int, e guard.Episode, p *guard.Path, incidents []guard.Incident, zone *time.Location, now time.Time) Episode {
	told := finding.Told{Episode: e, Zone: zone, Now: now}
	if c, ok := p.RouteChangeOf(e); ok {
		told.Route = &c
	}
	for _, x := range incidents {
		if x.Has(k, number) {
			told.Shared = &x
		}
	}
	found := finding.OfEpisode(told)
	y := Episode{From: k.From, To: k.To, Family: text(k.Family), Via: text(k.Via), Kind: e.Kind, BeganAt: e.From.UTC(), BeganLowAt: e.Doubt.From.UTC(), BeganTopAt: e.Doubt.To.UTC(),
		ToldAt: e.ToldAt.UTC(), EndedAt: utc(e.To), OverToldAt: utc(e.OverToldAt), Sentence: found[0].Sentence, Findings: found, Excesses: e.Excesses, Times: len(e.Pauses) + 1}
	if c := finding.Cause(found); c != "" {
		y.Cause = &c
	}
	if x, ok := e.Headline(); ok {
		y.Measure, y.Normal, y.Worst, y.Unit = x.Measure, x.Normal, x.Worst, x.Measure.Unit()
	}
	return y
}

func utc(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}
