package main

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/link"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/probe/ping"
)

// sixHops is a way of six links, each of which varies and loses.
const sixHops = `
world: six hops
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: r1, router: true}
  - {name: r2, router: true}
  - {name: r3, router: true}
  - {name: r4, router: true}
  - {name: r5, router: true}
  - {name: b, addresses: [198.51.100.2]}
links:
  - {between: [a, r1], delay: 1ms, KIND}
  - {between: [r1, r2], delay: 1ms, KIND}
  - {between: [r2, r3], delay: 1ms, KIND}
  - {between: [r3, r4], delay: 1ms, KIND}
  - {between: [r4, r5], delay: 1ms, KIND}
  - {between: [r5, b], delay: 1ms, KIND}
`

// worlds measures how fast a world decides about packets, beside a loop that
// only draws as many random numbers.
func worlds(ctx context.Context, _ string) error {
	const fates = 1_000_000
	start := time.Date(2026, 11, 18, 0, 0, 0, 0, time.UTC)
	to := netip.MustParseAddr("198.51.100.2")
	for _, kind := range []struct{ name, link string }{
		{"random loss", "loss: 0.1%"},
		{"uniform variation, random loss", "variation: uniform 100us, loss: 0.1%"},
		{"gamma variation, bursts of loss, a rate", "variation: gamma 100us, loss: bursts enter 0.1% leave 20%, rate: 1Gbit/s"},
	} {
		m, err := world.Read([]byte(strings.ReplaceAll(sixHops, "KIND", kind.link)), world.Options{Reference: start})
		if err != nil {
			return err
		}
		ours, err := median(3, func() error {
			w := m.Walker()
			for i := range fates {
				w.Send(world.Probe{To: to, At: start.Add(time.Duration(i) * time.Millisecond), Number: uint64(i)}, false)
			}
			return nil
		})
		if err != nil {
			return err
		}
		floor, err := median(3, func() error {
			x := uint64(1)
			for range fates * 6 * 2 {
				x = link.Mix(x)
			}
			kept = x
			return nil
		})
		if err != nil {
			return err
		}
		row("world: fates over six hops, "+kind.name+"; bare draws", "M/s", fates/ours/1e3, fates/floor/1e3)
	}
	return aDay(ctx, start)
}

// kept keeps the compiler from leaving work out.
var kept uint64

// aDay measures a day of one ping a second in virtual time.
func aDay(ctx context.Context, start time.Time) error {
	m, err := world.Read([]byte(strings.ReplaceAll(sixHops, "KIND", "variation: gamma 100us, loss: 0.1%")), world.Options{Reference: start})
	if err != nil {
		return err
	}
	to := netip.MustParseAddr("198.51.100.2")
	walked, err := median(3, func() error {
		return history.Minutes(ctx, m, history.Path{To: to, Interval: time.Second, Wait: 2 * time.Second}, start, start.Add(24*time.Hour), history.Discard)
	})
	if err != nil {
		return err
	}
	whole, err := median(3, func() error {
		h, err := live.Virtual(m, start).At("a")
		if err != nil {
			return err
		}
		_, err = ping.Measure(ctx, h, ping.Request{Addrs: []netip.Addr{to}, Probes: 86_400, Interval: time.Second, Wait: 2 * time.Second, Mark: 1})
		return err
	})
	if err != nil {
		return err
	}
	alone("world: a day of one ping a second over six hops, history", "s", walked/1e3)
	alone("world: … by the whole engine and whole packets", "s", whole/1e3)
	return nil
}
