package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"woodlark.example/demo/faults"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/report/document"
)

var labLearnCommand = command{
	name: "lab learn", summary: "networks with a fault to find, or none, and their truth",
	usage: "[NAME]\n-run NAME\n-answer CODE,… NAME\n-truth NAME", example: "woodlark lab learn\nwoodlark lab learn -run clicks-in-the-line\nwoodlark lab learn -answer loss_bursts clicks-in-the-line\nwoodlark lab learn -truth clicks-in-the-line",
	more: "Without a name it lists the complaints. -run makes the measurements that show what\nis true of it, at the hour at which it shows, without any privilege; -answer checks what you\nconclude, by the codes of findings (-codes lists them), or none; -up makes a lab of it, in\nwhich any program can be run. Other commands\ntake it as -world learn:NAME.",
	run:  runLabLearn,
}

func runLabLearn(c *call) error {
	var run, truth, up bool
	var codes bool
	var save, answer, where string
	c.withFormat()
	c.flags.BoolVar(&run, "run", false, "make the measurements that show what is true of it")
	c.flags.StringVar(&answer, "answer", "", "check this: codes of findings with commas between, or none where nothing is wrong")
	c.flags.StringVar(&where, "where", "", "of -answer: the host or router that it is at, where it is at one")
	c.flags.BoolVar(&codes, "codes", false, "list the codes of findings, and what they mean")
	c.flags.BoolVar(&truth, "truth", false, "show what is true of it")
	c.flags.BoolVar(&up, "up", false, "make a lab of it, under its name")
	c.flags.StringVar(&save, "save", "", "write the world to this file")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case codes && (len(c.args) > 0 || run || truth || up || save != "" || answer != ""):
		return wrongCall("-codes goes with nothing else")
	case codes:
		return c.listCodes()
	case where != "" && answer == "":
		return wrongCall("-where belongs to -answer")
	}
	if len(c.args) == 0 {
		if answer != "" || run || truth || up || save != "" {
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
	case answer != "" && (run || truth || up):
		return wrongCall("-answer goes with neither -run, -truth nor -up")
	case answer != "":
		return c.checkAnswer(x, answer, where)
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
		"woodlark lab learn -answer CODE,… " + x.Name + "    'woodlark lab learn -codes' lists them",
		"woodlark lab learn -truth " + x.Name,
	} {
		fmt.Fprintf(c.out, "  %s\n", line)
	}
	return nil
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
