package world

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/internal/network/world/schedule"
	"woodlark.example/internal/yamlfile"
	"woodlark.example/wire"
)

// ErrFile is wrapped by every error about the contents of a world file.
var ErrFile = errors.New("world file")

// Options of Read.
type Options struct {
	// Reference is the instant from which relative times count; now when zero.
	Reference time.Time
	// Zone is used when the file names none; UTC when nil.
	Zone *time.Location
}

type fileWorld struct {
	World       string       `yaml:"world"`
	Story       string       `yaml:"story"`
	Seed        uint64       `yaml:"seed"`
	Zone        string       `yaml:"zone"`
	Convergence string       `yaml:"convergence"`
	Nodes       []fileNode   `yaml:"nodes"`
	Links       []fileLink   `yaml:"links"`
	Changes     []fileChange `yaml:"changes"`
}

type fileNode struct {
	Name           string   `yaml:"name"`
	Aliases        []string `yaml:"aliases"`
	Reverse        *string  `yaml:"reverse"`
	Site           string   `yaml:"site"`
	Router         bool     `yaml:"router"`
	Addresses      []string `yaml:"addresses"`
	Prefixes       []string `yaml:"prefixes"`
	Resolvers      []string `yaml:"resolvers"`
	NodeProperties `yaml:",inline"`
}

type fileLink struct {
	Name           string                    `yaml:"name"`
	Between        []string                  `yaml:"between"`
	Toward         map[string]LinkProperties `yaml:"toward"`
	LinkProperties `yaml:",inline"`
}

type fileChange struct {
	Link   []string  `yaml:"link"`
	Name   string    `yaml:"name"`
	Toward string    `yaml:"toward"`
	Node   string    `yaml:"node"`
	From   string    `yaml:"from"`
	Until  string    `yaml:"until"`
	Daily  string    `yaml:"daily"`
	Weekly string    `yaml:"weekly"`
	Cron   string    `yaml:"cron"`
	For    string    `yaml:"for"`
	Set    setOfBoth `yaml:"set"`
}

type setOfBoth struct {
	LinkProperties `yaml:",inline"`
	NodeProperties `yaml:",inline"`
}

// reader turns a file into a model and gathers what is wrong with it.
type reader struct {
	m    *Model
	tree yamlfile.Tree
	errs []error
}

// The most that a file may hold: every node knows the way to every other.
const (
	mostNodes = 2000
	mostBytes = 8 << 20
)

// Read reads a world file. The error names each line that is wrong and wraps
// ErrFile.
func Read(data []byte, o Options) (*Model, error) {
	r, err := readFile(data, o)
	if err != nil {
		return nil, err
	}
	return r.m, nil
}

func readFile(data []byte, o Options) (*reader, error) {
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, fmt.Errorf("%w is empty: it needs at least nodes and links", ErrFile)
	}
	if len(data) > mostBytes {
		return nil, fmt.Errorf("%w: it has %d MB; at most %d are read", ErrFile, len(data)>>20, mostBytes>>20)
	}
	var f fileWorld
	if err := yamlfile.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFile, err)
	}
	tree, err := yamlfile.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFile, err)
	}
	if len(f.Nodes) > mostNodes {
		return nil, fmt.Errorf("%w: it has %d nodes; at most %d are read", ErrFile, len(f.Nodes), mostNodes)
	}
	r := &reader{tree: tree, m: &Model{
		Name: f.World, Story: f.Story, Reference: o.Reference, Zone: o.Zone, seed: link.Mix(f.Seed),
		byName: map[string]int{}, byAddr: map[netip.Addr]int{}, tables: map[string]*table{},
	}}
	r.start(f)
	r.all(f)
	if len(r.errs) > 0 {
		return nil, fmt.Errorf("%w: %w", ErrFile, errors.Join(r.errs...))
	}
	return r, nil
}

func (r *reader) all(f fileWorld) {
	for i, n := range f.Nodes {
		r.node(fmt.Sprintf("$.nodes[%d]", i), n)
	}
	for i, l := range f.Links {
		r.link(fmt.Sprintf("$.links[%d]", i), l)
	}
	// What a node says of others is read when all are known.
	for i, n := range f.Nodes {
		place := fmt.Sprintf("$.nodes[%d]", i)
		if set := r.nodeSetter(place, i, n.NodeProperties); set != nil {
			set(&r.m.nodes[i].state)
		}
		r.resolvers(place, i, n.Resolvers)
	}
	for i, c := range f.Changes {
		r.change(fmt.Sprintf("$.changes[%d]", i), c)
	}
	slices.SortStableFunc(r.m.prefixes, func(a, b ownedPrefix) int { return b.prefix.Bits() - a.prefix.Bits() })
}

// wrong notes an error at the line of a place in the file.
func (r *reader) wrong(place, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if line := r.tree.Line(place); line > 0 {
		text = fmt.Sprintf("line %d: %s", line, text)
	}
	r.errs = append(r.errs, errors.New(text))
}

func (r *reader) start(f fileWorld) {
	if r.m.Reference.IsZero() {
		r.m.Reference = time.Now()
	}
	if r.m.Zone == nil {
		r.m.Zone = time.UTC
	}
	if f.Zone != "" {
		zone, err := time.LoadLocation(f.Zone)
		if err != nil {
			r.wrong("$.zone", "zone %q is not known; use a name such as \"Europe/Oslo\"", f.Zone)
			return
		}
		r.m.Zone = zone
	}
	if f.Convergence != "" {
		d, err := span(f.Convergence)
		if err != nil {
			r.wrong("$.convergence", "convergence: %v", err)
		}
		r.m.Convergence = d
	}
	if len(f.Nodes) == 0 {
		r.wrong("$", "there are no nodes")
	}
}

func (r *reader) node(place string, n fileNode) {
	node := Node{Name: n.Name, Aliases: n.Aliases, Reverse: n.Name, Site: n.Site, Router: n.Router, state: nodeState{up: true, icmp: Answers}}
	if n.Name == "" {
		r.wrong(place, "a node needs a name")
	}
	if n.Reverse != nil {
		node.Reverse = *n.Reverse
	}
	if _, twice := r.m.byName[n.Name]; twice {
		r.wrong(place+".name", "node %q is there twice", n.Name)
	}
	index := len(r.m.nodes)
	for i, text := range n.Addresses {
		at := fmt.Sprintf("%s.addresses[%d]", place, i)
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" || a.Is4In6() {
			r.wrong(at, "%q is not an IP address", text)
			continue
		}
		if _, twice := r.m.byAddr[a]; twice {
			r.wrong(at, "address %s is given to two nodes", a)
		}
		r.m.byAddr[a] = index
		node.Addresses = append(node.Addresses, a)
	}
	for i, text := range n.Prefixes {
		p, err := netip.ParsePrefix(text)
		if err != nil || p.Masked() != p {
			r.wrong(fmt.Sprintf("%s.prefixes[%d]", place, i), "%q is not a prefix such as \"203.0.113.0/28\"", text)
			continue
		}
		node.Prefixes = append(node.Prefixes, p)
		r.m.prefixes = append(r.m.prefixes, ownedPrefix{p, index})
	}
	r.m.byName[n.Name] = index
	r.m.nodes = append(r.m.nodes, node)
}

func (r *reader) resolvers(place string, node int, names []string) {
	for i, name := range names {
		at := fmt.Sprintf("%s.resolvers[%d]", place, i)
		n, err := r.m.Find(name)
		if err != nil {
			r.wrong(at, "%v", err)
			continue
		}
		if len(r.m.nodes[n].Addresses) == 0 {
			r.wrong(at, "resolver %q has no address", name)
		}
		for _, a := range r.m.nodes[n].Addresses {
			if asked, err := netip.ParseAddr(name); err == nil && asked != a {
				continue
			}
			if _, ok := r.m.nodes[node].Addr(wire.FamilyOf(a)); ok {
				r.m.nodes[node].Resolvers = append(r.m.nodes[node].Resolvers, a)
				break
			}
		}
	}
}

func (r *reader) link(place string, l fileLink) {
	if len(l.Between) != 2 {
		r.wrong(place, "a link needs \"between\" with two nodes")
		return
	}
	ends := [2]int{}
	for i, name := range l.Between {
		n, err := r.m.Find(name)
		if err != nil {
			r.wrong(fmt.Sprintf("%s.between[%d]", place, i), "%v", err)
			return
		}
		ends[i] = n
	}
	if ends[0] == ends[1] {
		r.wrong(place+".between", "a link has two different ends")
		return
	}
	for toward := range l.Toward {
		if !slices.Contains(l.Between, toward) {
			r.wrong(place+".toward", "%q is not an end of this link", toward)
		}
	}
	for i := range 2 {
		d := direction{name: l.Name, from: ends[i], to: ends[1-i], props: link.Default(), seed: link.Mix(r.m.seed ^ uint64(len(r.m.links)+1)*0xbf58476d1ce4e5b9)}
		if set := r.linkSetter(place, l.LinkProperties); set != nil {
			set(&d.props)
		}
		if own, ok := l.Toward[l.Between[1-i]]; ok {
			if set := r.linkSetter(place+".toward."+l.Between[1-i], own); set != nil {
				set(&d.props)
			}
		}
		r.m.links = append(r.m.links, d)
	}
}

func (r *reader) change(place string, c fileChange) {
	out := change{node: -1, window: schedule.Window{Zone: r.m.Zone}}
	r.window(place, c, &out.window)
	switch {
	case c.Node != "" && len(c.Link) == 0:
		n, err := r.m.Find(c.Node)
		if err != nil {
			r.wrong(place+".node", "%v", err)
			return
		}
		if r.linkSetter(place+".set", c.Set.LinkProperties) != nil {
			r.wrong(place+".set", "a change of a node can only set properties of a node")
		}
		out.node, out.set = n, r.nodeSetter(place+".set", n, c.Set.NodeProperties)
		if out.set == nil {
			r.wrong(place, "the change sets nothing of the node")
			return
		}
		out.routes = c.Set.Up != nil && r.m.nodes[n].Router
	case len(c.Link) == 2 && c.Node == "":
		out.links = r.directions(place, c)
		out.link = r.linkSetter(place+".set", c.Set.LinkProperties)
		if out.link == nil {
			r.wrong(place, "the change sets nothing of the link")
			return
		}
		out.routes = c.Set.Linked != nil || c.Set.Metric != nil
	default:
		r.wrong(place, "a change needs either \"link\" with two nodes or \"node\"")
		return
	}
	r.m.changes = append(r.m.changes, out)
}

func (r *reader) window(place string, c fileChange, w *schedule.Window) {
	for _, t := range []struct {
		key, text string
		to        *time.Time
	}{{"from", c.From, &w.From}, {"until", c.Until, &w.Until}} {
		if t.text == "" {
			continue
		}
		at, err := schedule.Instant(t.text, r.m.Reference, r.m.Zone)
		if err != nil {
			r.wrong(place+"."+t.key, "%v", err)
		}
		*t.to = at
	}
	if !w.From.IsZero() && !w.Until.IsZero() && !w.Until.After(w.From) {
		r.wrong(place+".until", "until is not after from")
	}
	if (c.Daily != "") && (c.Weekly != "") {
		r.wrong(place+".weekly", "a change is either daily or weekly")
	}
	if c.Daily != "" {
		if err := w.Daily(c.Daily); err != nil {
			r.wrong(place+".daily", "%v", err)
		}
	} else if c.Weekly != "" {
		if err := w.Weekly(c.Weekly); err != nil {
			r.wrong(place+".weekly", "%v", err)
		}
	}
	if c.Cron != "" {
		hold, err := time.ParseDuration(c.For)
		if c.For != "" && err != nil {
			r.wrong(place+".for", "%q is not a span of time such as \"20m\"", c.For)
		}
		if err := w.Cron(c.Cron, hold); err != nil {
			r.wrong(place+".cron", "%v", err)
		}
	} else if c.For != "" {
		r.wrong(place+".for", "\"for\" belongs to \"cron\"; use from and until")
	}
}

func (r *reader) directions(place string, c fileChange) []int {
	var found []int
	for i, l := range r.m.links {
		from, to := r.m.nodes[l.from].Name, r.m.nodes[l.to].Name
		if !(from == c.Link[0] && to == c.Link[1] || from == c.Link[1] && to == c.Link[0]) || c.Name != "" && l.name != c.Name {
			continue
		}
		if c.Toward == "" || to == c.Toward {
			found = append(found, i)
		}
	}
	switch {
	case c.Toward != "" && !slices.Contains(c.Link, c.Toward):
		r.wrong(place+".toward", "%q is not an end of this link", c.Toward)
	case len(found) == 0 && c.Name != "":
		r.wrong(place, "there is no link %q between %q and %q", c.Name, c.Link[0], c.Link[1])
	case len(found) == 0:
		r.wrong(place, "there is no link between %q and %q", c.Link[0], c.Link[1])
	}
	return found
}
