package world

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

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
	World   string       `yaml:"world"`
	Seed    uint64       `yaml:"seed"`
	Zone    string       `yaml:"zone"`
	Nodes   []fileNode   `yaml:"nodes"`
	Links   []fileLink   `yaml:"links"`
	Changes []fileChange `yaml:"changes"`
}

type fileNode struct {
	Name           string   `yaml:"name"`
	Site           string   `yaml:"site"`
	Router         bool     `yaml:"router"`
	Addresses      []string `yaml:"addresses"`
	NodeProperties `yaml:",inline"`
}

// NodeProperties are what a file can say of a node and change later; exported only
// because the YAML reader cannot fill an embedded type that is not.
type NodeProperties struct {
	Up   *bool   `yaml:"up"`
	ICMP *Manner `yaml:"icmp"`
}

type fileLink struct {
	Between        []string                  `yaml:"between"`
	Toward         map[string]LinkProperties `yaml:"toward"`
	LinkProperties `yaml:",inline"`
}

// LinkProperties are the same of a link.
type LinkProperties struct {
	Delay     *string `yaml:"delay"`
	Variation *string `yaml:"variation"`
	Loss      *string `yaml:"loss"`
	Load      *string `yaml:"load"`
	Rate      *string `yaml:"rate"`
	Queue     *string `yaml:"queue"`
	Metric    *int    `yaml:"metric"`
	Linked    *bool   `yaml:"linked"`
}

type fileChange struct {
	Link   []string  `yaml:"link"`
	Toward string    `yaml:"toward"`
	Node   string    `yaml:"node"`
	From   string    `yaml:"from"`
	Until  string    `yaml:"until"`
	Daily  string    `yaml:"daily"`
	Weekly string    `yaml:"weekly"`
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

// Read reads a world file. The error names each line that is wrong and wraps
// ErrFile.
func Read(data []byte, o Options) (*Model, error) {
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, fmt.Errorf("%w is empty: it needs at least nodes and links", ErrFile)
	}
	var f fileWorld
	if err := yamlfile.Decode(data, &f); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFile, err)
	}
	tree, err := yamlfile.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFile, err)
	}
	r := &reader{tree: tree, m: &Model{
		Name: f.World, Reference: o.Reference, Zone: o.Zone, seed: mix(f.Seed),
		byName: map[string]int{}, byAddr: map[netip.Addr]int{}, routes: map[string][][]int32{},
	}}
	r.start(f)
	for i, n := range f.Nodes {
		r.node(fmt.Sprintf("$.nodes[%d]", i), n)
	}
	for i, l := range f.Links {
		r.link(fmt.Sprintf("$.links[%d]", i), l)
	}
	for i, c := range f.Changes {
		r.change(fmt.Sprintf("$.changes[%d]", i), c)
	}
	if len(r.errs) > 0 {
		return nil, fmt.Errorf("%w: %w", ErrFile, errors.Join(r.errs...))
	}
	return r.m, nil
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
	if len(f.Nodes) == 0 {
		r.wrong("$", "there are no nodes")
	}
}

func (r *reader) node(place string, n fileNode) {
	node := Node{Name: n.Name, Site: n.Site, Router: n.Router, state: nodeState{up: true, icmp: Answers}}
	if n.Name == "" {
		r.wrong(place, "a node needs a name")
	}
	if _, twice := r.m.byName[n.Name]; twice {
		r.wrong(place+".name", "node %q is there twice", n.Name)
	}
	index := len(r.m.nodes)
	for i, text := range n.Addresses {
		a, err := netip.ParseAddr(text)
		if err != nil {
			r.wrong(fmt.Sprintf("%s.addresses[%d]", place, i), "%q is not an IP address", text)
			continue
		}
		if _, twice := r.m.byAddr[a]; twice {
			r.wrong(fmt.Sprintf("%s.addresses[%d]", place, i), "address %s is given to two nodes", a)
		}
		r.m.byAddr[a] = index
		node.Addresses = append(node.Addresses, a)
	}
	if set := r.nodeSetter(place, n.NodeProperties); set != nil {
		set(&node.state)
	}
	r.m.byName[n.Name] = index
	r.m.nodes = append(r.m.nodes, node)
}

func (r *reader) nodeSetter(place string, p NodeProperties) func(*nodeState) {
	if p.ICMP != nil && !slices.Contains([]Manner{Answers, Drops, Prohibits}, *p.ICMP) {
		r.wrong(place+".icmp", "icmp %q is none of answer, drop, prohibit", *p.ICMP)
	}
	if p.Up == nil && p.ICMP == nil {
		return nil
	}
	return func(s *nodeState) {
		if p.Up != nil {
			s.up = *p.Up
		}
		if p.ICMP != nil {
			s.icmp = *p.ICMP
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
	for toward := range l.Toward {
		if !slices.Contains(l.Between, toward) {
			r.wrong(place+".toward", "%q is not an end of this link", toward)
		}
	}
	for i := range 2 {
		d := direction{from: ends[i], to: ends[1-i], state: linkState{up: true, metric: 10, service: time.Millisecond, queue: 50 * time.Millisecond}}
		if set := r.linkSetter(place, l.LinkProperties); set != nil {
			set(&d.state)
		}
		if own, ok := l.Toward[l.Between[1-i]]; ok {
			if set := r.linkSetter(place+".toward."+l.Between[1-i], own); set != nil {
				set(&d.state)
			}
		}
		r.m.links = append(r.m.links, d)
	}
}

func (r *reader) change(place string, c fileChange) {
	out := change{node: -1, window: window{zone: r.m.Zone}}
	r.window(place, c, &out.window)
	switch {
	case c.Node != "" && len(c.Link) == 0:
		n, err := r.m.Find(c.Node)
		if err != nil {
			r.wrong(place+".node", "%v", err)
			return
		}
		if r.linkSetter(place+".set", c.Set.LinkProperties) != nil {
			r.wrong(place+".set", "a change of a node can set up and icmp only")
		}
		out.node, out.set = n, r.nodeSetter(place+".set", c.Set.NodeProperties)
		if out.set == nil {
			r.wrong(place, "the change sets nothing")
		}
		out.routes = c.Set.Up != nil && r.m.nodes[n].Router
	case len(c.Link) == 2 && c.Node == "":
		out.links = r.directions(place, c)
		out.link = r.linkSetter(place+".set", c.Set.LinkProperties)
		if out.link == nil {
			r.wrong(place, "the change sets nothing of the link")
		}
		out.routes = c.Set.Linked != nil || c.Set.Metric != nil
	default:
		r.wrong(place, "a change needs either \"link\" with two nodes or \"node\"")
		return
	}
	r.m.changes = append(r.m.changes, out)
}

func (r *reader) window(place string, c fileChange, w *window) {
	for _, t := range []struct {
		key, text string
		to        *time.Time
	}{{"from", c.From, &w.from}, {"until", c.Until, &w.to}} {
		if t.text == "" {
			continue
		}
		at, err := instant(t.text, r.m.Reference, r.m.Zone)
		if err != nil {
			r.wrong(place+"."+t.key, "%v", err)
		}
		*t.to = at
	}
	if !w.from.IsZero() && !w.to.IsZero() && !w.to.After(w.from) {
		r.wrong(place+".until", "until is not after from")
	}
	if c.Daily != "" {
		w.weekdays = [7]bool{true, true, true, true, true, true, true}
		if err := w.hours(c.Daily); err != nil {
			r.wrong(place+".daily", "%v", err)
		}
	}
	if c.Weekly != "" {
		if err := w.weekly(c.Weekly); err != nil {
			r.wrong(place+".weekly", "%v", err)
		}
	}
}

func (r *reader) directions(place string, c fileChange) []int {
	var found []int
	for i, l := range r.m.links {
		from, to := r.m.nodes[l.from].Name, r.m.nodes[l.to].Name
		if !(from == c.Link[0] && to == c.Link[1] || from == c.Link[1] && to == c.Link[0]) {
			continue
		}
		if c.Toward == "" || to == c.Toward {
			found = append(found, i)
		}
	}
	if len(found) == 0 {
		r.wrong(place, "there is no link between %q and %q", c.Link[0], c.Link[1])
	}
	return found
}

// Hosts are the nodes that are no routers and have an address.
func (m *Model) Hosts() []Node {
	var hosts []Node
	for _, n := range m.nodes {
		if !n.Router && len(n.Addresses) > 0 {
			hosts = append(hosts, n)
		}
	}
	return hosts
}

// lookup are the addresses of a name.
func (m *Model) lookup(name string, f wire.Family) []netip.Addr {
	i, ok := m.byName[name]
	if !ok {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(m.nodes[i].Addresses), func(a netip.Addr) bool { return f != 0 && wire.FamilyOf(a) != f })
}
