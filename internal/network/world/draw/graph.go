package draw

import (
	"fmt"
	"strconv"
	"strings"

	"woodlark.example/internal/network/world"
)

// DOT writes a world in the language of the Graphviz programs: a directed graph
// with an edge for each direction of each link.
func DOT(m *world.Model) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "digraph %s {\n  node [fontname=\"sans-serif\"];\n", quote(m.Name))
	for _, n := range m.Nodes() {
		shape := "ellipse"
		if n.Router {
			shape = "box"
		}
		label := n.Name
		for _, a := range n.Addresses {
			label += "\n" + a.String()
		}
		fmt.Fprintf(&b, "  %s [shape=%s, label=%s];\n", quote(n.Name), shape, quote(label))
	}
	for _, d := range m.Directions() {
		style := ""
		if !d.Up {
			style = ", style=dotted"
		}
		fmt.Fprintf(&b, "  %s -> %s [label=%s%s];\n", quote(m.Nodes()[d.From].Name), quote(m.Nodes()[d.To].Name), quote(d.Describe()), style)
	}
	b.WriteString("}\n")
	return []byte(b.String())
}

// quote is a quoted string of DOT.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// GraphML writes a world as GraphML 1.0, with delays in milliseconds and rates in
// bit/s.
func GraphML(m *world.Model) []byte {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>
<graphml xmlns="http://graphml.graphdrawing.org/xmlns">
  <key id="name" for="node" attr.name="name" attr.type="string"/>
  <key id="site" for="node" attr.name="site" attr.type="string"/>
  <key id="router" for="node" attr.name="router" attr.type="boolean"/>
  <key id="addresses" for="node" attr.name="addresses" attr.type="string"/>
  <key id="delay_ms" for="edge" attr.name="delay_ms" attr.type="double"/>
  <key id="loss_ratio" for="edge" attr.name="loss_ratio" attr.type="double"/>
  <key id="rate_bps" for="edge" attr.name="rate_bps" attr.type="double"/>
  <key id="metric" for="edge" attr.name="metric" attr.type="int"/>
  <key id="linked" for="edge" attr.name="linked" attr.type="boolean"/>
`)
	fmt.Fprintf(&b, "  <graph id=\"%s\" edgedefault=\"directed\">\n", escape(m.Name))
	data := func(key, value string) { fmt.Fprintf(&b, `<data key="%s">%s</data>`, key, escape(value)) }
	for i, n := range m.Nodes() {
		fmt.Fprintf(&b, `    <node id="n%d">`, i)
		data("name", n.Name)
		data("site", n.Site)
		data("router", strconv.FormatBool(n.Router))
		var addresses []string
		for _, a := range n.Addresses {
			addresses = append(addresses, a.String())
		}
		data("addresses", strings.Join(addresses, " "))
		b.WriteString("</node>\n")
	}
	for i, d := range m.Directions() {
		fmt.Fprintf(&b, `    <edge id="e%d" source="n%d" target="n%d">`, i, d.From, d.To)
		data("delay_ms", strconv.FormatFloat(float64(d.Delay)/1e6, 'g', -1, 64))
		data("loss_ratio", strconv.FormatFloat(d.Loss.Mean(), 'g', -1, 64))
		if d.Rate > 0 {
			data("rate_bps", strconv.FormatFloat(d.Rate, 'f', -1, 64))
		}
		data("metric", strconv.Itoa(d.Metric))
		data("linked", strconv.FormatBool(d.Up))
		b.WriteString("</edge>\n")
	}
	b.WriteString("  </graph>\n</graphml>\n")
	return []byte(b.String())
}
