// Package boards keeps pages of one's own, made of parts, and says what stands on them now.
//
//	b, err := x.Add(ctx, boards.Board{Name: "Bridge", Parts: []boards.Part{{Kind: boards.States}}})
//	shown, err := x.Show(ctx, b.Parts)
package boards

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"woodlark.example/core/geo"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/sites"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Options of Boards; all but Land are needed.
type Options struct {
	Store     *store.Store
	Notices   *notices.Notices
	Fleet     *fleet.Fleet
	Paths     *paths.Paths
	Watches   *watches.Watches
	Incidents *incidents.Incidents
	Reports   *reports.Reports
	Sites     *sites.Sites
	Zone      *time.Location
	// Views are the paths as they stand now, worst first.
	Views func() []reports.View
	// Land is the outline that maps have; they have none without it.
	Land func() []geo.Ring
}

// Kind is what a part shows.
type Kind string

// The kinds of parts.
const (
	States    Kind = "states"
	Worst     Kind = "worst"
	Plot      Kind = "plot"
	Matrix    Kind = "matrix"
	Trend     Kind = "trend"
	Voice     Kind = "voice"
	Map       Kind = "map"
	Incidents Kind = "incidents"
	Text      Kind = "text"
)

// Kinds are all of them.
func Kinds() []Kind {
	return []Kind{States, Worst, Plot, Matrix, Trend, Voice, Map, Incidents, Text}
}

// Part is a part of a board.
type Part struct {
	Kind   Kind   `json:"kind" yaml:"kind" enum:"states,worst,plot,matrix,trend,voice,map,incidents,text"`
	Title  string `json:"title,omitempty" yaml:"title,omitempty" maxLength:"200" doc:"What it is called; what it shows, when left out"`
	Width  int    `json:"width" yaml:"width" minimum:"0" maximum:"12" doc:"In columns, of which a board has 12; 0 for what is usual"`
	Height int    `json:"height" yaml:"height" minimum:"0" maximum:"6" doc:"In rows; 0 for what is usual"`

	Sites   []string `json:"sites,omitempty" yaml:"sites,omitempty" doc:"Of paths with these sites at either end"`
	Agents  []string `json:"agents,omitempty" yaml:"agents,omitempty"`
	Targets []string `json:"targets,omitempty" yaml:"targets,omitempty"`
	Tags    []string `json:"tags,omitempty" yaml:"tags,omitempty" doc:"Of watches"`
	Labels  []string `json:"labels,omitempty" yaml:"labels,omitempty" doc:"Of agents"`

	Measure string `json:"measure,omitempty" yaml:"measure,omitempty" enum:"rtt,jitter,loss,mos" doc:"Of matrix and trend; rtt when left out"`
	Last    string `json:"last,omitempty" yaml:"last,omitempty" doc:"Of plot and trend: how far back, such as 6h or 168h; 24h when left out"`
	Most    int    `json:"most,omitempty" yaml:"most,omitempty" minimum:"0" maximum:"100" doc:"Of worst and voice: how many lines; 10 when left out"`
	From    string `json:"from,omitempty" yaml:"from,omitempty" doc:"Of plot: the agent of its path"`
	To      string `json:"to,omitempty" yaml:"to,omitempty" doc:"Of plot: the target of its path"`
	Family  int    `json:"family,omitempty" yaml:"family,omitempty" doc:"Of plot: 4 or 6; that which is there, when left out"`
	Via     string `json:"via,omitempty" yaml:"via,omitempty" doc:"Of plot: such as icmp or tcp:443; that which is there, when left out"`
	Text    string `json:"text,omitempty" yaml:"text,omitempty" doc:"Of text: what stands there"`
}

// of is which paths it is of.
func (p Part) of() selection.Selection {
	return selection.Selection{Sites: p.Sites, Agents: p.Agents, Targets: p.Targets, Tags: p.Tags, Labels: p.Labels}
}

// Board is a page of one's own.
type Board struct {
	ID    ident.ID `json:"-"`
	Name  string   `json:"-"`
	Parts []Part   `json:"parts"`
	// SharedWith are the names of the people who see it; all do when there are none.
	SharedWith []string  `json:"shared_with,omitempty"`
	Revision   int       `json:"-"`
	ChangedBy  string    `json:"-"`
	ChangedAt  time.Time `json:"-"`
}

// Boards are all of them. It is safe for concurrent use.
type Boards struct {
	Options
	change sync.Mutex // held by who changes them, the database included
	mu     sync.Mutex
	list   []Board // by name
	seen   seen
	past   map[string]past // of trends, by what they are of
}

const (
	mostBoards = 500
	mostName   = 100
	mostParts  = 40
	mostText   = 10_000
	columns    = 12
	tallest    = 6
)

// New knows no board.
func New(o Options) *Boards {
	if o.Land == nil {
		o.Land = func() []geo.Ring { return nil }
	}
	return &Boards{Options: o, past: map[string]past{}}
}

// Load takes up what is kept.
func (x *Boards) Load(ctx context.Context) error {
	rows, err := x.Store.Boards(ctx)
	if err != nil {
		return err
	}
	list := make([]Board, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Body), &list[i]); err != nil {
			return fmt.Errorf("read board %q: %w", r.Name, err)
		}
		list[i].ID, list[i].Name, list[i].Revision, list[i].ChangedBy, list[i].ChangedAt = r.ID, r.Name, r.Revision, r.ChangedBy, r.ChangedAt
	}
	x.set(list)
	return nil
}

func (x *Boards) set(list []Board) {
	slices.SortFunc(list, func(a, b Board) int {
		return cmp.Or(cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), cmp.Compare(a.Name, b.Name))
	})
	x.mu.Lock()
	defer x.mu.Unlock()
	x.list = list
}

// All are the boards, by name.
func (x *Boards) All() []Board {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Clone(x.list)
}

// Find is a board by its identifier or its name; the error wraps store.ErrNotFound, and says which
// there are.
func (x *Boards) Find(what string) (Board, error) { return find(x.All(), what) }

// FindFor is Find among the boards that somebody sees.
func (x *Boards) FindFor(what string, sees func(Board) bool) (Board, error) {
	return find(slices.DeleteFunc(x.All(), func(b Board) bool { return !sees(b) }), what)
}

func find(all []Board, what string) (Board, error) {
	names := make([]string, len(all))
	for i, b := range all {
		if b.ID.String() == what || strings.EqualFold(b.Name, what) {
			return b, nil
		}
		names[i] = b.Name
	}
	if len(names) == 0 {
		return Board{}, fmt.Errorf("there is no board %q, and no other: %w", kind.Shorten(what), store.ErrNotFound)
	}
	return Board{}, fmt.Errorf("there is no board %q; there are %s: %w", kind.Shorten(what), strings.Join(names, ", "), store.ErrNotFound)
}

// check says what cannot be, and fills in what is usual.
func (b *Board) check() error {
	b.Name = strings.TrimSpace(b.Name)
	switch {
	case b.Name == "" || len(b.Name) > mostName || !utf8.ValidString(b.Name) || strings.ContainsFunc(b.Name, unicode.IsControl):
		return fmt.Errorf("%w: a board needs a name of up to %d bytes in one line", kind.ErrInvalid, mostName)
	}
	if _, err := ident.Parse(b.Name); err == nil {
		return fmt.Errorf("%w: %q looks like an identifier; choose another name", kind.ErrInvalid, b.Name)
	}
	b.Parts = slices.Clone(b.Parts)
	return Check(b.Parts)
}

// Check says what of parts cannot be, and fills in what is usual; the error wraps kind.ErrInvalid.
func Check(parts []Part) error {
	if len(parts) > mostParts {
		return fmt.Errorf("%w: %d parts are more than %d", kind.ErrInvalid, len(parts), mostParts)
	}
	for i := range parts {
		if err := parts[i].check(); err != nil {
			return fmt.Errorf("%w: part %d: %w", kind.ErrInvalid, i+1, err)
		}
	}
	return nil
}

// usual is how wide and high a part is when nothing is said.
var usual = map[Kind][2]int{States: {4, 1}, Worst: {6, 2}, Plot: {6, 2}, Matrix: {12, 2}, Trend: {6, 2}, Voice: {6, 2}, Map: {8, 3}, Incidents: {6, 1}, Text: {4, 1}}

// takes are the fields that each kind has a use for, beside title, width and height.
var takes = map[Kind]string{States: "of", Worst: "of most", Plot: "from to family via last", Matrix: "of measure", Trend: "of measure last", Voice: "of most", Map: "of", Incidents: "of", Text: "text"}

func (p *Part) check() error {
	size, known := usual[p.Kind]
	if !known {
		names := make([]string, len(Kinds()))
		for i, k := range Kinds() {
			names[i] = string(k)
		}
		return fmt.Errorf("%q is none of %s", kind.Shorten(string(p.Kind)), strings.Join(names, ", "))
	}
	given := map[string]bool{"of": !p.of().All(), "measure": p.Measure != "", "last": p.Last != "", "most": p.Most != 0, "from": p.From != "", "to": p.To != "", "family": p.Family != 0, "via": p.Via != "", "text": p.Text != ""}
	for _, field := range []string{"of", "measure", "last", "most", "from", "to", "family", "via", "text"} {
		if given[field] && !slices.Contains(strings.Fields(takes[p.Kind]), field) {
			if field == "of" {
				field = "a choice of paths"
			}
			return fmt.Errorf("%s has no use for %s", p.Kind, field)
		}
	}
	p.Width, p.Height = cmp.Or(p.Width, size[0]), cmp.Or(p.Height, size[1])
	if err := p.of().Check(); err != nil {
		return err
	}
	switch {
	case p.Width < 1 || p.Width > columns:
		return fmt.Errorf("a width of %d is not within 1 and %d columns", p.Width, columns)
	case p.Height < 1 || p.Height > tallest:
		return fmt.Errorf("a height of %d is not within 1 and %d rows", p.Height, tallest)
	case len(p.Title) > 200 || !utf8.ValidString(p.Title):
		return fmt.Errorf("the title has %d bytes; 200 of UTF-8 at most are kept", len(p.Title))
	case len(p.Text) > mostText || !utf8.ValidString(p.Text):
		return fmt.Errorf("the text has %d bytes; %d of UTF-8 at most are kept", len(p.Text), mostText)
	case p.Kind == Text && strings.TrimSpace(p.Text) == "":
		return fmt.Errorf("a text says nothing")
	case p.Kind == Plot && (p.From == "" || p.To == ""):
		return fmt.Errorf("a plot is of one path: from and to are missing")
	case p.Family != 0 && p.Family != 4 && p.Family != 6:
		return fmt.Errorf("family %d is neither 4 nor 6", p.Family)
	case p.Most < 0 || p.Most > 100:
		return fmt.Errorf("%d lines are not within 1 and 100", p.Most)
	}
	if strings.Contains(takes[p.Kind], "measure") {
		p.Measure = cmp.Or(p.Measure, "rtt")
		if _, known := measures[p.Measure]; !known || p.Kind == Trend && p.Measure == "jitter" {
			return fmt.Errorf("%s shows rtt, loss or mos, or in a matrix jitter, and not %q", p.Kind, kind.Shorten(p.Measure))
		}
	}
	if strings.Contains(takes[p.Kind], "last") {
		p.Last = cmp.Or(p.Last, "24h")
		if _, err := p.span(); err != nil {
			return err
		}
	}
	if strings.Contains(takes[p.Kind], "most") {
		p.Most = cmp.Or(p.Most, 10)
	}
	return nil
}

const (
	shortest = 10 * time.Minute
	longest  = 366 * 24 * time.Hour
)

func (p Part) span() (time.Duration, error) {
	var s kind.Span
	if err := s.Set(p.Last); err != nil {
		return 0, err
	}
	if d := time.Duration(s); d < shortest || d > longest {
		return 0, fmt.Errorf("last %s is not within 10m and 366 days (8784h)", p.Last)
	}
	return time.Duration(s), nil
}

// Add keeps a new board; the error wraps kind.ErrInvalid, or store.ErrTaken when there is one of
// its name.
func (x *Boards) Add(ctx context.Context, b Board) (Board, error) {
	x.change.Lock()
	defer x.change.Unlock()
	if err := b.check(); err != nil {
		return b, err
	}
	all := x.All()
	if len(all) >= mostBoards {
		return b, fmt.Errorf("%w: there are %d boards, as many as may be", kind.ErrInvalid, mostBoards)
	}
	if err := free(all, b); err != nil {
		return b, err
	}
	b.ID, b.Revision, b.ChangedBy, b.ChangedAt = ident.New(), 1, notices.Actor(ctx), time.Now().UTC()
	row, err := b.row()
	if err != nil {
		return b, err
	}
	if err := x.Store.AddBoard(ctx, row); err != nil {
		return b, err
	}
	x.Notices.Changed(ctx, "board_added", b.Name, nil, b)
	x.set(append(all, b))
	return b, nil
}

// free says whether another board has a name.
func free(all []Board, b Board) error {
	for _, o := range all {
		if o.ID != b.ID && strings.EqualFold(o.Name, b.Name) {
			return fmt.Errorf("board %q is there already: the name %w", o.Name, store.ErrTaken)
		}
	}
	return nil
}

func (b Board) row() (store.Board, error) {
	body, err := json.Marshal(b)
	return store.Board{ID: b.ID, Name: b.Name, Body: string(body), Revision: b.Revision, ChangedBy: b.ChangedBy, ChangedAt: b.ChangedAt}, err
}

// Change replaces name and parts of a board. Revision is that which they were made from; the error
// wraps store.ErrChanged when somebody else changed it meanwhile.
func (x *Boards) Change(ctx context.Context, b Board) (Board, error) {
	x.change.Lock()
	defer x.change.Unlock()
	if err := b.check(); err != nil {
		return b, err
	}
	all := x.All()
	i := slices.IndexFunc(all, func(o Board) bool { return o.ID == b.ID })
	if i < 0 {
		return b, fmt.Errorf("board %s: %w", b.ID, store.ErrNotFound)
	}
	if all[i].Revision != b.Revision {
		return b, fmt.Errorf("%w: board %q, by %s: look at it again before you keep yours", store.ErrChanged, all[i].Name, all[i].ChangedBy)
	}
	if err := free(all, b); err != nil {
		return b, err
	}
	b.Revision, b.ChangedBy, b.ChangedAt = b.Revision+1, notices.Actor(ctx), time.Now().UTC()
	row, err := b.row()
	if err != nil {
		return b, err
	}
	if err := x.Store.ChangeBoard(ctx, row); err != nil {
		return b, err
	}
	x.Notices.Changed(ctx, "board_changed", b.Name, all[i], b)
	all[i] = b
	x.set(all)
	return b, nil
}

// Remove removes a board; the error wraps store.ErrNotFound.
func (x *Boards) Remove(ctx context.Context, id ident.ID) error {
	x.change.Lock()
	defer x.change.Unlock()
	all := x.All()
	i := slices.IndexFunc(all, func(o Board) bool { return o.ID == id })
	if i < 0 {
		return fmt.Errorf("board %s: %w", id, store.ErrNotFound)
	}
	if err := x.Store.DeleteBoard(ctx, id); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "board_removed", all[i].Name, all[i], nil)
	x.set(slices.Delete(all, i, i+1))
	return nil
}
