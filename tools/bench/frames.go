package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/circuit"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trial"
)

// frames measures how many frames of a test go over a link of this machine in a second, each
// written, checked, counted and timed, beside a loop in C that does none of that; and how late
// they leave at 10,000 a second.
func frames(ctx context.Context, dir string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	c, err := circuit.New(circuit.Options{Bare: true})
	if err != nil {
		return err
	}
	defer c.Close()
	at := netip.AddrPortFrom(circuit.FarAddr, 7474)
	limits := respond.Usual()
	limits.Rate = 1e12
	r, err := respond.New(respond.Options{Network: c.Far, Listen: at, Keys: respond.Shared("bench"), Limits: limits})
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	defer owned.Wait()
	defer stop()
	b := trial.Bench{Options: nearend.Options{Network: c.Near, To: at, Key: session.KeyFrom("bench")}, Real: true}
	for _, size := range []int{64, 256, 1518} {
		if err := framesOf(ctx, &b, size, "by UDP", floor, "frames", strconv.Itoa(frameSeconds), strconv.Itoa(size-46), c.Near.Path(), c.Far.Path()); err != nil {
			return err
		}
	}
	b.Plan.Over, b.Plan.Ethernet.Interface = acceptance.Frame, circuit.Interface
	for _, size := range []int{64, 256, 1518} {
		if err := framesOf(ctx, &b, size, "without IP", floor, "link", strconv.Itoa(frameSeconds), strconv.Itoa(size-4), c.Near.Path(), c.Far.Path(), circuit.Interface); err != nil {
			return err
		}
	}
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	fmt.Printf("%-62s %14.0f\n", "  memory of both ends together, MB", float64(memory.Sys)/1e6)
	return framePacing(ctx, floor)
}

// frameSeconds is how long frames are sent.
const frameSeconds = 2

// framesOf measures frames of a size, in pairs with the floor.
func framesOf(ctx context.Context, b *trial.Bench, size int, how, floor string, args ...string) error {
	const pairs = 5
	var ours, bare []float64
	for range pairs {
		out, err := outputOf(ctx, floor, args...)
		if err != nil {
			return err
		}
		bare = append(bare, out[0])
		o, err := b.Make(ctx, acceptance.Trial{Part: acceptance.Throughput, For: acceptance.Span(frameSeconds * time.Second), Loads: []acceptance.Load{{There: true, Service: -1, FPS: 4e6, Frames: []int{size}}}}, nil)
		if err != nil {
			return err
		}
		s := o.Seen[0]
		ours = append(ours, s.Offered*float64(s.Received)/float64(max(1, s.Sent)))
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf("%-62s %14.0f %14.0f %8.2f\n", fmt.Sprintf("frames of %d bytes %s over a link, a second (median of %d)", size, how, pairs), ours[pairs/2], bare[pairs/2], ours[pairs/2]/bare[pairs/2])
	return nil
}

// noted is a connection that notes when messages left.
type noted struct {
	network.Conn
	left []time.Time
}

func (n *noted) SendAll(list []network.Outgoing) (int, error) {
	done, err := n.Conn.SendAll(list)
	for i := range done {
		n.left = append(n.left, list[i].Sent)
	}
	return done, err
}

// framePacing is how late frames leave at 10,000 a second.
func framePacing(ctx context.Context, floor string) error {
	const pairs, seconds, rate = 9, 2, 10_000
	var ours, bare []float64
	for range pairs {
		b, err := outputOf(ctx, floor, "pace", strconv.Itoa(seconds), strconv.Itoa(rate))
		if err != nil {
			return err
		}
		n := kernel.Host()
		conn, err := n.Open(network.UDP, 4, network.SocketOptions{Source: netip.MustParseAddr("127.0.0.1"), Bulk: true, Frames: true})
		if err != nil {
			return err
		}
		c := &noted{Conn: conn}
		shape := paced.Shape{Format: paced.Test, Calls: 1, Interval: time.Second / rate, Sizes: []int{172}, For: seconds * time.Second, First: 1, Bulk: true, FPS: rate}
		s := paced.Sender{Shape: shape, Conn: c, To: netip.MustParseAddrPort("127.0.0.1:7998"), Clock: n.Clock(), Wall: paced.Plain}
		begin := n.Clock().Now().Add(10 * time.Millisecond)
		_, err = s.Run(ctx, begin)
		_ = conn.Close()
		if err != nil {
			return err
		}
		late := make([]float64, len(c.left))
		pauses := s.Departed().Pauses
		for i, at := range c.left {
			for len(pauses) > 0 && int64(i) >= pauses[0].Frame { // the times of all later ones were put off
				begin = begin.Add(time.Duration(pauses[0].Seconds * 1e9))
				pauses = pauses[1:]
			}
			late[i] = float64(at.Sub(begin.Add(time.Duration(i)*time.Second/rate))) / 1e6
		}
		slices.Sort(late)
		ours, bare = append(ours, late[len(late)*99/100]), append(bare, b[0])
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf("%-62s %14.3f %14.3f %8.2f\n", "10,000 frames a second: 99 % leave within, ms (median of 9)", ours[pairs/2], bare[pairs/2], ours[pairs/2]/bare[pairs/2])
	return nil
}

// circuitsOf tries all circuits whose truth is known.
func circuitsOf(ctx context.Context, _ string) error {
	c := exec.CommandContext(ctx, "go", "test", "-count=1", "-v", "-timeout", "40m", "-run", "TestCircuits|TestShapedRatesOfAllSizes", "./demo/faults/circuits", "./internal/probe/trial")
	c.Env = append(os.Environ(), "WOODLARK_CIRCUITS=all")
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	return c.Run()
}
