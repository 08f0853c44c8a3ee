// Command bench measures what Woodlark costs and prints it beside a bare floor
// that does the least that would do, in the same run.
//
//	bench -program bin/woodlark
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"runtime/pprof"
	"slices"
	"strings"
	"time"
)

func main() {
	program := flag.String("program", "bin/woodlark", "the built program")
	seconds := flag.Int("seconds", 125, "how long to ping")
	floor := flag.Bool("floor", false, "be the floor of pinging (used by itself)")
	profile := flag.String("profile", "", "file for a profile of what this program itself spends its time on")
	role := flag.String("role", "", "be a program at the end of a lab (used by itself)")
	only := flag.String("only", "", "parts to run, such as labs,worlds; all when left out")
	flag.Parse()
	if be, ok := roles[*role]; ok {
		exitOn(be())
		return
	}
	if *floor {
		exitOn(pingFloor(*seconds))
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Hour)
	defer cancel()
	if *profile != "" {
		to, err := os.Create(*profile)
		exitOn(err)
		exitOn(pprof.StartCPUProfile(to))
		defer pprof.StopCPUProfile()
	}
	dir, err := os.MkdirTemp("", "wlbench")
	exitOn(err)
	defer os.RemoveAll(dir)
	fmt.Printf("%-62s %14s %14s %8s\n", "figure", "woodlark", "floor", "ratio")
	for _, part := range []struct {
		name string
		run  func(context.Context, string) error
	}{
		{"pinging", func(ctx context.Context, dir string) error { return pinging(ctx, dir, *program, *seconds) }},
		{"writing", writing}, {"keeping", keeping}, {"reading", reading}, {"worlds", worlds}, {"labs", labs},
		{"sweeping", func(ctx context.Context, dir string) error { return sweeping(ctx, dir, *program) }},
		{"crowds", func(ctx context.Context, dir string) error { return crowds(ctx, dir, *program) }},
		{"starting", func(ctx context.Context, dir string) error { return starting(ctx, dir, *program) }},
		{"routes", func(ctx context.Context, dir string) error { return routes(ctx, dir, *program) }},
		{"twoends", func(ctx context.Context, dir string) error { return twoEnds(ctx, dir, *program) }},
		{"frames", frames}, {"circuits", circuitsOf},
		{"tcpworlds", func(ctx context.Context, dir string) error { return tcpWorlds(ctx, dir, *program) }},
		{"kills", func(ctx context.Context, dir string) error { return kills(ctx, dir, *program) }},
		{"guard", guarding},
		{"tenthousand", tenThousand},
		{"timing", func(ctx context.Context, dir string) error { return timing(ctx, dir, *program) }},
	} {
		if *only != "" && !slices.Contains(strings.Split(*only, ","), part.name) {
			continue
		}
		if err := part.run(ctx, dir); err != nil {
			_ = os.RemoveAll(dir)
			exitOn(err)
		}
	}
}

func exitOn(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// row prints a figure of ours, the floor's, and ours as a multiple of it.
func row(what, unit string, ours, floor float64) {
	fmt.Printf("%-62s %14s %14s %8.2f\n", what, amount(ours, unit), amount(floor, unit), ours/floor)
}

// alone prints a figure that has no floor.
func alone(what, unit string, ours float64) {
	fmt.Printf("%-62s %14s %14s %8s\n", what, amount(ours, unit), "–", "–")
}

func amount(v float64, unit string) string { return fmt.Sprintf("%.3g %s", v, unit) }

// median times a piece of work and returns the middle time in milliseconds.
func median(times int, work func() error) (float64, error) {
	var all []float64
	for range times {
		began := time.Now()
		if err := work(); err != nil {
			return 0, err
		}
		all = append(all, float64(time.Since(began).Nanoseconds())/1e6)
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}
