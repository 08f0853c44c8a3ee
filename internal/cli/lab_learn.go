package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"woodlark.example/demo/faults"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/report/document"
)

var labLearnCommand = command{
	name: "lab learn", summary: "networks with a fault to find, or none, and their truth",
	usage: "[NAME]\n-run NAME\n-truth NAME", example: "woodlark lab learn\nwoodlark lab learn -run clicks-in-the-line\nwoodlark lab learn -truth clicks-in-the-line",
	more: "Without a name it lists the complaints. -run measures in the network, without any\nprivilege; -up makes a lab of it, in which any program can be run. Other commands\ntake it as -world learn:NAME.",
	run:  runLabLearn,
}

func runLabLearn(c *call) error {
	var run, truth, up bool
	var save string
	c.withFormat()
	c.flags.BoolVar(&run, "run", false, "measure from one end to the other")
	c.flags.BoolVar(&truth, "truth", false, "show what is true of it")
	c.flags.BoolVar(&up, "up", false, "make a lab of it, under its name")
	c.flags.StringVar(&save, "save", "", "write the world to this file")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) == 0 {
		if run || truth || up || save != "" {
			return wrongCall("say which exercise; 'woodlark lab learn' lists them")
		}
		return c.listExercises()
	}
	if len(c.args) > 1 {
		return wrongCall("%q is one argument too many", short(c.args[1]))
	}
	x, err := faults.Find(c.args[0])
	if err != nil {
		return exit{exitWrongCall, err}
	}
	if save != "" {
		if err := os.WriteFile(save, x.File(), 0o644); err != nil {
			return fmt.Errorf("save the world: %w", err)
		}
		fmt.Fprintf(c.err, "Written to %s\n", save)
	}
	switch {
	case up:
		return c.exerciseUp(x)
	case run:
		return c.runExercise(x)
	case truth:
		return c.tellTruth(x)
	}
	return c.tellExercise(x)
}

// listed is an exercise without its truth.
type listed struct {
	Name      string `json:"name"`
	Complaint string `json:"complaint"`
	From      string `json:"from"`
	To        string `json:"to"`
}

func (c *call) listExercises() error {
	all, err := faults.List()
	if err != nil {
		return err
	}
	var items []listed
	var rows [][]string
	for _, x := range all {
		items = append(items, listed{x.Name, x.Complaint, x.From, x.To})
		rows = append(rows, []string{x.Name, x.Complaint})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "Name"}, {Name: "What they say"}}, Rows: rows}, document.RecordsOf([]string{"name", "complaint"}, rows))
	doc.Gap()
	doc.Say("%d networks; with some nothing is wrong.", len(all))
	return c.write(items, doc)
}

func (c *call) tellExercise(x faults.Exercise) error {
	if c.format == "json" {
		return document.JSON(c.out, listed{x.Name, x.Complaint, x.From, x.To})
	}
	fmt.Fprintf(c.out, "%s\n\n  “%s”\n\n", c.strong(x.Name), x.Complaint)
	fmt.Fprintf(c.out, "Find out from %s what is wrong on the way to\n%s, if anything is.\n\n", x.From, x.To)
	for _, line := range []string{
		"woodlark lab learn -run " + x.Name,
		"woodlark ping -world learn:" + x.Name + " -from " + x.From + " -probes 200 -every 20ms " + x.To,
		"woodlark lab learn -up " + x.Name + "    then 'woodlark lab run -at " + x.From + " -- PROGRAM …'",
		"woodlark lab learn -truth " + x.Name,
	} {
		fmt.Fprintf(c.out, "  %s\n", line)
	}
	return nil
}

// runExercise measures with what measures so far: echoes.
func (c *call) runExercise(x faults.Exercise) error {
	if c.format == "text" {
		fmt.Fprintf(c.out, "“%s”\n\n", x.Complaint)
	}
	family := "4"
	if slices.ContainsFunc(x.Must, func(e faults.Expectation) bool { return e.Code == "family_differs" }) {
		family = "both"
	}
	k, err := kind.Find(kind.Or(""))
	if err != nil {
		return err
	}
	spec, err := k.Decode(kind.ByHand, fmt.Appendf(nil, `{"family": %q, "probes": 200, "interval": "20ms"}`, family))
	if err != nil {
		return err
	}
	m := &measuring{call: c, kind: k, spec: spec, world: learnPrefix + x.Name, from: x.From, targets: []string{x.To}}
	err = m.here()
	if c.format == "text" {
		fmt.Fprintf(c.out, "\nWhat is true of it: woodlark lab learn -truth %s\n", x.Name)
	}
	return err
}

func (c *call) exerciseUp(x faults.Exercise) error {
	folder, err := os.MkdirTemp("", "woodlark-learn-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	file := filepath.Join(folder, x.Name+".yaml")
	if err := os.WriteFile(file, x.File(), 0o644); err != nil {
		return err
	}
	name := labName(file)
	if _, err := startCarrier(file, name, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "Lab %s is up.\n  woodlark lab run -at %s -- PROGRAM …\n  woodlark lab down -name %s\n", c.strong(name), x.From, name)
	return nil
}

// told is an exercise with its truth.
type told struct {
	listed
	Fault   bool        `json:"fault"`
	Truth   string      `json:"truth"`
	Must    []toldMust  `json:"must"`
	MustNot []toldMeans `json:"must_not"`
}

type toldMeans struct {
	Code    string `json:"code"`
	Meaning string `json:"meaning"`
}

type toldMust struct {
	toldMeans
	Names string `json:"names,omitempty"`
}

func (c *call) tellTruth(x faults.Exercise) error {
	t := told{listed: listed{x.Name, x.Complaint, x.From, x.To}, Fault: x.Fault, Truth: x.Truth, Must: []toldMust{}, MustNot: []toldMeans{}}
	for _, e := range x.Must {
		t.Must = append(t.Must, toldMust{toldMeans{e.Code, faults.Meaning(e.Code)}, e.Says()})
	}
	for _, code := range x.MustNot {
		t.MustNot = append(t.MustNot, toldMeans{code, faults.Meaning(code)})
	}
	if c.format == "json" {
		return document.JSON(c.out, t)
	}
	fmt.Fprintf(c.out, "%s\n\n  “%s”\n\n%s\n", c.strong(x.Name), x.Complaint, wrapped(x.Truth, 78))
	if len(t.Must) > 0 {
		fmt.Fprintln(c.out, "\nTo be concluded")
	}
	for _, e := range t.Must {
		fmt.Fprintf(c.out, "  %s: %s\n", c.strong(e.Code), e.Meaning)
		if e.Names != "" {
			fmt.Fprintf(c.out, "      %s\n", e.Names)
		}
	}
	fmt.Fprintln(c.out, "\nNot to be concluded")
	for _, e := range t.MustNot {
		fmt.Fprintf(c.out, "  %s: %s\n", e.Code, c.ink.Paint(document.Faint(e.Meaning)))
	}
	return nil
}

// wrapped breaks a text into lines.
func wrapped(text string, width int) string {
	var b strings.Builder
	line := 0
	for _, word := range strings.Fields(text) {
		n := len([]rune(word))
		if line > 0 && line+1+n > width {
			b.WriteByte('\n')
			line = 0
		} else if line > 0 {
			b.WriteByte(' ')
			line++
		}
		b.WriteString(word)
		line += n
	}
	return b.String()
}

const learnPrefix = "learn:"

// worldFile is the contents of a world file, or of an exercise.
func worldFile(file string) ([]byte, error) {
	if name, ok := strings.CutPrefix(file, learnPrefix); ok {
		x, err := faults.Find(name)
		return x.File(), err
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the world: %w", err)
	}
	return data, nil
}

// readWorld reads a world file for a command.
func readWorld(file string, reference time.Time) (*world.Model, error) {
	data, err := worldFile(file)
	if err != nil {
		return nil, exit{exitWrongCall, err}
	}
	m, err := world.Read(data, world.Options{Zone: time.Local, Reference: reference})
	if err != nil {
		return nil, exit{exitWrongCall, fmt.Errorf("%s: %w", file, err)}
	}
	return m, nil
}
