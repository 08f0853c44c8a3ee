package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
)

func overview(w io.Writer) {
	fmt.Fprintln(w, "Woodlark measures the paths between hosts, learns what is normal for each,")
	fmt.Fprintln(w, "and says which got worse: since when, by how much, and why.")
	fmt.Fprintln(w)
	for _, c := range allCommands() {
		fmt.Fprintf(w, "  woodlark %-10s %s\n", c.name, c.summary)
	}
	fmt.Fprintln(w, "\n'woodlark help COMMAND' shows the options and an example.")
	fmt.Fprintln(w, "Exit status: 0 measured and good, 1 measured and not good, 2 the call was wrong,")
	fmt.Fprintln(w, "3 it could not be measured.")
}

func help(args []string, out, errs io.Writer) int {
	if len(args) == 0 {
		overview(out)
		return exitGood
	}
	all := allCommands()
	i := slices.IndexFunc(all, func(c command) bool { return c.name == args[0] })
	if i < 0 {
		fmt.Fprintf(errs, "woodlark: there is no command %q; 'woodlark help' lists them\n", short(args[0]))
		return exitWrongCall
	}
	// A command registers its flags before it parses: asked for help, it stops
	// there.
	c := newCall(all[i], context.Background(), []string{"-help"}, strings.NewReader(""), out, errs)
	return c.finish(c.run(c))
}

func (c *call) help(w io.Writer) {
	fmt.Fprintf(w, "woodlark %s: %s\n\n", c.name, c.summary)
	for _, u := range strings.Split(c.usage, "\n") {
		fmt.Fprintf(w, "  woodlark %s %s\n", c.name, u)
	}
	list := c.options()
	if len(list) > 0 {
		fmt.Fprintln(w, "\nOptions")
	}
	for _, f := range list {
		fmt.Fprintf(w, "  -%-14s %s\n", f.Name, says(f))
	}
	if c.more != "" {
		fmt.Fprintf(w, "\n%s\n", c.more)
	}
	fmt.Fprintln(w, "\nExample")
	for _, e := range strings.Split(c.example, "\n") {
		fmt.Fprintf(w, "  %s\n", e)
	}
}
