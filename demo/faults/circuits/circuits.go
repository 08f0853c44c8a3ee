// Package circuits holds small worlds for acceptance tests: circuits as they were bought, and such
// that miss one thing. Beside each lies its truth: the plan that it is tested by, what of it is
// missed, and what has to be found.
package circuits

import (
	"embed"
	"fmt"
	"strings"

	"woodlark.example/internal/yamlfile"
)

//go:embed *.yaml
var files embed.FS

// Circuit is a world and what is true of it.
type Circuit struct {
	Name      string         `yaml:"-"`
	World     []byte         `yaml:"-"`
	Complaint string         `yaml:"complaint"` // what its users say
	Fault     bool           `yaml:"fault"`
	From      string         `yaml:"from"`
	To        string         `yaml:"to"`
	Truth     string         `yaml:"truth"`
	Verdict   string         `yaml:"verdict"`
	Fails     []Miss         `yaml:"fails"` // these, and no others
	Plan      map[string]any `yaml:"plan"`
	Rate      Ways           `yaml:"rate"` // of IP packets
	Loss      Ways           `yaml:"loss"`
	Delay     string         `yaml:"delay"` // one way, of large frames
	Queue     string         `yaml:"queue"`
	Policed   string         `yaml:"policed"` // of IP packets
	Bucket    int            `yaml:"bucket"`  // of IP packets, in bytes
	Finding   string         `yaml:"finding"`
}

// Miss is a figure that misses its limit, one way.
type Miss struct {
	Figure string `yaml:"figure"`
	Way    string `yaml:"way"`
}

// Ways is what holds of each direction; empty where nothing is said.
type Ways struct {
	There string `yaml:"there"`
	Back  string `yaml:"back"`
}

const truthEnding = ".truth.yaml"

// List reads all circuits, by name.
func List() ([]Circuit, error) {
	entries, err := files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	var all []Circuit
	for _, e := range entries {
		name, is := strings.CutSuffix(e.Name(), truthEnding)
		if !is {
			continue
		}
		c := Circuit{Name: name}
		truth, err := files.ReadFile(e.Name())
		if err == nil {
			err = yamlfile.Decode(truth, &c)
		}
		if err == nil {
			c.World, err = files.ReadFile(name + ".yaml")
		}
		if err != nil {
			return nil, fmt.Errorf("read circuit %s: %w", name, err)
		}
		all = append(all, c)
	}
	return all, nil
}
