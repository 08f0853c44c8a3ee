package cli

import (
	"fmt"
	"os"
	"time"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/draw"
	"woodlark.example/internal/report/document"
)

var labCheckCommand = command{
	name: "lab check", summary: "what is wrong or odd in a world file, and a drawing of it",
	usage: "[options] FILE", example: "woodlark lab check demo/skerry.yaml\nwoodlark lab check -draw skerry.svg demo/skerry.yaml",
	more: "Errors are named by their line and end with status 2; what is odd is said and ends\nwith 1. -draw writes a picture by the file's ending: .svg to be looked at, .dot and\n.graphml for other programs. -schema prints the JSON Schema of world files.",
	run:  runLabCheck,
}

func runLabCheck(c *call) error {
	var picture string
	var schema bool
	c.withFormat()
	c.flags.StringVar(&picture, "draw", "", "file to draw the network to: .svg, .dot or .graphml")
	c.flags.BoolVar(&schema, "schema", false, "print the JSON Schema of world files, for editors")
	if err := c.parse(); err != nil {
		return err
	}
	if schema {
		_, err := c.out.Write(world.Schema)
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("name one world file")
	}
	paint, err := painter(picture)
	if err != nil {
		return err
	}
	data, err := os.ReadFile(c.args[0])
	if err != nil {
		return exit{exitWrongCall, fmt.Errorf("read the world: %w", err)}
	}
	m, warnings, err := world.Check(data, world.Options{Zone: time.Local})
	if err != nil {
		return exit{exitWrongCall, fmt.Errorf("%s: %w", c.args[0], err)}
	}
	if paint != nil {
		if err := os.WriteFile(picture, paint(m), 0o644); err != nil {
			return fmt.Errorf("draw the world: %w", err)
		}
	}
	if err := c.writeCheck(m, warnings); err != nil {
		return err
	}
	if len(warnings) > 0 {
		return exit{status: exitNotGood}
	}
	return nil
}

// painter is what draws into a file of a name; nil for none.
func painter(file string) (func(*world.Model) []byte, error) {
	for ending, paint := range map[string]func(*world.Model) []byte{".svg": draw.SVG, ".dot": draw.DOT, ".graphml": draw.GraphML} {
		if len(file) > len(ending) && file[len(file)-len(ending):] == ending {
			return paint, nil
		}
	}
	if file != "" {
		return nil, wrongCall("-draw %q ends neither with .svg nor with .dot or .graphml", short(file))
	}
	return nil, nil
}

func (c *call) writeCheck(m *world.Model, warnings []world.Warning) error {
	hosts := len(m.Hosts())
	var rows [][]string
	var doc document.Document
	doc.Say("%s: %d hosts, %d other nodes, %d links.", document.Strong(m.Name), hosts, len(m.Nodes())-hosts, len(m.Directions())/2)
	for _, w := range warnings {
		rows = append(rows, []string{fmt.Sprint(w.Line), w.Text})
		doc.Add(document.Finding{Sign: "›", Text: w.String()})
	}
	if len(warnings) == 0 {
		warnings = []world.Warning{}
		doc.Say("Nothing is wrong or odd.")
	}
	doc.Records = document.RecordsOf([]string{"line", "warning"}, rows)
	return c.write(map[string]any{"world": m.Name, "hosts": hosts, "nodes": len(m.Nodes()), "links": len(m.Directions()) / 2, "warnings": warnings}, doc)
}
