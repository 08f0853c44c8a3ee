package boards

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"woodlark.example/core/guard"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/service/reports"
)

// MapShown is sites where they are, and how what is between them stands. Figures are of a drawing
// of that width and height, from its upper left corner.
type MapShown struct {
	Width    float64     `json:"width"`
	Height   float64     `json:"height"`
	Outline  string      `json:"outline" doc:"Of the land, as the d of a path of SVG, to be filled by the even-odd rule; empty where there is none"`
	Places   []SiteShown `json:"sites"`
	Lines    []LineShown `json:"lines"`
	Unplaced []string    `json:"sites_without_place" doc:"Sites of chosen paths of which it is not known where they are"`
	Nowhere  int         `json:"paths_without_site" doc:"Chosen paths of which an end is at no known site"`
}

// SiteShown is a site on the map.
type SiteShown struct {
	Name   string  `json:"name"`
	Lat    float64 `json:"lat_deg"`
	Lon    float64 `json:"lon_deg"`
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
	LabelX float64 `json:"label_x,omitempty"`
	LabelY float64 `json:"label_y,omitempty"`
	Anchor string  `json:"label_anchor,omitempty" doc:"start, middle or end; none when its name has no room"`
	State  string  `json:"state" doc:"The worst of the chosen paths that end there; where none does, the best of those that begin there; unmeasured when there is none"`
	Paths  int     `json:"paths" doc:"Chosen paths from or to it, those within it among them"`
	Note   string  `json:"note,omitempty"`
}

// LineShown is all chosen paths from a site to another.
type LineShown struct {
	From  string      `json:"from_site"`
	To    string      `json:"to_site"`
	X1    float64     `json:"x1"`
	Y1    float64     `json:"y1"`
	X2    float64     `json:"x2"`
	Y2    float64     `json:"y2"`
	State string      `json:"state" doc:"Of the worst of them"`
	Path  string      `json:"path_id" doc:"The worst of them"`
	Count StatesShown `json:"paths"`
	Says  string      `json:"says"`
}

// rank orders states, the worst first.
func rank(s guard.State) int { return slices.Index(guard.States(), s) }

// between is what goes from a site to another.
type between struct {
	from, to string
	worst    reports.View
	count    StatesShown
	all      int
}

func (c *StatesShown) add(s guard.State) {
	switch s {
	case guard.StateSteady:
		c.Steady++
	case guard.StateDegraded:
		c.Degraded++
	case guard.StateLost:
		c.Lost++
	default:
		c.Unmeasured++
	}
}

func (m *making) sitesMap(p *ShownPart, views []reports.View) {
	out := &MapShown{Places: []SiteShown{}, Lines: []LineShown{}, Unplaced: []string{}}
	p.Map = out
	at := map[string]*SiteShown{}
	all := p.of().All()
	for _, s := range m.Sites.All() {
		if s.At != nil {
			at[s.Name] = &SiteShown{Name: s.Name, Lat: s.At.Lat, Lon: s.At.Lon, Note: s.Note}
		}
	}
	to, from := map[string]guard.State{}, map[string]guard.State{}
	lines := map[[2]string]*between{}
	unplaced := map[string]bool{}
	for _, v := range views {
		if v.Agent.Site == "" || v.Site == "" {
			out.Nowhere++
		}
		ends := []string{v.Agent.Site, v.Site}
		for _, site := range slices.Compact(slices.Clone(ends)) {
			if site == "" {
				continue
			}
			if at[site] == nil {
				unplaced[site] = true
				continue
			}
			at[site].Paths++
		}
		// What is wrong at the far end is not to be seen at where it was measured from.
		if was, known := to[v.Site]; !known || rank(v.Verdict.State) < rank(was) {
			to[v.Site] = v.Verdict.State
		}
		if was, known := from[v.Agent.Site]; !known || rank(v.Verdict.State) > rank(was) {
			from[v.Agent.Site] = v.Verdict.State
		}
		if v.Agent.Site == v.Site || at[v.Agent.Site] == nil || at[v.Site] == nil {
			continue
		}
		key := [2]string{v.Agent.Site, v.Site}
		if lines[key] == nil { // the first is the worst
			lines[key] = &between{from: v.Agent.Site, to: v.Site, worst: v}
		}
		if rank(v.Verdict.State) < rank(lines[key].worst.Verdict.State) {
			lines[key].worst = v
		}
		lines[key].count.add(v.Verdict.State)
		lines[key].all++
	}
	for name := range unplaced {
		out.Unplaced = append(out.Unplaced, name)
	}
	slices.Sort(out.Unplaced)
	for name, s := range at {
		if !all && s.Paths == 0 {
			continue // it is of another choice
		}
		s.State = string(cmp.Or(to[name], from[name], guard.StateUnmeasured))
		out.Places = append(out.Places, *s)
	}
	slices.SortFunc(out.Places, func(a, b SiteShown) int { return cmp.Compare(a.Name, b.Name) })
	p.Says = out.says()
	if len(out.Places) == 0 {
		return
	}
	m.place(p, lines)
}

// says tells what is not on the map.
func (s *MapShown) says() string {
	var list []string
	switch {
	case len(s.Places) == 0 && len(s.Unplaced) == 0:
		return "No site is known: say where your sites are and what stands at them, under Settings or by 'woodlark sites'."
	case len(s.Places) == 0:
		list = append(list, "It is not known of any site where it is: say so under Settings or by 'woodlark sites'.")
	}
	switch n := len(s.Unplaced); {
	case n > 12:
		list = append(list, fmt.Sprintf("Without a place: %s and %d more.", strings.Join(s.Unplaced[:12], ", "), n-12))
	case n > 0:
		list = append(list, fmt.Sprintf("Without a place: %s.", strings.Join(s.Unplaced, ", ")))
	}
	switch s.Nowhere {
	case 0:
	case 1:
		list = append(list, "1 path ends at no known site.")
	default:
		list = append(list, fmt.Sprintf("%d paths end at no known site.", s.Nowhere))
	}
	return strings.Join(list, " ")
}

// A map is as wide and high as its part is, about, so that it fills it: units a column and a row,
// and for what stands above and below.
const perColumn, perRow, headed = 92.0, 182.0, 80.0

// place says where all stands in the drawing.
func (m *making) place(p *ShownPart, lines map[[2]string]*between) {
	out := p.Map
	drawn := document.Map{Title: p.Heading, Land: m.Land(), W: perColumn * float64(p.Width), H: perRow*float64(p.Height) - headed}
	index := map[string]int{}
	for i, s := range out.Places {
		index[s.Name] = i
		drawn.Places = append(drawn.Places, document.MapPlace{Name: s.Name, State: s.State, Says: s.Name + ": " + s.State})
		drawn.Places[i].At.Lat, drawn.Places[i].At.Lon = s.Lat, s.Lon
	}
	view := drawn.View()
	out.Width, out.Height = view.W, view.H
	for _, l := range slices.SortedFunc(maps.Values(lines), func(a, b *between) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) }) {
		line := document.MapLine{From: index[l.from], To: index[l.to], State: string(l.worst.Verdict.State)}
		one := LineShown{From: l.from, To: l.to, State: line.State, Path: l.worst.ID.String(), Count: l.count}
		a, b := drawn.Between(view, line)
		one.X1, one.Y1, one.X2, one.Y2 = a[0], a[1], b[0], b[1]
		one.Says = fmt.Sprintf("%s → %s: %s", l.from, l.to, line.State)
		if l.all > 1 {
			one.Says += fmt.Sprintf(", the worst of %d paths", l.all)
		}
		if line.State != string(guard.StateSteady) && len(l.worst.Findings) > 0 {
			one.Says += ". " + l.worst.Findings[0].Sentence
		}
		line.Says = one.Says
		drawn.Lines = append(drawn.Lines, line)
		out.Lines = append(out.Lines, one)
	}
	labels := drawn.Labels(view)
	for i := range out.Places {
		s := &out.Places[i]
		s.X, s.Y = view.XY(drawn.Places[i].At)
		s.LabelX, s.LabelY, s.Anchor = labels[i].X, labels[i].Y, labels[i].Anchor
	}
	var d strings.Builder
	for _, a := range view.Areas(drawn.Land) {
		for i, q := range a.Points {
			command := "L"
			if i == 0 {
				command = "M"
			}
			fmt.Fprintf(&d, "%s%.1f %.1f", command, q[0], q[1])
		}
		d.WriteByte('Z')
	}
	out.Outline = d.String()
	if m.printed {
		p.drawn = append(p.drawn, drawn)
	}
}
