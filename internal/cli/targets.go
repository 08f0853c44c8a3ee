package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"woodlark.example/internal/controller"
)

// mostTargets is how many targets one ping takes: each is a row of its own.
const mostTargets = 100_000

// targets are those of the arguments and of a file. A bad line of the file is no
// reason to leave out the others: what is wrong with it is returned beside them.
func (c *call) targets(file string) (list []string, bad []error, err error) {
	list = slices.Clone(c.args)
	for _, t := range list {
		if err := controller.CheckTarget(t); err != nil {
			return nil, nil, err
		}
	}
	if file != "" {
		more, wrong, err := c.readLines(file, controller.CheckTarget)
		if err != nil {
			return nil, nil, err
		}
		list, bad = append(list, more...), wrong
	}
	switch {
	case len(list) == 0 && len(bad) > 0:
		return nil, nil, fmt.Errorf("no line is good: %w", errors.Join(bad...))
	case len(list) == 0:
		return nil, nil, fmt.Errorf("%s names no target", file)
	case len(list) > mostTargets:
		return nil, nil, fmt.Errorf("%d targets are more than the %d that one ping measures; 'woodlark sweep' finds out which of so many answer", len(list), mostTargets)
	}
	return list, bad, nil
}

// mostFaults is how many bad lines of a file are named.
const mostFaults = 5

// readLines reads a file of one entry a line; # begins a comment. Bad lines are
// named by their numbers.
func (c *call) readLines(file string, check func(string) error) (list []string, bad []error, err error) {
	in, name := c.in, "standard input"
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, nil, fmt.Errorf("read the targets: %w", err)
		}
		defer f.Close()
		in, name = f, file
	}
	if in == nil {
		in = strings.NewReader("")
	}
	return linesOf(in, name, check)
}

func linesOf(in io.Reader, name string, check func(string) error) (list []string, bad []error, err error) {
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		if err := check(text); err != nil {
			bad = append(bad, fmt.Errorf("%s, line %d: %w", name, n, err))
			continue
		}
		list = append(list, text)
	}
	if err := lines.Err(); err != nil {
		return nil, nil, fmt.Errorf("read %s: %w", name, err)
	}
	if more := len(bad) - mostFaults; more > 0 {
		bad = append(bad[:mostFaults], fmt.Errorf("and %s more", plural(more, "bad line")))
	}
	return list, bad, nil
}
