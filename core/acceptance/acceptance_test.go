package acceptance_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
)

func ways(t *testing.T, text string) (w acceptance.Ways) {
	t.Helper()
	require.NoError(t, w.UnmarshalText([]byte(text)))
	return w
}

func seconds(runs ...int) (list []acceptance.BadSecond) {
	for i, n := range runs { // good, bad, good, …
		for range n {
			s := acceptance.BadSecond{Second: len(list), Sent: 100}
			if i%2 == 1 {
				s.Lost = 51
			}
			list = append(list, s)
		}
	}
	return list
}

// TestAvailability: by hand, over the rules of ITU-T Y.1563 §8: ten severely errored seconds
// begin unavailable time, ten others end it, and belong to what they begin.
func TestAvailability(t *testing.T) {
	for _, c := range []struct {
		name                           string
		list                           []acceptance.BadSecond
		available, severe, unavailable int
	}{
		{"nothing lost", seconds(900), 900, 0, 0},
		{"nine are not unavailable", seconds(100, 9, 100), 209, 9, 0},
		{"ten are, from the first of them on", seconds(100, 10, 100), 200, 0, 10},
		{"nine good ones do not end it", seconds(100, 10, 9, 5, 100), 200, 0, 24},
		{"ten good ones end it, from the first of them on", seconds(100, 10, 10, 5, 100), 215, 5, 10},
		{"the last nine stay as they were", seconds(100, 12, 9), 100, 0, 21},
		{"from the begin", seconds(0, 30), 0, 0, 30},
		{"bad and good take turns", seconds(1, 1, 1, 1, 1, 1, 1, 1, 1, 1), 10, 5, 0},
		{"none", nil, 0, 0, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := acceptance.AvailabilityOf(c.list)
			assert.Equal(t, [3]int{c.available, c.severe, c.unavailable}, [3]int{a.Available, a.Severe, a.Unavailable})
			assert.Equal(t, int64(c.available*100), a.Sent)
		})
	}
	half := []acceptance.BadSecond{{Sent: 100, Lost: 50}}
	assert.Zero(t, acceptance.AvailabilityOf(half).Severe, "a half is not over half")
	_, ok := acceptance.Availability{}.Ratio()
	assert.False(t, ok)
	s := acceptance.Seen{Sent: 1000, Of: 10, Bad: []acceptance.BadSecond{{Second: 3, Sent: 100, Lost: 100}}}
	all := s.Seconds()
	require.Len(t, all, 10)
	sum := int64(0)
	for _, x := range all {
		sum += x.Sent
	}
	assert.Equal(t, int64(1000), sum)
}

func TestTrend(t *testing.T) {
	const each = 100 * time.Millisecond
	make := func(f func(i int) acceptance.Window) (list []acceptance.Window) {
		for i := range 20 {
			list = append(list, f(i))
		}
		return list
	}
	steady, growth := acceptance.Trend(make(func(i int) acceptance.Window {
		w := acceptance.Window{Sent: 100, Received: 100, Least: 5 * time.Millisecond}
		if i == 15 {
			w.Least = 80 * time.Millisecond // one that is late is no trend
		}
		return w
	}), each)
	assert.InDelta(t, 1000, *steady, 1e-6)
	assert.InDelta(t, 0, *growth, 1e-9)
	// A queue that grows by 2 ms in 100: what leaves it is 1/1.02 of what comes.
	steady, growth = acceptance.Trend(make(func(i int) acceptance.Window {
		return acceptance.Window{Sent: 100, Received: 100, Least: time.Duration(i) * 2 * time.Millisecond}
	}), each)
	assert.InDelta(t, 0.02, *growth, 1e-9)
	assert.InDelta(t, 1000/1.02, *steady, 1e-6)
	// A bucket lets all through for a second, then half.
	steady, _ = acceptance.Trend(make(func(i int) acceptance.Window {
		return acceptance.Window{Sent: 100, Received: []int64{100, 50}[i/10], Least: time.Millisecond}
	}), each)
	assert.InDelta(t, 500, *steady, 1e-6)
	steady, _ = acceptance.Trend(make(func(int) acceptance.Window { return acceptance.Window{Sent: 100} }), each)
	assert.Nil(t, steady, "of what does not arrive nothing is known")
}

// line is a circuit that is made up: its rate each way in frames a second, a queue or a bucket of
// frames, and what it loses of all.
type line struct {
	there, back float64
	loss        float64
	policed     float64 // the bucket of a policer; a queue when 0
	queue       float64
	delay       float64
	host        float64 // what the host offers at most; 0 for all
	noise       float64 // of what is found out about the trend
	r           *rand.Rand
}

func (c line) carry(p acceptance.Plan, t acceptance.Trial) (o acceptance.Outcome) {
	for _, l := range t.Loads {
		if t.Part == acceptance.OfHost {
			o.Seen = append(o.Seen, acceptance.Seen{Offered: 1e9})
			continue
		}
		fits := c.there
		if !l.There {
			fits = c.back
		}
		rate := l.FPS
		s := acceptance.Seen{Delay: &acceptance.Delay{Of: acceptance.OneWay, LeastMs: c.delay, MeanMs: c.delay + 0.5, P999Ms: c.delay + 2}}
		if c.host > 0 && rate > c.host {
			rate, s.Ours, s.Short = c.host, "it does not send faster", true
		}
		length := t.For.D().Seconds()
		s.Sent, s.Offered = int64(math.Round(rate*length)), rate
		s.Of = int(length)
		if l.Burst > 0 {
			s.Sent, s.Offered = int64(l.Burst), 1e6
			room := max(c.policed, c.queue) / (1 - fits/1e6)
			s.Received = min(s.Sent, int64(room))
			s.Whole = s.Received
			o.Seen = append(o.Seen, s)
			continue
		}
		noise := 1.0
		if c.r != nil {
			noise += c.noise * c.r.NormFloat64()
		}
		steady, growth := rate*(1-c.loss)*noise, 0.0
		s.Received = s.Sent
		if rate > fits {
			if c.policed > 0 {
				s.Received = min(s.Sent, int64(fits*length+c.policed))
				if s.Received < s.Sent {
					steady = fits * noise
				}
			} else {
				s.Received = min(s.Sent, int64(fits*length+c.queue))
				growth = rate/fits - 1
				steady = fits * noise
			}
		}
		if c.r != nil {
			growth += math.Abs(c.noise * c.r.NormFloat64())
		}
		s.Received -= int64(math.Round(float64(s.Received) * c.loss))
		s.Steady, s.Growth = &steady, &growth
		s.Whole = s.Received
		s.Bytes = s.Received * int64(p.Packing().MeanAt(l.Frames, capacity.Frame))
		o.Seen = append(o.Seen, s)
	}
	return o
}

// run carries a plan out on a circuit that is made up.
func run(t *testing.T, p acceptance.Plan, c line) (acceptance.Result, []acceptance.Outcome, time.Duration) {
	t.Helper()
	require.Empty(t, p.Check())
	var made []acceptance.Outcome
	took := time.Duration(0)
	for range 5000 {
		w := acceptance.Walk(p, made)
		if w.Next == nil {
			return w.Result, made, took
		}
		took += p.Lasts(*w.Next)
		made = append(made, c.carry(p, *w.Next))
	}
	require.Fail(t, "it does not end")
	return acceptance.Result{}, nil, 0
}

// TestTheRateIsFound: of lines of any rate, at any size, shaped or policed, with queues and
// buckets of any depth, both ways at once; within half a percent, and in few trials.
func TestTheRateIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(71, 1))
	for range 400 {
		size := []int{64, 128, 256, 512, 1024, 1280, 1518, 9000}[r.IntN(8)]
		line := line{r: r, noise: 0.0001, delay: 3}
		pack := acceptance.Packing{Family: 4}
		there, back := math.Pow(10, 6+2.7*r.Float64()), math.Pow(10, 6+2.7*r.Float64())
		line.there, line.back = there/8/float64(size), back/8/float64(size)
		depth := math.Pow(10, 4*r.Float64())
		most := [2]float64{1.01 + 2*r.Float64(), 1.01 + 2*r.Float64()}
		if r.IntN(2) == 0 {
			// A bucket that is not empty at half of a trial is not seen: that takes longer ones.
			line.policed = min(depth, 0.9*(most[0]-1)*line.there, 0.9*(most[1]-1)*line.back)
		} else {
			line.queue = depth
		}
		p := acceptance.Plan{Line: ways(t, "1G"), MTU: 9000, First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true},
			BySize: &acceptance.BySize{Sizes: []int{size}, Least: ways(t, "0.01%"), Most: acceptance.Ways{There: acceptance.Amount{Value: there * most[0]}, Back: acceptance.Amount{Value: back * most[1]}}, Latency: acceptance.LatencyPart{Skip: true},
				Loss: acceptance.LossPart{Skip: true}, Burst: acceptance.BurstPart{Skip: true}, Throughput: acceptance.ThroughputPart{For: acceptance.Span(2 * time.Second)}}}
		result, made, _ := run(t, p, line)
		for _, w := range result.Sizes[0].Ways {
			want := map[bool]float64{true: there, false: back}[w.There]
			got := pack.RatesOf(w.Throughput.Rates.FPS, []int{size}).FrameBps
			assert.InEpsilon(t, want, got, 0.005, "%d bytes, %v, %+v: %d trials", size, w.There, line, len(made))
		}
		assert.LessOrEqual(t, len(made), 24)
	}
}

func bySize(t *testing.T, change func(*acceptance.BySize)) acceptance.Plan {
	p := acceptance.Plan{Line: ways(t, "100M"), First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true}, BySize: &acceptance.BySize{Sizes: []int{512}}}
	if change != nil {
		change(p.BySize)
	}
	return p
}

// TestBySize goes through all parts by hand: a line of 10,000 frames a second each way, of
// 100 Mbit/s with a queue of 40 frames.
func TestBySize(t *testing.T) {
	c := line{there: 10_000, back: 10_000, queue: 40, delay: 4}
	limits := func(b *acceptance.BySize) {
		b.Limits = acceptance.SizeLimits{Throughput: ways(t, "9900fps"), Latency: acceptance.Span(5 * time.Millisecond), Variation: acceptance.Span(3 * time.Millisecond), Burst: 30}
	}
	r, made, took := run(t, bySize(t, limits), c)
	assert.Equal(t, acceptance.Pass, r.Verdict)
	require.Len(t, r.Sizes, 1)
	w := r.Sizes[0].Ways[0]
	most := 100e6 / 8 / 532
	assert.InDelta(t, most, w.Throughput.Most, 1e-6)
	assert.InEpsilon(t, 10_000, w.Throughput.Rates.FPS, 0.002)
	assert.InDelta(t, 4.5, w.Latency.Delay.MeanMs, 1e-9)
	assert.Len(t, w.Latency.Trials, 3)
	// 100, 90 % of 23,496 a second and so on are more than 10,000 down to 50 %; 40 and 30 % lose nothing.
	require.Len(t, w.Loss, 8)
	assert.InDelta(t, 1-(10_000*10+40)/(most*10), *w.Loss[0].Loss, 1e-4)
	assert.InDelta(t, 0.3, w.Loss[7].Share, 1e-9)
	assert.Zero(t, w.Loss[7].Lost)
	assert.InDelta(t, 40, w.Burst.Frames, 1, "the queue")
	assert.InDelta(t, 40, *w.Burst.Buffer, 1)
	e := acceptance.EstimateOf(bySize(t, limits), nil)
	assert.LessOrEqual(t, e.Least.D(), took)
	assert.GreaterOrEqual(t, e.Most.D(), took)
	// The same outcomes, the same result: a test that was cut goes on where it was.
	for n := range made {
		half := acceptance.Walk(bySize(t, limits), made[:n])
		require.NotNil(t, half.Next)
		assert.Equal(t, n, half.Result.Trials)
	}
}

// TestExactlyOneFails: of a circuit that misses one limit that one is told, and no other.
func TestExactlyOneFails(t *testing.T) {
	good := line{there: 10_000, back: 10_000, queue: 40, delay: 4}
	for name, c := range map[string]struct {
		line   line
		limits acceptance.SizeLimits
		figure acceptance.Figure
		fails  int
	}{
		"all is met":                       {good, acceptance.SizeLimits{Throughput: ways(t, "10kfps"), Latency: acceptance.Span(5 * time.Millisecond), Burst: 40}, "", 0},
		"too slow both ways":               {good, acceptance.SizeLimits{Throughput: ways(t, "10.1kfps"), Latency: acceptance.Span(5 * time.Millisecond)}, acceptance.FThroughput, 2},
		"too slow back":                    {line{there: 10_000, back: 9000, queue: 40}, acceptance.SizeLimits{Throughput: ways(t, "10kfps")}, acceptance.FThroughput, 1},
		"too late":                         {good, acceptance.SizeLimits{Throughput: ways(t, "9kfps"), Latency: acceptance.Span(4 * time.Millisecond)}, acceptance.FLatency, 2},
		"varies":                           {good, acceptance.SizeLimits{Latency: acceptance.Span(5 * time.Millisecond), Variation: acceptance.Span(time.Millisecond)}, acceptance.FVariation, 2},
		"too little is buffered":           {good, acceptance.SizeLimits{Throughput: ways(t, "9kfps"), Burst: 50}, acceptance.FBurst, 2},
		"loses at the highest":             {good, acceptance.SizeLimits{Loss: acceptance.ShareOf(0.01)}, acceptance.FLoss, 2},
		"loses nothing at what was bought": {good, acceptance.SizeLimits{Throughput: ways(t, "9kfps"), Loss: acceptance.ShareOf(0.01)}, "", 0},
	} {
		t.Run(name, func(t *testing.T) {
			r, _, _ := run(t, bySize(t, func(b *acceptance.BySize) { b.Limits = c.limits }), c.line)
			n := 0
			for _, x := range r.Criteria {
				if x.Verdict == acceptance.Fail {
					assert.Equal(t, c.figure, x.Figure)
					n++
				} else {
					assert.Equal(t, acceptance.Pass, x.Verdict, "%+v", x)
				}
			}
			assert.Equal(t, c.fails, n)
		})
	}
}

// TestThisHostIsTold: what this host cannot offer is not passed off as the circuit's.
func TestThisHostIsTold(t *testing.T) {
	p := bySize(t, func(b *acceptance.BySize) {
		b.Limits.Throughput = ways(t, "20kfps")
		b.Latency.Skip, b.Loss.Skip, b.Burst.Skip = true, true, true
	})
	r, made, _ := run(t, p, line{there: 1e6, back: 1e6, host: 12_000})
	assert.Equal(t, acceptance.Unknown, r.Verdict)
	assert.InEpsilon(t, 12_000, r.Sizes[0].Ways[0].Throughput.Rates.FPS, 0.001)
	assert.NotEmpty(t, r.Sizes[0].Ways[0].Throughput.Limited)
	assert.Equal(t, 2, r.Again, "it was tried again before it counted")
	assert.Len(t, made, 3)
}

func TestNothingArrives(t *testing.T) {
	p := bySize(t, nil)
	p.First.Skip = false
	r, made, _ := run(t, p, line{there: 1e6, back: 1e-9})
	assert.Equal(t, acceptance.Unknown, r.Verdict)
	assert.Contains(t, r.Stopped, "arrived back, while the other direction carries frames")
	assert.Len(t, made, 1)
}

func service(t *testing.T, change func(*acceptance.Service)) acceptance.Plan {
	s := acceptance.Service{Name: "calls", CIR: ways(t, "8M"), EIR: ways(t, "2M"), Frames: "500",
		Limits: acceptance.ServiceLimits{Loss: acceptance.ShareOf(0.001), Delay: acceptance.Span(10 * time.Millisecond), Variation: acceptance.Span(5 * time.Millisecond), Availability: acceptance.ShareOf(0.99)}}
	if change != nil {
		change(&s)
	}
	return acceptance.Plan{Way: acceptance.There, First: acceptance.First{Skip: true}, Host: acceptance.HostCheck{Skip: true}, By: &acceptance.Services{List: []acceptance.Service{s}}}
}

// TestWhatAServiceIsOffered: the rates of ITU-T Y.1564 §8.1.1, by hand.
func TestWhatAServiceIsOffered(t *testing.T) {
	for _, c := range []struct {
		name, cir, eir string
		want           []float64 // Mbit/s
	}{
		{"EIR is a fifth of CIR at least: a quarter of EIR more", "8M", "2M", []float64{2, 4, 6, 8, 10, 10.5}},
		{"EIR is less: a quarter of CIR more", "8M", "1M", []float64{2, 4, 6, 8, 9, 11}},
		{"no EIR", "8M", "", []float64{2, 4, 6, 8, 10}},
		{"no CIR", "", "4M", []float64{4, 5}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := service(t, func(s *acceptance.Service) { s.CIR, s.EIR = ways(t, c.cir), ways(t, c.eir) })
			p.By.Performance.Skip = true
			require.Empty(t, p.Check())
			var made []acceptance.Outcome
			for i := 0; ; i++ {
				next := acceptance.Walk(p, made).Next
				if next == nil {
					assert.Equal(t, len(c.want), i)
					return
				}
				require.Less(t, i, len(c.want))
				assert.InDelta(t, c.want[i]*1e6, next.Loads[0].FPS*8*500, 1)
				made = append(made, line{there: 1e9}.carry(p, *next))
			}
		})
	}
}

// TestAService: of circuits that keep to the profile, and of ones that miss one thing each. 10
// Mbit/s are 2,500 frames of 500 bytes a second.
func TestAService(t *testing.T) {
	for _, c := range []struct {
		name    string
		line    line
		change  func(*acceptance.Service)
		figures map[acceptance.Figure]bool
	}{
		{"as it was bought", line{there: 2500, policed: 100, delay: 4}, nil, nil},
		{"no policing", line{there: 1e6, delay: 4}, nil, map[acceptance.Figure]bool{acceptance.FPoliced: true}},
		{"too late", line{there: 2500, policed: 100, delay: 14}, nil, map[acceptance.Figure]bool{acceptance.FLatency: true}},
		{"less than CIR", line{there: 1900, policed: 100, delay: 4}, nil, map[acceptance.Figure]bool{acceptance.FRate: true, acceptance.FLoss: true}},
		{"loses more than it may", line{there: 2500, policed: 100, delay: 4, loss: 0.01}, nil, map[acceptance.Figure]bool{acceptance.FLoss: true, acceptance.FRate: true}},
		{"CBS", line{there: 2500, policed: 100, delay: 4}, func(s *acceptance.Service) { s.CBS = 40_000 }, nil},
		{"CBS is less", line{there: 2500, policed: 60, delay: 4}, func(s *acceptance.Service) { s.CBS = 40_000 }, map[acceptance.Figure]bool{acceptance.FBurst: true}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := service(t, c.change)
			r, _, took := run(t, p, c.line)
			failed := map[acceptance.Figure]bool{}
			for _, x := range r.Criteria {
				if x.Verdict == acceptance.Fail {
					failed[x.Figure] = true
				}
			}
			if len(c.figures) == 0 {
				assert.Equal(t, acceptance.Pass, r.Verdict, "%+v", r.Criteria)
				assert.Empty(t, failed)
			} else {
				assert.Equal(t, c.figures, failed)
			}
			w := r.Services[0].Ways[0]
			if c.line.there == 2500 && c.line.loss == 0 {
				assert.InEpsilon(t, 10e6, *w.Through, 0.001)
			}
			if w.CBS != nil {
				assert.InDelta(t, c.line.policed*500, w.CBS.Found, 500, "within a frame")
			}
			require.NotNil(t, w.Run)
			assert.Equal(t, 900, w.Run.Seconds.Seconds)
			e := acceptance.EstimateOf(p, nil)
			assert.Equal(t, e.Least, e.Most, "nothing is searched")
			assert.InEpsilon(t, e.Most.D().Seconds(), took.Seconds(), 1e-9)
			if c.change == nil { // 6 steps of 10 s, 15 minutes, and 7.6 s around each
				assert.Equal(t, 6*10*time.Second+15*time.Minute+7*7600*time.Millisecond, took)
			}
		})
	}
}

// TestColours: what is within CIR is told from what is beyond by its mark.
func TestColours(t *testing.T) {
	p := service(t, func(s *acceptance.Service) { s.Colours = &acceptance.Colours{Green: "AF41", Yellow: "AF42"} })
	p.By.Performance.Skip = true
	require.Empty(t, p.Check())
	var made []acceptance.Outcome
	for {
		w := acceptance.Walk(p, made)
		if w.Next == nil {
			assert.Equal(t, acceptance.Pass, w.Result.Verdict, "%+v", w.Result.Criteria)
			require.NotNil(t, w.Result.Services[0].Ways[0].Green)
			return
		}
		o := acceptance.Outcome{}
		for _, l := range w.Next.Loads {
			s := line{there: 1e9, delay: 4}.carry(p, acceptance.Trial{For: w.Next.For, Loads: []acceptance.Load{l}}).Seen[0]
			if l.Colour == "yellow" { // of it a part is let through
				s.Received, s.Bytes = s.Sent*8/10, s.Sent*8/10*500
				steady := l.FPS * 0.8
				s.Steady = &steady
				assert.Equal(t, uint8(36), p.Mark(l))
			} else {
				assert.Equal(t, uint8(34), p.Mark(l))
			}
			o.Seen = append(o.Seen, s)
		}
		made = append(made, o)
	}
}

func TestLossNeedsEnoughFrames(t *testing.T) {
	p := service(t, func(s *acceptance.Service) { s.EIR = acceptance.Ways{} })
	p.By.Performance.Skip = true
	off := false
	p.By.Configuration.Policing = &off
	p.By.Configuration.Steps = []acceptance.Share{acceptance.ShareOf(1)}
	next := acceptance.Walk(p, nil).Next
	o := line{there: 1e9, delay: 4}.carry(p, *next)
	for lost, want := range map[int64]acceptance.Verdict{0: acceptance.Pass, 20: acceptance.Unknown, 5: acceptance.Pass, 200: acceptance.Fail} {
		o.Seen[0].Received = o.Seen[0].Sent - lost
		r := acceptance.Walk(p, []acceptance.Outcome{o}).Result
		assert.Equal(t, want, r.Criteria[0].Verdict, "%d of %d, one in a thousand is allowed: %s", lost, o.Seen[0].Sent, r.Criteria[0].Why)
	}
}

func TestTemplates(t *testing.T) {
	x, err := acceptance.LimitsLike("mef-regional-medium")
	require.NoError(t, err)
	assert.Equal(t, acceptance.ServiceLimits{Delay: acceptance.Span(30 * time.Millisecond), Variation: acceptance.Span(50 * time.Millisecond), Loss: acceptance.ShareOf(0.0001)}, x.Limits)
	x, err = acceptance.LimitsLike("y1541-7")
	require.NoError(t, err)
	assert.InDelta(t, 0.00001, x.Limits.Loss.Value, 1e-12)
	_, err = acceptance.LimitsLike("best")
	assert.ErrorContains(t, err, "y1541-0")
	assert.Len(t, acceptance.Templates(), 19)
}

func TestWhatIsWrongWithAPlan(t *testing.T) {
	for place, change := range map[string]func(*acceptance.Plan){
		"by_size":                            func(p *acceptance.Plan) { p.BySize = nil },
		"by_size.most":                       func(p *acceptance.Plan) { p.Line = acceptance.Ways{} },
		"by_size.sizes[1]":                   func(p *acceptance.Plan) { p.BySize.Sizes = []int{64, 63} },
		"by_size.sizes[0]":                   func(p *acceptance.Plan) { p.Family = 6; p.BySize.Sizes = []int{64} },
		"direction":                          func(p *acceptance.Plan) { p.Way = "up" },
		"layer":                              func(p *acceptance.Plan) { p.Layer = "l2" },
		"ethernet.interface":                 func(p *acceptance.Plan) { p.Over = acceptance.Frame },
		"ethernet.tags[0].vlan":              func(p *acceptance.Plan) { p.Ethernet.Tags = []acceptance.Tag{{VLAN: 4095}} },
		"by_size.latency.trials":             func(p *acceptance.Plan) { p.BySize.Latency.Trials = 101 },
		"by_size.within":                     func(p *acceptance.Plan) { p.BySize.Within = acceptance.ShareOf(0) },
		"by_service.services":                func(p *acceptance.Plan) { p.By = &acceptance.Services{} },
		"by_service.services[0].cir":         func(p *acceptance.Plan) { p.By = &acceptance.Services{List: []acceptance.Service{{Name: "a"}}} },
		"by_service.services[0].limits_like": func(p *acceptance.Plan) { p.By = service(t, func(s *acceptance.Service) { s.Like = "best" }).By },
		"by_service.services[0].dscp":        func(p *acceptance.Plan) { p.By = service(t, func(s *acceptance.Service) { s.DSCP = "gold" }).By },
		"by_service.configuration.step_for": func(p *acceptance.Plan) {
			p.By = service(t, nil).By
			p.By.Configuration.StepFor = acceptance.Span(2 * time.Minute)
		},
		"by_service.services[0].colours.yellow": func(p *acceptance.Plan) {
			p.By = service(t, func(s *acceptance.Service) { s.Colours = &acceptance.Colours{Green: "EF", Yellow: "loud"} }).By
		},
		"by_service.services[0].priority": func(p *acceptance.Plan) {
			n := 3
			p.By = service(t, func(s *acceptance.Service) { s.Priority = &n }).By
		},
	} {
		p := bySize(t, nil)
		change(&p)
		var places []string
		for _, w := range p.Check() {
			places = append(places, w.Place)
		}
		assert.Contains(t, places, place)
	}
	p := bySize(t, nil)
	p.BySize.Most, p.Line = ways(t, "95%"), acceptance.Ways{}
	assert.Contains(t, fmt.Sprint(p.Check()), "give line, such as 1G")
}

// TestEstimatesHold: over lines of many kinds a test takes between the least and the most that
// was said.
func TestEstimatesHold(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 9))
	p := bySize(t, func(b *acceptance.BySize) { b.Sizes = []int{64, 1518} })
	e := acceptance.EstimateOf(p, nil)
	for range 100 {
		fits := r.Float64() * 200_000
		_, made, took := run(t, p, line{there: fits, back: r.Float64() * 200_000, queue: math.Pow(10, 3*r.Float64()), loss: []float64{0, 0, 0.01}[r.IntN(3)], r: r, noise: 0.0003})
		assert.GreaterOrEqual(t, took, time.Duration(float64(e.Least)*0.95))
		assert.LessOrEqual(t, took, time.Duration(float64(e.Most)*1.05), "%d trials", len(made))
	}
}

// TestSchema: it says each field of a plan, what it is for, and what it may be.
func TestSchema(t *testing.T) {
	var s struct {
		Required   []string
		Properties map[string]struct {
			Description string
			Enum        []string
			Properties  map[string]json.RawMessage
		}
		AdditionalProperties bool
	}
	require.NoError(t, json.Unmarshal(acceptance.Schema(), &s))
	assert.Equal(t, []string{"both", "each", "there", "back"}, s.Properties["direction"].Enum)
	assert.Contains(t, s.Properties["by_size"].Properties, "back_to_back")
	assert.NotEmpty(t, s.Properties["line"].Description)
	assert.Empty(t, s.Required)
	assert.False(t, s.AdditionalProperties)
}

// TestAPerformanceTestIsMadeOnce: that this host was away for a moment is said; hours are not made
// again for it. What was cut is not passed.
func TestAPerformanceTestIsMadeOnce(t *testing.T) {
	p := service(t, nil)
	p.By.Configuration.Skip = true
	next := acceptance.Walk(p, nil)
	assert.Equal(t, acceptance.Unknown, next.Result.Verdict, "nothing is told yet")
	o := line{there: 1e9, delay: 4}.carry(p, *next.Next)
	o.Seen[0].Ours = "it was away for 3 s"
	w := acceptance.Walk(p, []acceptance.Outcome{o})
	assert.Nil(t, w.Next)
	assert.Equal(t, acceptance.Pass, w.Result.Verdict, "%+v", w.Result.Criteria)
	assert.Contains(t, w.Result.Notes[0], "it was away for 3 s")
}

// TestARoundTripVaries: one way it is that at most, so more than the limit does not tell.
func TestARoundTripVaries(t *testing.T) {
	for p999, want := range map[float64]acceptance.Verdict{8: acceptance.Pass, 12: acceptance.Unknown} {
		p := service(t, func(s *acceptance.Service) {
			s.Limits = acceptance.ServiceLimits{Variation: acceptance.Span(5 * time.Millisecond)}
		})
		p.Way, p.Ends, p.By.Configuration.Skip = "", acceptance.Returned, true
		require.Empty(t, p.Check())
		o := line{there: 1e9, delay: 4}.carry(p, *acceptance.Walk(p, nil).Next)
		o.Seen[0].Delay = &acceptance.Delay{Of: acceptance.Round, LeastMs: 4, MeanMs: 5, P999Ms: p999}
		r := acceptance.Walk(p, []acceptance.Outcome{o}).Result
		assert.Equal(t, want, r.Criteria[0].Verdict, "%+v", r.Criteria[0])
	}
}
