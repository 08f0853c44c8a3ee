// Command siege has a service of its own on loopback killed, stopped, starved, flooded and lied to, for a
// bounded time, and prints what was promised of each and what was seen.
//
//	script/siege             all of it, some ten minutes and a minute for each parser
//	script/siege kills idle  only these
//	script/siege -fuzz 5s fuzz
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"text/tabwriter"
	"time"
)

// round is one kind of siege.
type round struct {
	name string
	do   func(ctx context.Context, t *table) error
}

// table is what was promised and seen.
type table struct {
	rows [][4]string
	bad  int
}

// saw adds a line to the table.
func (t *table) saw(what, promised string, holds bool, seen string, args ...any) {
	mark := "held"
	if !holds {
		mark = "BROKEN"
		t.bad++
	}
	t.rows = append(t.rows, [4]string{what, promised, fmt.Sprintf(seen, args...), mark})
	fmt.Fprintf(os.Stderr, "  %s: %s (%s)\n", what, t.rows[len(t.rows)-1][2], mark)
}

func (t *table) print(w io.Writer) error {
	out := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(out, "what\tpromised\tseen\t")
	for _, r := range t.rows {
		fmt.Fprintln(out, strings.Join(r[:], "\t"))
	}
	return out.Flush()
}

var fuzzTime time.Duration

func main() {
	flag.DurationVar(&fuzzTime, "fuzz", time.Minute, "how long each parser is fuzzed")
	flag.Parse()
	rounds := []round{{"kills", kills}, {"stops", stops}, {"disk", fullDisk}, {"clock", clocks}, {"idle", idle}, {"streams", streams}, {"slow", slow}, {"huge", huge}, {"floods", floods}, {"spoofed", spoofed}, {"fuzz", fuzz}}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	t := &table{}
	if err := run(ctx, t, rounds, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "siege:", err)
		_ = t.print(os.Stdout)
		os.Exit(1)
	}
	if err := t.print(os.Stdout); err != nil || t.bad > 0 {
		os.Exit(1)
	}
}

func run(ctx context.Context, t *table, rounds []round, chosen []string) error {
	for _, name := range chosen {
		if !slices.ContainsFunc(rounds, func(r round) bool { return r.name == name }) {
			var names []string
			for _, r := range rounds {
				names = append(names, r.name)
			}
			return fmt.Errorf("%q is none of %s", name, strings.Join(names, ", "))
		}
	}
	for _, r := range rounds {
		if len(chosen) > 0 && !slices.Contains(chosen, r.name) {
			continue
		}
		fmt.Fprintln(os.Stderr, r.name)
		if err := r.do(ctx, t); err != nil {
			t.saw(r.name, "carried out", false, "%v", err) // the others are of their own
		}
		if err := ctx.Err(); err != nil {
			return errors.New("it was broken off")
		}
	}
	return nil
}
