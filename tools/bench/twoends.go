package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/wire"
)

// twoEnds measures what two ends on this machine reach beside bare loops in C.
func twoEnds(ctx context.Context, dir, program string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	far := exec.CommandContext(ctx, program, "respond", "-listen", "127.0.0.1:7574", "-key", "bench")
	if err := far.Start(); err != nil {
		return err
	}
	defer func() {
		_ = far.Process.Kill()
		_ = far.Wait()
	}()
	if err := awaitPort(ctx, "127.0.0.1:7574"); err != nil {
		return err
	}
	for _, part := range []func(context.Context, string, string, string) error{oneStream, gigabit, voicePacing, manyCalls} {
		if err := part(ctx, dir, program, floor); err != nil {
			return err
		}
	}
	return nil
}

// awaitPort waits until something listens.
func awaitPort(ctx context.Context, at string) error {
	s := kernel.Host().(network.Streams)
	for range 100 {
		c, err := s.DialTCP(ctx, netip.MustParseAddrPort(at), network.StreamOptions{})
		if err == nil {
			return c.Close()
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return fmt.Errorf("nothing listens at %s", at)
}

func outputOf(ctx context.Context, name string, args ...string) ([]float64, error) {
	out, err := exec.CommandContext(ctx, name, args...).Output()
	if err != nil {
		return nil, fmt.Errorf("%s %v: %w", name, args, err)
	}
	var list []float64
	for _, f := range strings.Fields(string(out)) {
		v, err := strconv.ParseFloat(f, 64)
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	return list, nil
}

func throughputOf(ctx context.Context, program string, args ...string) (r finding.ThroughputReport, err error) {
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, program, append([]string{"throughput", "-key", "bench", "-direction", "there", "-format", "json"}, append(args, "127.0.0.1:7574")...)...)
	cmd.Stdout = &out
	_ = cmd.Run() // its status tells of findings
	return r, json.Unmarshal(out.Bytes(), &r)
}

// oneStream is TCP by one connection.
func oneStream(ctx context.Context, _, program, floor string) error {
	var ours, bare []float64
	const pairs, seconds = 9, "2" // short and many: what else the machine does hits both alike
	for range pairs {
		b, err := outputOf(ctx, floor, "tcp", seconds)
		if err != nil {
			return err
		}
		r, err := throughputOf(ctx, program, "-for", seconds+"s", "-warm-up", "0s", "-explain=false")
		if err != nil {
			return err
		}
		bare, ours = append(bare, b[0]/1e9), append(ours, *r.Directions[0].WholeBps/1e9)
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf("%-62s %14.2f %14.2f %8.2f\n", "TCP over loopback, one stream, Gbit/s (median of 9)", ours[pairs/2], bare[pairs/2], ours[pairs/2]/bare[pairs/2])
	return nil
}

// gigabit is UDP at 1 Gbit/s in packets of 1,400 bytes.
func gigabit(ctx context.Context, _, program, floor string) error {
	const rate = 1e9 / 8 / 1400
	b, err := outputOf(ctx, floor, "udp", "5", fmt.Sprintf("%.2f", rate), "1400")
	if err != nil {
		return err
	}
	r, err := throughputOf(ctx, program, "-protocol", "udp", "-rate", "1G", "-for", "5s")
	if err != nil {
		return err
	}
	d := r.Directions[0]
	lost := -1.0
	if d.LossRatio != nil {
		lost = *d.LossRatio * float64(*d.Packets)
	}
	fmt.Printf("%-62s %14.0f %14.0f\n", "UDP at 1 Gbit/s over loopback, 5 s: packets lost", lost, b[0]-b[1])
	fmt.Printf("%-62s %14.0f %14.0f %8.3f\n", "  packets sent", float64(*d.Packets), b[0], float64(*d.Packets)/b[0])
	return nil
}

// voicePacing is how late packets of a call leave. A machine that stops for tens of
// milliseconds now and then would decide one long run; of short pairs the middle one
// tells the sender.
func voicePacing(ctx context.Context, _, _, floor string) error {
	const pairs, seconds = 9, 5
	var ours, bare []float64
	for range pairs {
		b, err := outputOf(ctx, floor, "pace", strconv.Itoa(seconds), "50")
		if err != nil {
			return err
		}
		late, err := lateness(ctx, seconds*time.Second)
		if err != nil {
			return err
		}
		bare, ours = append(bare, b[0]), append(ours, late[len(late)*99/100])
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf("%-62s %14.3f %14.3f %8.2f\n", "50 packets a second: 99 % leave within, ms (median of 9)", ours[pairs/2], bare[pairs/2], ours[pairs/2]/bare[pairs/2])
	fmt.Printf("%-62s %14.3f %14.3f\n", "  the worst of the 9", ours[pairs-1], bare[pairs-1])
	return nil
}

// lateness is how many milliseconds after their moments the packets of a call leave, by
// the kernel's times, the latest last.
func lateness(ctx context.Context, length time.Duration) ([]float64, error) {
	n, here := kernel.Host(), netip.MustParseAddr("127.0.0.1")
	in, err := n.Open(network.UDP, wire.IPv4, network.SocketOptions{Source: here, Port: 47475})
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out, err := n.Open(network.UDP, wire.IPv4, network.SocketOptions{Source: here})
	if err != nil {
		return nil, err
	}
	s := paced.Shape{Format: paced.RTP, Calls: 1, Interval: 20 * time.Millisecond, Sizes: []int{172}, For: length, First: 1, Clock: 8000}
	d := paced.NewDuplex(out, netip.AddrPortFrom(here, 47475), n.Clock(), paced.Plain, &s, nil)
	d.Listen()
	start := time.Now().Add(20 * time.Millisecond)
	d.Start(ctx, start)
	<-d.Sending()
	log, _, err := d.Close()
	if err != nil {
		return nil, err
	}
	var late []float64
	wall := start.Round(0)
	for i, at := range log.Sent[0] {
		late = append(late, float64(at.Sub(wall.Add(time.Duration(i)*s.Interval)))/1e6)
	}
	slices.Sort(late)
	return late, nil
}

// manyCalls is what 500 calls at once cost the near end.
func manyCalls(ctx context.Context, _, program, floor string) error {
	const seconds = 20
	used, err := runProcess(ctx, floor, program, "stream", "-key", "bench", "-codec", "g711", "-calls", "500", "-for", fmt.Sprintf("%ds", seconds), "-format", "json", "127.0.0.1:7574")
	if len(used.out) == 0 {
		return err
	}
	var r finding.StreamReport
	if err := json.Unmarshal(used.out, &r); err != nil {
		return err
	}
	fmt.Printf("%-62s %14.2f\n", "500 calls both ways for 20 s: processors used by the near end", used.cpu/seconds)
	fmt.Printf("%-62s %14.0f\n", "  peak memory, MiB", used.peakMiB)
	for _, d := range r.Directions {
		fmt.Printf("%-62s %14d\n", fmt.Sprintf("  of %d packets (there: %v) late by more than 1 ms, and lost: %d", d.Sent, d.There, *d.Lost), d.LateSent)
	}
	return nil
}
