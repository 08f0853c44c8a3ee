package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"
)

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
