// Package guarded holds worlds in which something gets worse, comes back, stays or creeps over
// days, and some in which nothing does. Beside each lies its truth: what has to be told of its
// paths, and that nothing else is.
package guarded

import (
	"embed"
	"fmt"
	"strings"
	"time"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/yamlfile"
)

//go:embed *.yaml
var files embed.FS

// Agents are where the agents of the worlds stand.
var Agents = map[string]string{"northquay": "desk.northquay.example", "drydock": "office.drydock.example"}

// Exercise is a world and what has to be told of it.
type Exercise struct {
	Name      string        `yaml:"-"`
	Complaint string        `yaml:"complaint"` // what its users say
	Truth     string        `yaml:"truth"`
	Days      int           `yaml:"days"`   // of history up to the reference time
	Since     string        `yaml:"since"`  // what is told before is how it learns, and does not count
	Routes    time.Duration `yaml:"routes"` // between traces
	Paths     [][2]string   `yaml:"paths"`  // agent and target
	Episodes  []Told        `yaml:"episodes"`
	// Properties are those that are not over at the reference time.
	Properties []Told `yaml:"properties"`
	Incidents  []Told `yaml:"incidents"`
}

// Told is what has to be told, with what of it must be right.
type Told struct {
	Path     [2]string     `yaml:"path"`
	Kind     string        `yaml:"kind"`
	Measure  string        `yaml:"measure"`
	Since    string        `yaml:"since"`
	Until    string        `yaml:"until"` // it goes on when empty
	Doubt    time.Duration `yaml:"doubt"` // of both; five minutes when 0
	Cause    string        `yaml:"cause"`
	Hop      string        `yaml:"hop"`   // that the traffic moved to
	Times    int           `yaml:"times"` // that it came, at the least
	From     string        `yaml:"from"`  // of what comes back: hours of the day
	To       string        `yaml:"to"`
	Accepted bool          `yaml:"accepted"`
	Hops     []string      `yaml:"hops"`  // ends of the segment: nodes, or an agent; empty for one that is silent
	Count    int           `yaml:"paths"` // of an incident
}

const truthEnding = ".truth.yaml"

// List reads all exercises, by name.
func List() (all []Exercise, err error) {
	entries, err := files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), truthEnding)
		if !ok {
			continue
		}
		x := Exercise{Name: name}
		data, err := files.ReadFile(e.Name())
		if err == nil {
			err = yamlfile.Decode(data, &x)
		}
		if err != nil {
			return nil, fmt.Errorf("exercise %q: %w", name, err)
		}
		all = append(all, x)
	}
	return all, nil
}

// World reads the world around a reference time.
func (x Exercise) World(reference time.Time, zone *time.Location) (*world.Model, error) {
	data, err := files.ReadFile(x.Name + ".yaml")
	if err != nil {
		return nil, err
	}
	return world.Read(data, world.Options{Reference: reference, Zone: zone})
}
