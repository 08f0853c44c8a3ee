package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/finding"
)

// tcpLines are the links over which TCP in a world is held against the kernel's.
// Where a test meets few losses its rate is a matter of chance, and more are needed.
var tcpLines = []struct {
	name, delay, there string
	pairs              int
}{
	{"policer 10 Mbit/s, 23 ms", "11500us", "rate: 100Mbit/s, policer: 10Mbit/s 120kB", 3},
	{"20 Mbit/s, queue 10 ms, 20 ms", "10ms", "rate: 20Mbit/s, queue: 10ms", 3},
	{"20 Mbit/s, queue 300 ms, 20 ms", "10ms", "rate: 20Mbit/s, queue: 300ms", 3},
	{"20 Mbit/s, queue 50 ms, 1 ms", "500us", "rate: 20Mbit/s, queue: 50ms", 3},
	{"5 Mbit/s, queue 300 ms, 300 ms", "150ms", "rate: 5Mbit/s, queue: 300ms", 3},
	{"50 Mbit/s, 0.1 % lost, 20 ms", "10ms", "rate: 50Mbit/s, queue: 50ms, loss: 0.1%", 11},
	{"20 Mbit/s, 1 % lost, 40 ms", "20ms", "rate: 20Mbit/s, queue: 50ms, loss: 1%", 5},
	{"20 Mbit/s, 5 % lost, 40 ms", "20ms", "rate: 20Mbit/s, queue: 50ms, loss: 5%", 5},
}

// tcpWorlds measures what TCP moves over a link of a world, beside what the kernel's TCP
// moves over the same link in the lab, in turns; both by cubic. It needs what the lab needs.
func tcpWorlds(ctx context.Context, dir, program string) error {
	for i, l := range tcpLines {
		file := filepath.Join(dir, fmt.Sprintf("line%d.yaml", i))
		world := fmt.Sprintf("world: line %d\nseed: %d\nnodes:\n  - {name: near.example, addresses: [192.0.2.2]}\n  - {name: mid.example, router: true, addresses: [198.51.100.1]}\n  - {name: far.example, addresses: [203.0.113.2]}\n"+
			"links:\n  - {between: [near.example, mid.example], delay: 10us}\n  - {between: [mid.example, far.example], delay: %s, toward: {far.example: {%s}}}\n", i, i+1, l.delay, l.there)
		if err := os.WriteFile(file, []byte(world), 0o600); err != nil {
			return err
		}
		var ours, kernels []float64
		for range l.pairs {
			rate, err := tcpRate(ctx, program, nil, "-world", file, "-from", "near.example", "far.example")
			if err != nil {
				return err
			}
			ours = append(ours, rate)
			if rate, err = kernelRate(ctx, program, file); err != nil {
				return err
			}
			kernels = append(kernels, rate)
		}
		slices.Sort(ours)
		slices.Sort(kernels)
		row("TCP in a world, "+l.name+"; the kernel's in the lab", "Mbit/s", ours[l.pairs/2]/1e6, kernels[l.pairs/2]/1e6)
	}
	return nil
}

// kernelRate is what the kernel's TCP moves across a lab of the same file.
func kernelRate(ctx context.Context, program, file string) (float64, error) {
	const name = "bench"
	if out, err := exec.CommandContext(ctx, program, "lab", "up", "-world", file, "-name", name).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("set up a lab: %w: %s", err, out)
	}
	defer func() { _ = exec.Command(program, "lab", "down", "-name", name).Run() }()
	far := exec.CommandContext(ctx, program, "lab", "run", "-name", name, "-at", "far.example", "--", program, "respond", "-listen", "203.0.113.2:7474", "-key", "bench")
	said, err := far.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := far.Start(); err != nil {
		return 0, err
	}
	defer func() {
		_ = far.Process.Signal(os.Interrupt)
		_ = far.Wait()
	}()
	first := make([]byte, 256)
	if n, err := said.Read(first); err != nil || !strings.Contains(string(first[:n]), "Far end") {
		return 0, fmt.Errorf("the far end in the lab did not start: %q, %v", first[:n], err)
	}
	return tcpRate(ctx, program, []string{"lab", "run", "-name", name, "-at", "near.example", "--", program}, "-key", "bench", "-congestion", "cubic", "203.0.113.2:7474")
}

// tcpRate is the rate of one throughput test, by a command before it if there is one.
func tcpRate(ctx context.Context, program string, before []string, args ...string) (float64, error) {
	const length = 10 * time.Second
	all := append(append(slices.Clone(before), "throughput", "-direction", "there", "-for", length.String(), "-explain=false", "-format", "json"), args...)
	out, err := exec.CommandContext(ctx, program, all...).Output()
	var r finding.ThroughputReport
	if problem := json.Unmarshal(out, &r); problem != nil {
		return 0, fmt.Errorf("%s: %w, %w", strings.Join(all, " "), problem, err)
	}
	if len(r.Directions) != 1 || r.Directions[0].ReceivedBps == nil {
		return 0, fmt.Errorf("%s moved nothing: %s", strings.Join(all, " "), r.Problem)
	}
	return *r.Directions[0].ReceivedBps, nil
}
