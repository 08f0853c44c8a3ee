package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"woodlark.example/internal/lab"
)

var labCommand = command{
	name: "lab", summary: "set up, run in and take down a simulated network",
	usage:   "check | learn | from | up | run | show | down [options] …",
	example: "woodlark lab run -link '6Mbit/s, 40ms ±5ms, 0.5%' -- sh -c 'ping -c 20 far.example'\nwoodlark lab up -world demo/skerry.yaml\nwoodlark lab run -at ops.northquay.example -- woodlark ping terminal.holm.example\nwoodlark lab show\nwoodlark lab down",
	run:     runLab,
}

func labCommands() []command {
	return []command{labCheckCommand, labLearnCommand, labFromCommand, labUpCommand, labRunCommand, labShowCommand, labDownCommand}
}

// runLab hands over to a command of the lab's own.
func runLab(c *call) error {
	if len(c.args) == 0 || strings.HasPrefix(c.args[0], "-") {
		var b strings.Builder
		b.WriteString("Commands\n")
		for _, s := range labCommands() {
			fmt.Fprintf(&b, "  woodlark lab %-6s %s\n", strings.TrimPrefix(s.name, "lab "), s.summary)
		}
		b.WriteString("\n'woodlark lab COMMAND -help' shows the options of one.")
		c.more = b.String()
		if err := c.parse(); err != nil {
			return err
		}
		return wrongCall("say what to do: check, learn, from, up, run, show or down")
	}
	all := append(labCommands(), labCarryCommand, labEnterCommand)
	i := slices.IndexFunc(all, func(s command) bool { return s.name == "lab "+c.args[0] })
	if i < 0 {
		return wrongCall("%q is none of check, learn, from, up, run, show, down", short(c.args[0]))
	}
	sub := newCall(all[i], c.ctx, c.args[1:], c.in, c.out, c.err)
	return exit{status: sub.finish(sub.run(sub))}
}

// labFolder is where labs are recorded.
func labFolder() string { return lab.Folder(stateFolders()[0]) }

func (c *call) withLabName(to *string) {
	c.flags.StringVar(to, "name", "", "of the lab; needed only when several are up")
}

// findLab is the lab that a command speaks of.
func findLab(name string) (lab.Record, error) {
	r, err := lab.Find(labFolder(), name)
	switch {
	case errors.Is(err, lab.ErrNoLab):
		return r, exit{exitUnmeasured, err}
	case err != nil:
		return r, exit{exitWrongCall, err}
	}
	return r, nil
}

// alive is findLab of one that still runs.
func aliveLab(name string) (lab.Record, error) {
	r, err := findLab(name)
	if err == nil && !r.Alive() {
		err = exit{exitUnmeasured, fmt.Errorf("lab %q has died; 'woodlark lab down -name %s' clears away what it left", r.Name, r.Name)}
	}
	return r, err
}

// labName makes a name of a file's.
func labName(file string) string {
	base := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	name := strings.Map(func(r rune) rune {
		if strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_", r) {
			return r
		}
		return '-'
	}, base)
	return name[:min(40, len(name))]
}
