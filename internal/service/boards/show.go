package boards

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/core/objective"
	"woodlark.example/core/voice"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
)

// Shown is what stands on a board at a time.
type Shown struct {
	At    time.Time   `json:"at"`
	Parts []ShownPart `json:"parts"`
}

// ShownPart is what a part shows. Of those below Says the one of its kind is there.
type ShownPart struct {
	Part
	Heading string `json:"heading" doc:"What it is called"`
	Says    string `json:"says,omitempty" doc:"In a sentence, what it shows or why it shows nothing"`

	States    *StatesShown    `json:"states,omitempty"`
	Worst     []WorstShown    `json:"worst,omitempty"`
	Plot      *PlotShown      `json:"plot,omitempty"`
	Matrix    *MatrixShown    `json:"matrix,omitempty"`
	Trend     *TrendShown     `json:"trend,omitempty"`
	Voice     []VoiceShown    `json:"voice,omitempty"`
	Map       *MapShown       `json:"map,omitempty"`
	Incidents []IncidentShown `json:"incidents,omitempty"`

	drawn []document.Part // of plots, trends and maps, where it is printed
}

// StatesShown is how many paths are in which state.
type StatesShown struct {
	Steady     int `json:"steady"`
	Degraded   int `json:"degraded"`
	Lost       int `json:"lost"`
	Unmeasured int `json:"unmeasured"`
}

// WorstShown is a path that is not as it usually is.
type WorstShown struct {
	reports.Ends
	State    string     `json:"state"`
	SinceAt  *time.Time `json:"since_at,omitempty"`
	Sentence string     `json:"sentence"`
}

// PlotShown is of which path a plot is.
type PlotShown struct {
	reports.Ends
	State  string    `json:"state"`
	FromAt time.Time `json:"from_at"`
	ToAt   time.Time `json:"to_at"`
}

// MatrixShown is a measure between agents and targets, as it was last measured.
type MatrixShown struct {
	Unit   string      `json:"unit" doc:"ms, ratio or mos"`
	Agents []string    `json:"agents" doc:"Of the rows"`
	Sought []string    `json:"targets" doc:"Of the columns"`
	Cells  []CellShown `json:"cells" doc:"Those that there are, row by row"`
	Left   int         `json:"paths_left_out,omitempty" doc:"Paths beyond as many rows and columns as are shown"`
}

// CellShown is what is between an agent and a target: of several paths the one that is worst.
type CellShown struct {
	Row    int      `json:"row"`
	Column int      `json:"column"`
	Path   string   `json:"path_id"`
	Family int      `json:"family"`
	Via    string   `json:"via"`
	State  string   `json:"state"`
	Value  *float64 `json:"value,omitempty"`
	Others int      `json:"others,omitempty" doc:"Paths between the same ends, by another family or another kind of probe"`
}

// TrendShown is a measure over many paths, step by step.
type TrendShown struct {
	Unit   string      `json:"unit" doc:"ms, ratio or mos"`
	StepS  float64     `json:"step_s"`
	FromAt time.Time   `json:"from_at"`
	ToAt   time.Time   `json:"to_at"`
	Steps  []TrendStep `json:"steps" doc:"Those in which something was measured"`
}

// TrendStep is a stretch of time. Of RTT and MOS the value is the median over the paths, each with
// its own median round trip or its MOS over the step, and low and high are those that nine of ten
// paths are above and below; of loss the value is that of all packets, and high that of the worst
// path.
type TrendStep struct {
	At    time.Time `json:"at"`
	Paths int       `json:"paths"`
	Value float64   `json:"value"`
	Low   float64   `json:"low"`
	High  float64   `json:"high"`
}

// VoiceShown is how a call over a path would sound.
type VoiceShown struct {
	reports.Ends
	State  string     `json:"state"`
	MOS    *float64   `json:"mos,omitempty"`
	Word   string     `json:"word" doc:"Of who calls: satisfied, some dissatisfied, many dissatisfied, nobody is heard; or unknown"`
	MeanMs *float64   `json:"rtt_mean_ms,omitempty"`
	Jitter *float64   `json:"jitter_ms,omitempty"`
	Loss   *float64   `json:"loss_ratio,omitempty"`
	At     *time.Time `json:"at,omitempty" doc:"Of the reading"`
}

// IncidentShown is an incident that goes on.
type IncidentShown struct {
	ID       string    `json:"id"`
	BeganAt  time.Time `json:"began_at"`
	Sentence string    `json:"sentence"`
	Advice   string    `json:"advice,omitempty"`
	Paths    int       `json:"paths"`
}

// named is a measure as a heading begins with it.
func named(measure string) string {
	name := document.MeasureName(measure)
	return strings.ToUpper(name[:1]) + name[1:]
}

// measures are those that can be shown, with their units.
var measures = map[string]string{"rtt": "ms", "jitter": "ms", "loss": "ratio", "mos": "mos"}

// seen are the paths as they were a moment ago: several boards on several walls ask at once.
type seen struct {
	mu    sync.Mutex
	at    time.Time
	views []reports.View
	about map[ident.ID]selection.About
}

const seenFor = 2 * time.Second

func (x *Boards) look(now time.Time) ([]reports.View, map[ident.ID]selection.About) {
	s := &x.seen
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.views != nil && now.Sub(s.at) < seenFor {
		return s.views, s.about
	}
	known := selection.New(x.Paths, x.Fleet, x.Watches)
	s.views, s.about, s.at = x.Views(), map[ident.ID]selection.About{}, now
	for _, v := range s.views {
		if p := x.Paths.ByID(v.ID); p != nil {
			s.about[v.ID] = known.Path(p)
		}
	}
	return s.views, s.about
}

// Show is what stands on parts now; the error wraps kind.ErrInvalid when they cannot be.
func (x *Boards) Show(ctx context.Context, parts []Part) (*Shown, error) {
	return x.show(ctx, parts, false)
}

func (x *Boards) show(ctx context.Context, parts []Part, printed bool) (*Shown, error) {
	parts = slices.Clone(parts)
	if err := Check(parts); err != nil {
		return nil, err
	}
	m := &making{Boards: x, now: time.Now(), printed: printed}
	m.all, m.about = x.look(m.now)
	out := &Shown{At: m.now.UTC(), Parts: make([]ShownPart, len(parts))}
	for i, p := range parts {
		out.Parts[i] = ShownPart{Part: p, Heading: cmp.Or(p.Title, headings[p.Kind])}
		if err := m.part(ctx, &out.Parts[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

var headings = map[Kind]string{States: "Paths by state", Worst: "Worst paths", Plot: "Round trip and loss", Matrix: "From agents to targets", Trend: "Over time", Voice: "Voice quality", Map: "Sites", Incidents: "What goes on", Text: "To know"}

// making is a board as it comes about.
type making struct {
	*Boards
	now     time.Time
	all     []reports.View
	about   map[ident.ID]selection.About
	printed bool // plots and maps are drawn, too
}

func (m *making) chosen(p Part) []reports.View {
	of := p.of()
	if of.All() {
		return m.all
	}
	var list []reports.View
	for _, v := range m.all {
		if of.Takes(m.about[v.ID]) {
			list = append(list, v)
		}
	}
	return list
}

func (m *making) part(ctx context.Context, p *ShownPart) error {
	views := m.chosen(p.Part)
	if len(views) == 0 && p.Kind != Text && p.Kind != Plot && p.Kind != Map {
		p.Says = "No watched path is of this choice."
		if p.of().All() {
			p.Says = "No path is watched yet."
		}
		return nil
	}
	switch p.Kind {
	case States:
		m.states(p, views)
	case Worst:
		m.worst(p, views)
	case Plot:
		return m.plot(ctx, p)
	case Matrix:
		m.matrix(p, views)
	case Trend:
		return m.trend(ctx, p, views)
	case Voice:
		m.voice(p, views)
	case Map:
		m.sitesMap(p, views)
	case Incidents:
		m.incidents(p, views)
	}
	return nil
}

func endsOf(v reports.View) reports.Ends {
	return reports.Ends{Path: v.ID.String(), From: v.Agent.Name, To: v.Target, Family: int(v.Family), Via: v.Via}
}

func (m *making) states(p *ShownPart, views []reports.View) {
	p.States = &StatesShown{}
	n := map[guard.State]*int{guard.StateSteady: &p.States.Steady, guard.StateDegraded: &p.States.Degraded, guard.StateLost: &p.States.Lost, guard.StateUnmeasured: &p.States.Unmeasured}
	for _, v := range views {
		*n[v.Verdict.State]++
	}
}

func (m *making) worst(p *ShownPart, views []reports.View) {
	p.Worst = []WorstShown{}
	more := 0
	for _, v := range views { // which come worst first
		if v.Verdict.State == guard.StateSteady {
			continue
		}
		if len(p.Worst) == p.Most {
			more++
			continue
		}
		w := WorstShown{Ends: endsOf(v), State: string(v.Verdict.State)}
		if !v.Verdict.Since.IsZero() {
			since := v.Verdict.Since.UTC()
			w.SinceAt = &since
		}
		if len(v.Findings) > 0 {
			w.Sentence = v.Findings[0].Sentence
		}
		p.Worst = append(p.Worst, w)
	}
	switch {
	case len(p.Worst) == 0:
		p.Says = fmt.Sprintf("All %d paths are as they usually are.", len(views))
		if len(views) == 1 {
			p.Says = "The path is as it usually is."
		}
	case more > 0:
		p.Says = fmt.Sprintf("%d more are not steady.", more)
	}
}

func (m *making) plot(ctx context.Context, p *ShownPart) error {
	var found []reports.View
	for _, v := range m.all {
		if v.Agent.Name == p.From && strings.EqualFold(v.Target, p.To) && (p.Family == 0 || int(v.Family) == p.Family) && (p.Via == "" || v.Via == p.Via) {
			found = append(found, v)
		}
	}
	slices.SortStableFunc(found, func(a, b reports.View) int { return cmp.Compare(a.Family, b.Family) })
	if len(found) == 0 {
		p.Says = fmt.Sprintf("No path from %s to %s is watched.", p.From, p.To)
		return nil
	}
	v := found[0]
	last, err := p.span()
	if err != nil {
		return err
	}
	p.Plot = &PlotShown{Ends: endsOf(v), State: string(v.Verdict.State), FromAt: m.now.Add(-last).UTC(), ToAt: m.now.UTC()}
	if len(v.Findings) > 0 {
		p.Says = v.Findings[0].Sentence
	}
	if p.Title == "" {
		p.Heading = fmt.Sprintf("%s → %s", v.Agent.Name, v.Target)
	}
	if m.printed {
		drawn, err := m.Reports.Plot(ctx, v.ID, p.Plot.FromAt, p.Plot.ToAt)
		if err != nil {
			return err
		}
		p.drawn = append(p.drawn, drawn)
	}
	return nil
}

// value is a measure of a path as it was last read; nil when it was not, or is not known any more.
func value(v reports.View, measure string) *float64 {
	if v.Last == nil || v.Verdict.State == guard.StateUnmeasured {
		return nil
	}
	f := v.Last.Reading.Figures()
	switch measure {
	case "rtt":
		return f.RTTMedianMs
	case "jitter":
		return f.JitterMs
	}
	ratio, known := v.Last.Reading.Loss().Value().Get()
	switch {
	case !known:
		return nil
	case measure == "loss":
		return &ratio
	case f.RTTMeanMs == nil:
		return nil
	}
	mos := objective.CallQuality(time.Duration(*f.RTTMeanMs*float64(time.Millisecond)), ratio)
	return &mos
}

const (
	mostRows    = 60
	mostColumns = 40
)

func (m *making) matrix(p *ShownPart, views []reports.View) {
	x := &MatrixShown{Unit: measures[p.Measure], Agents: []string{}, Sought: []string{}, Cells: []CellShown{}}
	for _, v := range views {
		x.Agents, x.Sought = append(x.Agents, v.Agent.Name), append(x.Sought, v.Target)
	}
	for most, list := range map[int]*[]string{mostRows: &x.Agents, mostColumns: &x.Sought} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
		*list = (*list)[:min(most, len(*list))]
	}
	at := map[[2]int]int{}
	for _, v := range views { // the worst first
		row, isRow := slices.BinarySearch(x.Agents, v.Agent.Name)
		column, isColumn := slices.BinarySearch(x.Sought, v.Target)
		if !isRow || !isColumn {
			x.Left++
			continue
		}
		if i, there := at[[2]int{row, column}]; there {
			x.Cells[i].Others++
			continue
		}
		at[[2]int{row, column}] = len(x.Cells)
		x.Cells = append(x.Cells, CellShown{Row: row, Column: column, Path: v.ID.String(), Family: int(v.Family), Via: v.Via, State: string(v.Verdict.State), Value: value(v, p.Measure)})
	}
	slices.SortFunc(x.Cells, func(a, b CellShown) int { return cmp.Or(a.Row-b.Row, a.Column-b.Column) })
	p.Matrix = x
	if p.Title == "" {
		p.Heading = named(p.Measure) + " from agents to targets"
	}
	if x.Left > 0 {
		p.Says = fmt.Sprintf("%d paths are beyond the first %d agents and %d targets.", x.Left, mostRows, mostColumns)
	}
}

// The words of G.107 Annex B for how content users are.
const (
	satisfied = 80 // R from which they are
	some      = 70 // R from which only some are not
)

func wordOf(mos float64) string {
	switch {
	case mos >= voice.MOS(satisfied):
		return "satisfied"
	case mos >= voice.MOS(some):
		return "some dissatisfied"
	}
	return "many dissatisfied"
}

func (m *making) voice(p *ShownPart, views []reports.View) {
	list := make([]VoiceShown, len(views))
	counts := map[string]int{}
	for i, v := range views {
		list[i] = VoiceShown{Ends: endsOf(v), State: string(v.Verdict.State), MOS: value(v, "mos"), Word: "unknown", Jitter: value(v, "jitter"), Loss: value(v, "loss")}
		if list[i].MOS != nil {
			list[i].Word, list[i].MeanMs = wordOf(*list[i].MOS), v.Last.Reading.Figures().RTTMeanMs
		} else if v.Verdict.State == guard.StateLost {
			list[i].Word = "nobody is heard"
		}
		if v.Last != nil {
			at := v.Last.Reading.At.Add(v.Last.Reading.Span).UTC()
			list[i].At = &at
		}
		counts[list[i].Word]++
	}
	rank := func(v VoiceShown) float64 {
		switch {
		case v.MOS != nil:
			return *v.MOS
		case v.State == string(guard.StateLost):
			return 0 // nobody is heard at all
		}
		return 5
	}
	slices.SortStableFunc(list, func(a, b VoiceShown) int { return cmp.Compare(rank(a), rank(b)) })
	var says []string
	for _, w := range []string{"satisfied", "some dissatisfied", "many dissatisfied", "nobody is heard", "unknown"} {
		if counts[w] > 0 {
			says = append(says, fmt.Sprintf("%d %s", counts[w], w))
		}
	}
	p.Says = "Who calls over these paths (ITU-T G.107, G.711), estimated of round trip and loss of the last reading: " + strings.Join(says, ", ") + "."
	if len(list) > p.Most {
		p.Says += fmt.Sprintf(" The worst %d are listed.", p.Most)
	}
	p.Voice = list[:min(len(list), p.Most)]
}

func (m *making) incidents(p *ShownPart, views []reports.View) {
	p.Incidents = []IncidentShown{}
	chosen := map[ident.ID]bool{}
	for _, v := range views {
		chosen[v.ID] = true
	}
	ids := m.Paths.IDs()
	for _, x := range m.Boards.Incidents.Open() {
		n := 0
		for _, member := range x.Members {
			if chosen[ids[member.Path]] {
				n++
			}
		}
		if n > 0 {
			p.Incidents = append(p.Incidents, IncidentShown{ID: x.ID.String(), BeganAt: x.From.UTC(), Sentence: x.Finding.Sentence, Advice: x.Finding.Advice, Paths: n})
		}
	}
	if len(p.Incidents) == 0 {
		p.Says = "No incident goes on."
	}
}
