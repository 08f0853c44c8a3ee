package trial_test

import (
	"context"
	"net/netip"
	"os/exec"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network/circuit"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trial"
)

// across is a bench on a circuit of this machine's kernel.
func across(t *testing.T, o circuit.Options, six bool) *trial.Bench {
	t.Helper()
	b, _ := acrossOf(t, o, six)
	return b
}

func acrossOf(t *testing.T, o circuit.Options, six bool) (*trial.Bench, *circuit.Circuit) {
	t.Helper()
	c, err := circuit.New(o)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	at := netip.AddrPortFrom(circuit.FarAddr, 7474)
	if six {
		at = netip.AddrPortFrom(circuit.FarSix, 7474)
	}
	beside(t, c, at)
	return &trial.Bench{Options: nearend.Options{Network: c.Near, To: at, Key: session.KeyFrom("gull"), End: session.Here("near", "test"), Settle: 300 * time.Millisecond}, Real: true}, c
}

// beside has a far end at an address of the circuit's.
func beside(t *testing.T, c *circuit.Circuit, at netip.AddrPort) {
	t.Helper()
	end := session.Here("far", "test")
	r, err := respond.New(respond.Options{Network: c.Far, Listen: at, Keys: respond.Shared("gull"), Limits: respond.Usual(), End: func() session.End { return end }})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	t.Cleanup(func() { cancel(); owned.Wait() })
}

func amount(t *testing.T, text string) (w acceptance.Ways) {
	t.Helper()
	require.NoError(t, w.UnmarshalText([]byte(text)))
	return w
}

// run carries out a plan.
func run(t require.TestingT, b *trial.Bench, p acceptance.Plan) acceptance.Result {
	require.Empty(t, p.Check())
	b.Plan = p
	var made []acceptance.Outcome
	for {
		w := acceptance.Walk(p, made)
		if w.Next == nil {
			return w.Result
		}
		o, err := b.Make(context.Background(), *w.Next, nil)
		require.NoError(t, err, w.Next.Says)
		made = append(made, o)
	}
}

// quick is a plan of one part by frame size, with short trials.
func quick(part string, sizes ...int) acceptance.Plan {
	second := acceptance.Span(time.Second)
	b := &acceptance.BySize{Sizes: sizes, Throughput: acceptance.ThroughputPart{For: second, Skip: part != "throughput"}, Latency: acceptance.LatencyPart{For: second, Trials: 1, Skip: part != "latency"},
		Loss: acceptance.LossPart{For: second, Skip: part != "loss"}, Burst: acceptance.BurstPart{Trials: 1, Longest: second, Skip: part != "burst"}}
	return acceptance.Plan{Wait: acceptance.Span(time.Millisecond), First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true}, BySize: b}
}

// TestShapedRates: what a token bucket lets through is found within half a percent, by what the
// kernel counts: frames without their FCS. A slower way back is told as such.
func TestShapedRates(t *testing.T) {
	const there, back = 20e6, 1e6
	b := across(t, circuit.Options{There: circuit.Way{Rate: there, Queue: 30_000}, Back: circuit.Way{Rate: back, Queue: 20_000}}, false)
	const size = 512
	p := quick("throughput", size)
	p.BySize.Most = amount(t, "there 30M back 2M")
	p.BySize.Throughput.For = acceptance.Span(2 * time.Second) // of a slow way a second has few frames
	busy.Tries(t, func(c *busy.Try) {
		for _, w := range run(c, b, p).Sizes[0].Ways {
			got := w.Throughput.Rates.FPS * 8 * (size - 4)
			want := map[bool]float64{true: there, false: back}[w.There]
			assert.InEpsilon(c, want, got, 0.005, "there: %v, %s", w.There, w.Throughput.Limited)
		}
	})
}

// TestAPolicer: of a service whose excess is dropped and does not wait. nftables counts IP packets.
func TestAPolicer(t *testing.T) {
	const police, size = 8e6, 518
	b := across(t, circuit.Options{There: circuit.Way{Police: police, Burst: 50_000}}, false)
	p := quick("throughput", size)
	p.Way, p.BySize.Most = acceptance.There, amount(t, "48M")
	busy.Tries(t, func(c *busy.Try) {
		got := run(c, b, p).Sizes[0].Ways[0].Throughput.Rates.IPBps
		assert.InEpsilon(c, police, got, 0.005)
	})
}

// TestKnownLoss: what the middle drops at random lies in the interval that is told, at a rate that
// fits; nothing is lost where nothing is dropped.
func TestKnownLoss(t *testing.T) {
	b := across(t, circuit.Options{There: circuit.Way{Drop: 300}}, false)
	p := quick("loss", 256)
	p.BySize.Most, p.BySize.Loss.Step = amount(t, "8M"), acceptance.ShareOf(0.5)
	busy.Tries(t, func(c *busy.Try) {
		r := run(c, b, p)
		for _, w := range r.Sizes[0].Ways {
			for _, s := range w.Loss {
				if w.There {
					assert.LessOrEqual(c, *s.LossLow, 0.03)
					assert.GreaterOrEqual(c, *s.LossHigh, 0.03)
				} else {
					assert.Zero(c, s.Lost)
				}
			}
		}
	})
}

// TestDelays: one way by one clock, and returned, where the far end sends each frame back and both
// ways count as one; by IPv6, too.
func TestDelays(t *testing.T) {
	for name, six := range map[string]bool{"IPv4": false, "IPv6": true} {
		t.Run(name, func(t *testing.T) {
			b := across(t, circuit.Options{}, six)
			p := quick("latency", 128)
			p.Family, p.BySize.Most = map[bool]int{true: 6, false: 4}[six], amount(t, "5M")
			busy.Tries(t, func(c *busy.Try) {
				r := run(c, b, p)
				for _, s := range r.Sizes {
					require.Len(c, s.Ways, 2)
					for _, w := range s.Ways {
						require.NotNil(c, w.Latency)
						assert.Equal(c, acceptance.OneWay, w.Latency.Delay.Of)
						assert.Positive(c, w.Latency.Delay.LeastMs)
						assert.Less(c, w.Latency.Delay.P50Ms, 0.2, "there is nothing between but this machine")
					}
				}
				if six {
					return
				}
				p := p
				p.Ends = acceptance.Returned
				r = run(c, b, p)
				for _, s := range r.Sizes {
					require.Len(c, s.Ways, 1)
					require.NotNil(c, s.Ways[0].Latency)
					assert.Equal(c, acceptance.Round, s.Ways[0].Latency.Delay.Of)
					assert.Less(c, s.Ways[0].Latency.Delay.P50Ms, 0.6)
				}
			})
		})
	}
}

// TestBursts: a queue of 60 large frames holds a burst of as many, and what leaves meanwhile.
func TestBursts(t *testing.T) {
	const size, frames, rate = 1518, 60, 10e6
	b := across(t, circuit.Options{There: circuit.Way{Rate: rate, Queue: frames * (size - 4), Bucket: 2 * (size - 4)}}, false)
	p := quick("burst", size)
	p.Way, p.BySize.Most = acceptance.There, amount(t, "100M")
	p.BySize.Throughput.Skip = false
	busy.Tries(t, func(c *busy.Try) {
		w := run(c, b, p).Sizes[0].Ways[0]
		require.NotNil(c, w.Burst)
		require.NotNil(c, w.Burst.Buffer, "%+v", w.Burst)
		assert.InDelta(c, frames+2, *w.Burst.Buffer, 1, "the queue and the bucket: %+v", w.Burst)
	})
}

// TestServices: two at once, each with its own mark, sizes and rate; a performance test counts each
// second.
func TestServices(t *testing.T) {
	b := across(t, circuit.Options{}, false)
	p := acceptance.Plan{Wait: acceptance.Span(time.Millisecond), First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true},
		By: &acceptance.Services{Configuration: acceptance.Configuration{Skip: true}, Performance: acceptance.Performance{For: acceptance.Span(3 * time.Second)}, List: []acceptance.Service{
			{Name: "calls", CIR: amount(t, "1M"), Frames: "emix:abc", DSCP: "EF"}, {Name: "files", CIR: amount(t, "4M"), Frames: "1518"}}}}
	require.Empty(t, p.Check())
	b.Plan = p
	busy.Tries(t, func(c *busy.Try) {
		next := acceptance.Walk(p, nil).Next
		o, err := b.Make(t.Context(), *next, nil)
		require.NoError(c, err)
		require.Len(c, o.Seen, 4)
		for i, s := range o.Seen {
			assert.Equal(c, s.Sent, s.Received)
			assert.Equal(c, 3, s.Of)
			assert.Empty(c, s.Bad)
			want := int64(3 * next.Loads[i].FPS)
			assert.InDelta(c, want, s.Sent, 1, s.Ours)
			mark := map[int]int{0: 46, 1: 0}[next.Loads[i].Service]
			assert.Equal(c, map[int]int64{mark: s.Received}, s.Marks, "the mark it arrived with")
		}
		r := acceptance.Walk(p, []acceptance.Outcome{o}).Result
		require.NotNil(c, r.Services[0].Ways[0].Run)
		assert.Equal(c, acceptance.Pass, r.Verdict, "%+v", r.Criteria)
		assert.InEpsilon(c, 1e6, r.Services[0].Ways[0].Run.Received.FrameBps, 0.02, "unless this machine was away")
	})
}

// TestTooLarge: frames that do not fit the way are told as such, and nothing is cut up.
func TestTooLarge(t *testing.T) {
	b := across(t, circuit.Options{MTU: 1400}, false)
	p := quick("throughput", 1000, 1518)
	p.Way, p.BySize.Most = acceptance.There, amount(t, "2M")
	p.BySize.Limits.Throughput = amount(t, "1M")
	r := run(t, b, p)
	assert.False(t, r.Sizes[0].Ways[0].Throughput.TooLarge)
	assert.True(t, r.Sizes[1].Ways[0].Throughput.TooLarge)
	assert.Equal(t, acceptance.Fail, r.Verdict)
}

// TestStopped: in the middle of a trial; what was measured of it is told, and the far end is free.
func TestStopped(t *testing.T) {
	b := across(t, circuit.Options{}, false)
	p := acceptance.Plan{First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true}, By: &acceptance.Services{Configuration: acceptance.Configuration{Skip: true},
		Performance: acceptance.Performance{For: acceptance.Span(time.Hour)}, List: []acceptance.Service{{Name: "files", CIR: amount(t, "1M")}}}}
	b.Plan = p
	ctx, cancel := context.WithCancel(t.Context())
	began := time.Now()
	o, err := b.Make(ctx, *acceptance.Walk(p, nil).Next, func(x nearend.Progress) {
		if x.Elapsed > time.Second {
			cancel()
		}
	})
	cancel()
	require.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.Greater(t, o.Took.D(), time.Second)
	require.Len(t, o.Seen, 2)
	assert.Positive(t, o.Seen[0].Received)
	assert.Less(t, o.Seen[0].Of, 20, "seconds that did not come are not lost")
}

// TestThisHost: it sends itself something at each size.
func TestThisHost(t *testing.T) {
	b := &trial.Bench{Options: nearend.Options{Network: kernel.Host()}, Real: true}
	p := quick("throughput", 64, 1518)
	p.Host, p.BySize.Most = acceptance.HostCheck{For: acceptance.Span(200 * time.Millisecond)}, amount(t, "1M")
	b.Plan = p
	o, err := b.Make(t.Context(), *acceptance.Walk(p, nil).Next, nil)
	require.NoError(t, err)
	assert.Greater(t, o.Seen[0].Offered, 1000.0)
}

// TestTheFirstLookFindsThePathsMTU: what comes through whole, of both families; frames that do not
// fit are not tried for long.
func TestTheFirstLookFindsThePathsMTU(t *testing.T) {
	for name, c := range map[string]struct {
		o    circuit.Options
		six  bool
		want int // as the path has it, or as far as is looked
	}{
		"all alike":                  {circuit.Options{}, false, 1500},
		"smaller behind a router":    {circuit.Options{FarMTU: 1400}, false, 1400},
		"the same of IPv6":           {circuit.Options{FarMTU: 1400}, true, 1400},
		"large frames":               {circuit.Options{MTU: 9000}, false, 9000},
		"large ones, and not behind": {circuit.Options{MTU: 9000, FarMTU: 1500}, true, 1500},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := across(t, c.o, c.six)
			p := quick("throughput", 200, max(1500, c.o.MTU)+18)
			p.First, p.BySize.Most, p.Family = acceptance.First{For: acceptance.Span(100 * time.Millisecond)}, amount(t, "1M"), 4
			if c.six {
				p.Family = 6
			}
			b.Plan = p
			o, err := b.Make(t.Context(), *acceptance.Walk(p, nil).Next, nil)
			require.NoError(t, err)
			assert.Equal(t, []int{c.want, c.want}, []int{o.Look.MTUThere, o.Look.MTUBack})
			made := []acceptance.Outcome{o}
			for w := acceptance.Walk(p, made); w.Next != nil; w = acceptance.Walk(p, made) {
				require.Less(t, len(made), 40)
				seen := acceptance.Outcome{}
				for _, l := range w.Next.Loads { // all that is asked for is carried
					n := int64(l.FPS * w.Next.For.D().Seconds())
					seen.Seen = append(seen.Seen, acceptance.Seen{Sent: n, Received: n, Offered: l.FPS})
				}
				made = append(made, seen)
			}
			large := acceptance.Walk(p, made).Result.Sizes[1].Ways[0].Throughput
			assert.Equal(t, c.want < max(1500, c.o.MTU), large.TooLarge)
		})
	}
}

// TestServicesWithEndsOfTheirOwn: each leaves from its own address, and goes to its own.
func TestServicesWithEndsOfTheirOwn(t *testing.T) {
	b, c := acrossOf(t, circuit.Options{}, false)
	for _, x := range []struct {
		end     *circuit.End
		address string
	}{{c.Near, "192.0.2.9/24"}, {c.Far, "198.51.100.9/24"}} {
		out, err := exec.Command("nsenter", "--net="+x.end.Path(), "ip", "addr", "add", x.address, "dev", circuit.Interface).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	other := netip.MustParseAddrPort("198.51.100.9:7474")
	beside(t, c, other)
	b.Far = func(_ context.Context, text string) (netip.AddrPort, error) {
		a, err := netip.ParseAddr(text)
		return netip.AddrPortFrom(a, 7474), err
	}
	p := quick("", 0)
	p.BySize = nil
	p.By = &acceptance.Services{Configuration: acceptance.Configuration{Skip: true}, Performance: acceptance.Performance{For: acceptance.Span(time.Second)},
		List: []acceptance.Service{{Name: "calls", CIR: amount(t, "500k")}, {Name: "files", CIR: amount(t, "1M"), Source: "192.0.2.9", To: "198.51.100.9"}}}
	seen := capture(t, c.Far, "udp", "-e", "ip.src", "-e", "ip.dst", "-e", "frame.len")
	busy.Tries(t, func(k *busy.Try) {
		r := run(k, b, p)
		require.Len(k, r.Services, 2)
		for _, s := range r.Services {
			for _, w := range s.Ways {
				assert.Zero(k, w.Run.Lost, s.Service)
				assert.Positive(k, w.Run.Sent, s.Service)
			}
		}
	})
	counts := seen()
	for _, want := range []string{"192.0.2.1|198.51.100.1|508", "198.51.100.1|192.0.2.1|508", "192.0.2.9|198.51.100.9|508", "198.51.100.9|192.0.2.9|508"} {
		assert.Greater(t, counts[want], 100, "%s of %v", want, counts)
	}
	assert.Zero(t, counts["192.0.2.1|198.51.100.9|508"])
	p.By.List[1].To = "2001:db8:2::1"
	b.Plan = p
	_, err := b.Make(t.Context(), *acceptance.Walk(p, nil).Next, nil)
	require.ErrorContains(t, err, "of another family")
}
