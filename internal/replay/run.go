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

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	baseline "woodlark.example/core/normal"
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
	Skipped    int        `json:"not_judged"` // readings on demand, or by a wrong clock
	Paths      int        `json:"paths"`
	FromAt     *time.Time `json:"from_at"`
	ToAt       *time.Time `json:"to_at"`
	Episodes   []Episode  `json:"episodes"`
	Properties []Property `json:"properties"`
	Incidents  []Incident `json:"incidents"`
	Learning   []Learning `json:"learning"`
	// Unknown are keys of the readings that mean nothing here.
	Unknown []string `json:"unknown_keys"`
}

// Episode is one that would have been told.
type Episode struct {
	From       string            `json:"from"`
	To         string            `json:"to"`
	Family     string            `json:"family"`
	Via        string            `json:"via"`
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
	Family   string             `json:"family"`
	Via      string             `json:"via"`
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
	Paths      []guard.Key      `json:"paths"`
	Confidence float64          `json:"confidence"`
	Sentence   string           `json:"sentence"`
	Measure    baseline.Measure `json:"measure"`
	Excess     float64          `json:"excess"` // ms, or a ratio of loss
}

// Learning is a path that there was too little of to judge it by.
type Learning struct {
	From  string    `json:"from"`
	To    string    `json:"to"`
	Until time.Time `json:"until"`
}

const longestLine = 1 << 20

// Run judges the readings of an input.
func Run(in Input, o Options) (*Output, error) {
	routes, err := readRoutes(in)
	if err != nil {
		return nil, err
	}
	g := guard.New(guard.Options{Calendar: baseline.Calendar{Zone: o.Zone, Holidays: o.Holidays}, Tolerances: o.Tolerances})
	out := &Output{}
	last := map[guard.Key]time.Time{}
	unknown := map[string]bool{}
	next := 0
	n := 0
	lines := bufio.NewScanner(in.Readings)
	lines.Buffer(make([]byte, 64<<10), longestLine)
	for lines.Scan() {
		n++
		data := bytes.TrimSpace(lines.Bytes())
		if len(data) == 0 {
			continue
		}
		var l Line
		if err := json.Unmarshal(data, &l); err != nil {
			return nil, bad(in.ReadingsName, n, err)
		}
		if n <= 1000 {
			noteUnknown(data, unknown)
		}
		if err := l.check(); err != nil {
			return nil, bad(in.ReadingsName, n, err)
		}
		if !l.judged() {
			out.Skipped++
			continue
		}
		k := l.key()
		if was, ok := last[k]; ok && !l.StartedAt.After(was) {
			return nil, bad(in.ReadingsName, n, fmt.Errorf("the reading of %s at %s is not after that of %s: readings come in the order of time", k, l.StartedAt.Format(time.RFC3339), was.Format(time.RFC3339)))
		}
		last[k] = l.StartedAt
		for next < len(routes) && !routes[next].At.After(l.StartedAt) {
			routes[next].note(g)
			next++
		}
		out.Readings++
		if out.FromAt == nil {
			out.FromAt = &l.StartedAt
		}
		at := l.StartedAt.Add(time.Duration(l.SpanS * float64(time.Second)))
		if out.ToAt == nil || at.After(*out.ToAt) {
			out.ToAt = &at
		}
		g.Add(k, l.point())
	}
	if err := lines.Err(); err != nil {
		return nil, bad(in.ReadingsName, n+1, err)
	}
	for ; next < len(routes); next++ {
		routes[next].note(g)
	}
	g.Flush()
	out.Paths = len(g.Keys())
	for k := range unknown {
		out.Unknown = append(out.Unknown, k)
	}
	slices.Sort(out.Unknown)
	out.fill(g, o.Zone)
	return out, nil
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
			y := Property{From: k.From, To: k.To, Family: k.Family, Via: k.Via, Kind: x.Kind, Measure: x.Measure, Since: x.Since.UTC(), ToldAt: x.ToldAt.UTC(), Before: x.Before, Now: x.Now,
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
		y := Incident{BeganAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), EndedAt: utc(x.To), Paths: x.Paths, Confidence: x.Sure, Measure: x.Measure, Excess: x.Added(),
			Segments: x.Ends(), Others: x.OtherEnds(), Sentence: finding.OfIncident(x, len(g.Keys()), nil).Sentence}
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
	found := finding.OfEpisode(told)
	for _, x := range incidents {
		if x.Has(k, number) {
			found = append(found, finding.OfIncident(x, 0, nil))
		}
	}
	y := Episode{From: k.From, To: k.To, Family: k.Family, Via: k.Via, Kind: e.Kind, BeganAt: e.From.UTC(), BeganLowAt: e.Doubt.From.UTC(), BeganTopAt: e.Doubt.To.UTC(),
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
