// Package faults holds small worlds with one thing wrong with each, and some that
// look so and are not. Beside each lies its truth: what must be concluded about
// it, and what must not.
package faults

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/yamlfile"
)

//go:embed *.yaml
var files embed.FS

// Exercise is a world and what is true of it.
type Exercise struct {
	Name      string        `yaml:"-"`
	Complaint string        `yaml:"complaint"` // what its users say
	Fault     bool          `yaml:"fault"`
	From      string        `yaml:"from"`
	To        string        `yaml:"to"`
	Truth     string        `yaml:"truth"`
	Must      []Expectation `yaml:"must"`
	MustNot   []string      `yaml:"must_not"` // codes of findings
	Facts     []Fact        `yaml:"facts"`
	Odd       []string      `yaml:"odd"` // what a check of the file warns of, and is meant
	Shows     []Show        `yaml:"shows"`
}

// Show is a measurement that shows what is true: of a kind, with what it is told; at a moment, such as
// 17:00 or "day-1 14:30", and against another where the difference is what shows.
type Show struct {
	Kind    string         `yaml:"kind"`
	To      string         `yaml:"to"` // where that is not the exercise's
	With    map[string]any `yaml:"with"`
	At      string         `yaml:"at"`
	Against string         `yaml:"against"`
}

// Target is what is measured to.
func (s Show) Target(x Exercise) string {
	if s.To != "" {
		return s.To
	}
	return x.To
}

// Expectation is a finding that must come, with what it must name.
type Expectation struct {
	Code      string   `yaml:"code"`
	Hop       string   `yaml:"hop"`
	Hops      []string `yaml:"hops"`
	Branch    string   `yaml:"branch"`
	Share     string   `yaml:"share"` // of the flows
	Added     string   `yaml:"added"` // delay, there and back
	Step      string   `yaml:"step"`  // of the delay, there and back
	Loss      string   `yaml:"loss"`  // the part that the place loses by itself
	Since     string   `yaml:"since"`
	Hours     string   `yaml:"hours"`
	At        string   `yaml:"at"`
	Direction string   `yaml:"direction"` // there or back
	Back      string   `yaml:"back"`      // a hop that only the way back has
	Reason    string   `yaml:"reason"`
	Address   string   `yaml:"address"`
	Port      int      `yaml:"port"`
	MTU       int      `yaml:"mtu"`
	Every     int      `yaml:"every"`
	Rate      string   `yaml:"rate"`
	Queue     string   `yaml:"queue"`
	Window    string   `yaml:"window"`
	Offset    string   `yaml:"offset"`
	Objective string   `yaml:"objective"`
	Probes    int      `yaml:"probes"` // to judge by
	By        string   `yaml:"by"`     // the measurement that alone can tell; empty for several
}

// Says is what an expectation names, in words.
func (e Expectation) Says() string {
	var parts []string
	for _, p := range []struct{ word, value string }{
		{"at", e.Hop}, {"between", strings.Join(e.Hops, " and ")}, {"branch", e.Branch}, {"share", e.Share}, {"added", e.Added}, {"step", e.Step}, {"loss", e.Loss},
		{"since", e.Since}, {"hours", e.Hours}, {"at", e.At}, {"on the way", e.Direction}, {"way back by", e.Back}, {"reason:", e.Reason}, {"address", e.Address},
		{"port", number(e.Port)}, {"MTU", number(e.MTU)}, {"every", number(e.Every)}, {"rate", e.Rate}, {"queue", e.Queue}, {"window", e.Window},
		{"offset", e.Offset}, {"objective", e.Objective},
	} {
		if p.value != "" {
			parts = append(parts, p.word+" "+p.value)
		}
	}
	return strings.Join(parts, ", ")
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// Fact is something about a world that can be measured in it.
type Fact struct {
	To       string   `yaml:"to"`     // the exercise's target when empty
	Family   int      `yaml:"family"` // 4 when 0
	At       string   `yaml:"at"`     // the reference time when empty
	Probes   int      `yaml:"probes"`
	Lost     string   `yaml:"lost"`    // of echoes, there and back
	Missing  string   `yaml:"missing"` // at least this part, of echoes four times a second
	RTT      string   `yaml:"rtt"`     // the median
	Path     []string `yaml:"path"`
	Says     string   `yaml:"says"` // an ICMP error
	Node     string   `yaml:"node"` // who sends it
	Name     string   `yaml:"name"`
	Resolves *bool    `yaml:"resolves"`
	After    string   `yaml:"after"`
	Port     int      `yaml:"port"`
	State    string   `yaml:"state"`
	Size     int      `yaml:"size"`
	Told     *int     `yaml:"told"` // the MTU; 0 when the packet vanishes
}

// List reads all exercises, by name.
func List() ([]Exercise, error) {
	entries, err := files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	var all []Exercise
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), truthEnding)
		if !ok {
			continue
		}
		x, err := Find(name)
		if err != nil {
			return nil, err
		}
		all = append(all, x)
	}
	return all, nil
}

const truthEnding = ".truth.yaml"

// Find reads one exercise.
func Find(name string) (Exercise, error) {
	x := Exercise{Name: name}
	data, err := files.ReadFile(name + truthEnding)
	if err != nil {
		return x, fmt.Errorf("there is no exercise %q; 'woodlark lab learn' lists them", name)
	}
	if err := yamlfile.Decode(data, &x); err != nil {
		return x, fmt.Errorf("exercise %q: %w", name, err)
	}
	return x, nil
}

// File is the world's file.
func (x Exercise) File() []byte {
	data, _ := files.ReadFile(x.Name + ".yaml")
	return data
}

// World reads the world around a reference time.
func (x Exercise) World(reference time.Time, zone *time.Location) (*world.Model, error) {
	return world.Read(x.File(), world.Options{Reference: reference, Zone: zone})
}

// Codes are the findings that the exercises are about, each with when it is true.
func Codes() []string {
	var all []string
	for code := range meanings {
		all = append(all, code)
	}
	slices.Sort(all)
	return all
}

// Meaning is when a finding is true; empty for an unknown code.
func Meaning(code string) string { return meanings[code] }
