package main

import (
	"context"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/sweep"
)

//go:embed floor/floor.c
var floorSource []byte

// makeFloor compiles the floor that is written in C.
func makeFloor(ctx context.Context, dir string) (string, error) {
	source, program := filepath.Join(dir, "floor.c"), filepath.Join(dir, "floor")
	if err := os.WriteFile(source, floorSource, 0o600); err != nil {
		return "", err
	}
	if out, err := exec.CommandContext(ctx, "cc", "-O2", "-o", program, source).CombinedOutput(); err != nil {
		return "", fmt.Errorf("compile the floor: %w: %s", err, out)
	}
	return program, nil
}

// spent is what a process used.
type spent struct {
	cpu     float64 // seconds
	wall    float64 // the same
	peakMiB float64
	out     []byte
}

// runProcess runs a program through the floor, which tells what it used.
func runProcess(ctx context.Context, floor, program string, args ...string) (spent, error) {
	program, err := filepath.Abs(program)
	if err != nil {
		return spent{}, err
	}
	file := floor + ".spent"
	c := exec.CommandContext(ctx, floor, append([]string{"spend", file, program}, args...)...)
	began := time.Now()
	out, err := c.Output()
	s := spent{wall: time.Since(began).Seconds(), out: out}
	if _, scanned := readSpent(file, &s); scanned && len(out) > 0 && err != nil {
		return s, fmt.Errorf("%s %s: %w", filepath.Base(program), strings.Join(args, " "), err)
	}
	if err != nil {
		return s, fmt.Errorf("%s %s: %w", filepath.Base(program), strings.Join(args, " "), err)
	}
	err, _ = readSpent(file, &s)
	return s, err
}

// readSpent reads what the floor wrote, also of a program that ended with a status.
func readSpent(file string, s *spent) (error, bool) {
	used, err := os.ReadFile(file)
	if err != nil {
		return err, false
	}
	if _, err := fmt.Sscan(string(used), &s.cpu, &s.peakMiB); err != nil {
		return err, false
	}
	s.peakMiB /= 1024
	return nil, true
}

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// sweeping sweeps 127.1.0.0/16 as fast as it goes, in turns with a bare loop.
func sweeping(ctx context.Context, dir, program string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	if err := os.Setenv("WOODLARK_STATE", filepath.Join(dir, "sweeps")); err != nil {
		return err
	}
	var ours, bare, memory []float64
	least := uint64(1) << 16
	for range 9 {
		s, err := runProcess(ctx, floor, program, "sweep", "-packets", "unlimited", "-format", "json", "127.1.0.0/16")
		if err != nil {
			return err
		}
		var r sweep.Report
		if err := json.Unmarshal(s.out, &r); err != nil {
			return err
		}
		least = min(least, r.Answered)
		ours = append(ours, float64(r.Sent)/r.ElapsedMs*1000) // all of its time, not sending alone
		memory = append(memory, s.peakMiB)
		if s, err = runProcess(ctx, floor, floor, "sweep"); err != nil {
			return err
		}
		var found, rate float64
		if _, err := fmt.Sscan(string(s.out), &found, &rate); err != nil {
			return err
		}
		bare = append(bare, rate)
	}
	row("sweep of 127.1.0.0/16, no rate limit: packets a second", "", middle(ours), middle(bare))
	alone("  addresses found, of 65,536; the least of nine", "", float64(least))
	alone("  peak memory", "MiB", slices.Max(memory))
	return nil
}

const crowd = 10_000

// crowds pings 10,000 targets once a second each, beside a bare loop.
func crowds(ctx context.Context, dir, program string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	var names strings.Builder
	for i := range crowd {
		fmt.Fprintln(&names, target(i))
	}
	file := filepath.Join(dir, "targets")
	if err := os.WriteFile(file, []byte(names.String()), 0o600); err != nil {
		return err
	}
	const seconds = 30
	s, err := runProcess(ctx, floor, program, "ping", "-probes", strconv.Itoa(seconds), "-every", "1s", "-wait", "1s", "-file", file, "-format", "csv")
	if err != nil {
		return err
	}
	rows, err := csv.NewReader(strings.NewReader(string(s.out))).ReadAll()
	if err != nil {
		return err
	}
	var sent, late, lost float64
	for _, r := range rows[1:] {
		for name, to := range map[string]*float64{"sent": &sent, "late_sent": &late, "lost": &lost} {
			v, err := strconv.ParseFloat(r[slices.Index(rows[0], name)], 64)
			if err != nil {
				return err
			}
			*to += v
		}
	}
	bare, err := runProcess(ctx, floor, floor, "ping", strconv.Itoa(crowd), strconv.Itoa(seconds))
	if err != nil {
		return err
	}
	var punctual, missing float64
	if _, err := fmt.Sscan(string(bare.out), &punctual, &missing); err != nil {
		return err
	}
	row("10,000 targets at 1 probe/s, one process: CPU of one core", "%", 100*s.cpu/s.wall, 100*bare.cpu/bare.wall)
	row("  peak memory", "MiB", s.peakMiB, bare.peakMiB)
	row(fmt.Sprintf("  probes within 1 ms of their deadline, of %.0f", sent), "%", 100*(1-late/sent), punctual)
	alone("  probes lost, of those", "", lost)
	return nil
}

// starting times one probe from the start of the process to its end.
func starting(ctx context.Context, dir, program string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	var ours, bare []float64
	for range 40 {
		s, err := runProcess(ctx, floor, program, "ping", "-probes", "1", "127.0.0.1")
		if err != nil {
			return err
		}
		ours = append(ours, 1000*s.wall)
		if s, err = runProcess(ctx, floor, floor, "once"); err != nil {
			return err
		}
		bare = append(bare, 1000*s.wall)
	}
	row("ping -probes 1 of 127.0.0.1: from start to exit", "ms", middle(ours), middle(bare))
	return nil
}
