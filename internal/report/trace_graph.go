package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"woodlark.example/core/finding"
)

// graphNode is a node of a route as other programs are given it.
type graphNode struct {
	id, label, address, segment string
	ttl                         int
}

type graphEdge struct {
	from, to string
	flows    int
}

// graphOf joins the edges of traces: the same address at the same hop is one node.
// Who is silent is a node for each hop and what lies before it.
func graphOf(list []finding.TraceReport) (nodes []graphNode, edges []graphEdge) {
	known := map[string]bool{}
	add := func(n graphNode) string {
		if !known[n.id] {
			known[n.id] = true
			nodes = append(nodes, n)
		}
		return n.id
	}
	for _, r := range list {
		start := add(graphNode{id: "from " + r.From, label: r.From, address: r.Source})
		info := map[string]finding.NodeReport{}
		for _, h := range r.Hops {
			for _, n := range h.Nodes {
				info[n.Address] = n
			}
		}
		node := func(ttl int, address, beside string) string {
			if address == "" {
				return add(graphNode{id: fmt.Sprintf("silent %d %s %s", ttl, r.From, r.Address+beside), label: "no answer", ttl: ttl})
			}
			n := info[address]
			return add(graphNode{id: address, label: or(n.Name, address), address: address, segment: n.Segment, ttl: ttl})
		}
		for _, e := range r.Edges {
			from := start
			if e.TTL > 1 {
				from = node(e.TTL-1, e.From, "")
			}
			edges = append(edges, graphEdge{from, node(e.TTL, e.To, ""), e.Flows})
		}
	}
	return nodes, edges
}

// TraceDOT writes routes in the language of the Graphviz programs: an edge is as
// heavy as the flows that were seen to take it.
func TraceDOT(w io.Writer, list []finding.TraceReport) error {
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
	}
	nodes, edges := graphOf(list)
	l := lines{w: w}
	l.put("digraph route {\n  rankdir=LR;\n  node [shape=box, fontname=\"sans-serif\"];")
	for _, n := range nodes {
		label, style := n.label, ""
		if n.address != "" && n.address != n.label {
			label += "\n" + n.address
		}
		if n.address == "" && n.ttl > 0 {
			style = ", style=dashed"
		}
		l.put("  %s [label=%s%s];", quote(n.id), quote(label), style)
	}
	for _, e := range edges {
		l.put("  %s -> %s [label=%s];", quote(e.from), quote(e.to), quote(plural(e.flows, "flow")))
	}
	l.put("}")
	return l.err
}

// TraceGraphML writes routes as GraphML 1.0.
func TraceGraphML(w io.Writer, list []finding.TraceReport) error {
	escape := func(s string) string {
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(s))
		return b.String()
	}
	nodes, edges := graphOf(list)
	l := lines{w: w}
	l.put(`<?xml version="1.0" encoding="UTF-8"?>
<graphml xmlns="http://graphml.graphdrawing.org/xmlns">
  <key id="name" for="node" attr.name="name" attr.type="string"/>
  <key id="address" for="node" attr.name="address" attr.type="string"/>
  <key id="segment" for="node" attr.name="segment" attr.type="string"/>
  <key id="ttl" for="node" attr.name="ttl" attr.type="int"/>
  <key id="flows" for="edge" attr.name="flows" attr.type="int"/>
  <graph id="route" edgedefault="directed">`)
	number := map[string]int{}
	for i, n := range nodes {
		number[n.id] = i
		l.put(`    <node id="n%d"><data key="name">%s</data><data key="address">%s</data><data key="segment">%s</data><data key="ttl">%d</data></node>`,
			i, escape(n.label), escape(n.address), escape(n.segment), n.ttl)
	}
	for i, e := range edges {
		l.put(`    <edge id="e%d" source="n%d" target="n%d"><data key="flows">%d</data></edge>`, i, number[e.from], number[e.to], e.flows)
	}
	l.put("  </graph>\n</graphml>")
	return l.err
}

// lines writes formatted lines and keeps the first error.
type lines struct {
	w   io.Writer
	err error
}

func (l *lines) put(format string, args ...any) {
	if l.err == nil {
		_, l.err = fmt.Fprintf(l.w, format+"\n", args...)
	}
}
