package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

const timingWorld = `
world: two quays
nodes:
  - {name: here, addresses: [192.0.2.1]}
  - {name: there, addresses: [192.0.2.2]}
links:
  - {between: [here, there], delay: 2ms, variation: uniform 1ms}
`

const timed = 1000 // probes

// timing compares each round trip with what a capture of the same packets at the
// same interface says, privileged and not.
func timing(ctx context.Context, dir, program string) error {
	file := filepath.Join(dir, "quays.yaml")
	if err := os.WriteFile(file, []byte(timingWorld), 0o644); err != nil {
		return err
	}
	const name = "benchtiming"
	in := func(args ...string) *exec.Cmd {
		return exec.CommandContext(ctx, program, append([]string{"lab", "run", "-name", name, "-at", "here", "--"}, args...)...)
	}
	if out, err := exec.CommandContext(ctx, program, "lab", "up", "-world", file, "-name", name).CombinedOutput(); err != nil {
		return fmt.Errorf("set up a lab: %w: %s", err, out)
	}
	defer func() { _ = exec.Command(program, "lab", "down", "-name", name).Run() }()
	own, err := filepath.Abs(program)
	if err != nil {
		return err
	}
	if out, err := in("sysctl", "-qw", "net.ipv4.ping_group_range=0 2147483647").CombinedOutput(); err != nil {
		return fmt.Errorf("let all groups ping: %w: %s", err, out)
	}
	// Another user cannot enter this one's folders.
	copied := filepath.Join(os.TempDir(), fmt.Sprintf("wlbench-%d", os.Getpid()))
	data, err := os.ReadFile(own)
	if err != nil {
		return err
	}
	if err := os.WriteFile(copied, data, 0o755); err != nil {
		return err
	}
	defer os.Remove(copied)
	ping := []string{copied, "ping", "-probes", strconv.Itoa(timed), "-every", "4ms", "-format", "ndjson", "192.0.2.2"}
	for _, c := range []struct {
		what string
		args []string
	}{
		{"privileged", ping},
		{"unprivileged", append([]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--bounding-set=-all", "--inh-caps=-all"}, ping...)},
	} {
		off, stamps, err := compareCapture(ctx, in, c.args)
		if err != nil {
			return fmt.Errorf("%s: %w", c.what, err)
		}
		slices.Sort(off)
		alone(fmt.Sprintf("RTT against a capture, %s (timed by %s, %d probes): median", c.what, stamps, len(off)), "µs", off[len(off)/2])
		alone("  99 % within", "µs", off[len(off)*99/100])
	}
	return nil
}

// compareCapture pings while the interface is captured, and returns how far each
// round trip is from the capture's, in microseconds.
func compareCapture(ctx context.Context, in func(...string) *exec.Cmd, args []string) ([]float64, string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	capture := in("tshark", "-l", "-n", "-i", "any", "-f", "icmp", "-c", strconv.Itoa(2*timed), "-T", "fields", "-e", "frame.time_epoch", "-e", "icmp.type", "-e", "icmp.ident", "-e", "icmp.seq")
	var captured bytes.Buffer
	capture.Stdout = &captured
	told, err := capture.StderrPipe()
	if err != nil {
		return nil, "", err
	}
	if err := capture.Start(); err != nil {
		return nil, "", err
	}
	lines := bufio.NewScanner(told)
	for lines.Scan() && !strings.Contains(lines.Text(), "Capturing on") {
	}
	go func() {
		for lines.Scan() {
		}
	}()
	wait(ctx, time.Second) // tshark says so before it does
	out, err := in(args...).Output()
	if err != nil {
		return nil, "", err
	}
	ended := make(chan error, 1)
	go func() { ended <- capture.Wait() }()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		_ = capture.Process.Signal(os.Interrupt)
		<-ended
	}
	var ours []float64
	stamps := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		var p struct {
			Outcome    string   `json:"outcome"`
			RTTMs      *float64 `json:"rtt_ms"`
			Timestamps string   `json:"timestamps"`
			Number     int      `json:"number"`
		}
		if err := json.Unmarshal([]byte(line), &p); err != nil {
			return nil, "", err
		}
		if p.RTTMs == nil {
			return nil, "", errors.New("a probe was not answered: the comparison needs all")
		}
		stamps[p.Timestamps] = true
		for len(ours) <= p.Number {
			ours = append(ours, 0)
		}
		ours[p.Number] = *p.RTTMs
	}
	theirs := roundTrips(captured.String())
	if len(theirs) != len(ours) {
		return nil, "", fmt.Errorf("the capture has %d round trips, the ping %d", len(theirs), len(ours))
	}
	off := make([]float64, len(ours))
	for i := range ours {
		off[i] = math.Abs(ours[i]-theirs[i]) * 1000
	}
	var by []string
	for s := range stamps {
		by = append(by, s)
	}
	slices.Sort(by)
	return off, strings.Join(by, " and "), nil
}

// roundTrips reads a capture's round trips in milliseconds, in the order of the
// requests.
func roundTrips(text string) []float64 {
	var order []string
	requests, replies := map[string]float64{}, map[string]float64{}
	for line := range strings.Lines(text) {
		f := strings.Split(strings.TrimSpace(line), "\t")
		if len(f) < 4 {
			continue
		}
		// Seconds and their parts apart: a float64 has not the digits for both.
		whole, part, _ := strings.Cut(f[0], ".")
		seconds, _ := strconv.ParseInt(whole, 10, 64)
		nanos, _ := strconv.ParseFloat("0."+part, 64)
		at := float64(seconds%100_000)*1000 + nanos*1000
		key := f[2] + "/" + f[3]
		if f[1] == "8" {
			if _, again := requests[key]; !again {
				order = append(order, key)
				requests[key] = at
			}
		} else if _, again := replies[key]; !again {
			replies[key] = at
		}
	}
	var list []float64
	for _, key := range order {
		if at, ok := replies[key]; ok {
			list = append(list, at-requests[key])
		}
	}
	return list
}
