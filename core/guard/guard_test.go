package guard_test

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// monday is the beginning of a Monday.
var monday = time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)

const day = 24 * 60

// world is a path minute by minute: what it answers in, and which part of 60 probes it loses.
type world struct {
	seed  uint64
	delay func(minute int) float64
	loss  func(minute int) float64
	gap   func(minute int) bool
	load  func(minute int) bool // load runs went on beside it
}

func flat(v float64) func(int) float64 { return func(int) float64 { return v } }

// between is v from one minute to another, and else what otherwise says.
func between(from, to int, v float64, otherwise func(int) float64) func(int) float64 {
	return func(m int) float64 {
		if m >= from && m < to {
			return v
		}
		return otherwise(m)
	}
}

func at(minute int) time.Time { return monday.Add(time.Duration(minute) * time.Minute) }

// run judges the minutes of a world from its first day on.
func (w world) run(p *guard.Path, minutes int) (changes []guard.Change) {
	r := rand.New(rand.NewPCG(w.seed, 1))
	for m := range minutes {
		point := baseline.Point{At: at(m), Span: time.Minute, Sent: 60}
		for range 60 {
			if w.loss != nil && r.Float64() < w.loss(m) {
				point.Lost++
			}
		}
		point.Answered = point.Sent - point.Lost
		noise, uneven := r.NormFloat64(), r.NormFloat64()
		if w.gap != nil && w.gap(m) {
			continue
		}
		if point.Answered > 0 {
			d := w.delay(m)
			point.Set(baseline.RTT, d+0.01*d*noise)
			point.Set(baseline.Jitter, 0.02*d*(1+0.1*uneven))
		}
		if w.load != nil && w.load(m) {
			changes = append(changes, p.AddLoaded(point)...)
			continue
		}
		changes = append(changes, p.Add(point)...)
	}
	return changes
}

func newPath() *guard.Path { return guard.NewPath(&guard.Options{}, 0.3) }

func TestWhatIsTold(t *testing.T) {
	start := 8*day + 600
	for _, c := range []struct {
		name    string
		world   world
		kind    guard.Kind
		measure baseline.Measure
		end     int // minute; 0: it goes on
		within  int // minutes until it is told
	}{
		{"delay goes up by half", world{delay: between(start, start+120, 15, flat(10))}, guard.Degraded, baseline.RTT, start + 120, 3},
		{"a fifth of a far path", world{delay: between(start, start+120, 120, flat(100))}, guard.Degraded, baseline.RTT, start + 120, 3},
		{"two percent are lost", world{delay: flat(10), loss: between(start, start+180, 0.02, flat(0))}, guard.Degraded, baseline.Loss, start + 180, 12},
		{"nothing answers", world{delay: flat(10), loss: between(start, start+30, 1, flat(0))}, guard.Lost, baseline.Loss, start + 30, 2},
		{"it goes on", world{delay: between(start, 1e6, 15, flat(10))}, guard.Degraded, baseline.RTT, 0, 3},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.world.seed = 7
			p := newPath()
			c.world.run(p, start+300)
			require.Len(t, p.Episodes(), 1)
			e := p.Episodes()[0]
			assert.Equal(t, c.kind, e.Kind)
			x, ok := e.Headline()
			require.True(t, ok)
			assert.Equal(t, c.measure, x.Measure)
			assert.WithinDuration(t, at(start), e.From, 2*time.Minute)
			assert.LessOrEqual(t, e.ToldAt.Sub(at(start)), time.Duration(c.within)*time.Minute)
			assert.False(t, e.Doubt.From.After(at(start)), "the doubt holds the truth")
			if c.end == 0 {
				assert.True(t, e.Open())
				return
			}
			assert.WithinDuration(t, at(c.end), e.To, 4*time.Minute)
			assert.LessOrEqual(t, e.OverToldAt.Sub(at(c.end)), 12*time.Minute)
		})
	}
}

func TestWhatIsNotTold(t *testing.T) {
	start := 8*day + 600
	office := func(m int) float64 {
		h := float64(m%day) / 60
		return 10 + 12/(1+math.Exp(-(h-9)*4))/(1+math.Exp((h-17)*4))
	}
	for name, w := range map[string]world{
		"within the tolerance":         {delay: between(start, start+600, 10.5, flat(10))},
		"faster than normal":           {delay: between(start, start+600, 6, flat(10))},
		"a single bad minute":          {delay: between(start, start+1, 60, flat(10))},
		"a steady loss as ever":        {delay: flat(10), loss: flat(0.01)},
		"the working day is its habit": {delay: office},
		"half an hour without reading": {delay: flat(10), gap: func(m int) bool { return m >= start && m < start+30 }},
	} {
		t.Run(name, func(t *testing.T) {
			w.seed = 9
			p := newPath()
			w.run(p, start+day)
			assert.Empty(t, p.Episodes())
		})
	}
}

func TestItComesAndGoes(t *testing.T) {
	start := 9*day + 600
	p := newPath()
	world{seed: 3, delay: func(m int) float64 {
		if m >= start && m < start+240 && (m-start)%40 < 25 {
			return 30
		}
		return 10
	}}.run(p, start+400)
	require.Len(t, p.Episodes(), 1, "one matter with pauses")
	e := p.Episodes()[0]
	assert.Len(t, e.Pauses, 5)
	assert.WithinDuration(t, at(start+25), e.Pauses[0].From, 3*time.Minute)
	assert.WithinDuration(t, at(start+40), e.Pauses[0].To, 3*time.Minute)
	assert.WithinDuration(t, at(start+225), e.To, 3*time.Minute)
}

func TestAGapInAnEpisodeIsSaid(t *testing.T) {
	start := 9*day + 600
	p := newPath()
	world{seed: 3, delay: between(start, start+300, 30, flat(10)), gap: func(m int) bool { return m >= start+60 && m < start+150 }}.run(p, start+400)
	require.Len(t, p.Episodes(), 1)
	e := p.Episodes()[0]
	assert.Equal(t, []baseline.Interval{{From: at(start + 60), To: at(start + 150)}}, e.Unmeasured)
}

func TestWhatAGapHidesIsSaid(t *testing.T) {
	start := 9*day + 600
	gap := func(m int) bool { return m >= start+60 && m < start+150 }
	p := newPath()
	world{seed: 3, delay: between(start, start+100, 30, flat(10)), gap: gap}.run(p, start+400)
	require.Len(t, p.Episodes(), 1)
	e := p.Episodes()[0]
	assert.Equal(t, at(start+60), e.To, "it was worse until the gap at the least")
	assert.Equal(t, []baseline.Interval{{From: at(start + 60), To: at(start + 150)}}, e.Unmeasured)

	p = newPath()
	world{seed: 3, delay: between(start+100, start+300, 30, flat(10)), gap: gap}.run(p, start+400)
	require.Len(t, p.Episodes(), 1)
	e = p.Episodes()[0]
	assert.Equal(t, at(start+150), e.From)
	assert.Equal(t, at(start+60), e.Doubt.From, "it may have begun in the gap")
}

func TestWhatComesBackDailyIsToldOnce(t *testing.T) {
	// From the tenth day on each afternoon is slow: three are told, the rest is expected.
	p := newPath()
	slow := func(m int) float64 {
		if m >= 8*day && m%day >= 14*60 && m%day < 16*60 {
			return 40
		}
		return 10
	}
	w := world{seed: 5, delay: slow}
	w.run(p, 20*day)
	assert.Len(t, p.Episodes(), 3)
	require.Len(t, p.Properties(), 1)
	x := p.Properties()[0]
	assert.Equal(t, guard.Daily, x.Kind)
	assert.InDelta(t, 14*60, x.From, 20)
	assert.InDelta(t, 16*60, x.To, 20)
	assert.InDelta(t, 40, x.Now, 2)
}

func TestItIsToldAgainWhenItGetsWorse(t *testing.T) {
	p := newPath()
	w := world{seed: 5, delay: func(m int) float64 {
		switch {
		case m >= 18*day && m%day >= 14*60 && m%day < 16*60:
			return 80
		case m >= 8*day && m%day >= 14*60 && m%day < 16*60:
			return 30
		}
		return 10
	}}
	w.run(p, 18*day+18*60)
	list := p.Episodes()
	require.Len(t, list, 4)
	assert.WithinDuration(t, at(18*day+14*60), list[3].From, 2*time.Minute)
}

func TestANewLevelWaitsAndIsAccepted(t *testing.T) {
	start := 15*day + 600
	p := newPath()
	changes := world{seed: 4, delay: between(start, 1e6, 16, flat(10))}.run(p, start+12*day)
	require.Len(t, p.Episodes(), 1, "one matter")
	e := p.Episodes()[0]
	assert.WithinDuration(t, at(start+2*day), e.NewLevel, 25*time.Hour)
	require.Len(t, p.Properties(), 1)
	x := p.Properties()[0]
	assert.Equal(t, guard.NewLevel, x.Kind)
	assert.Equal(t, e.From, x.Since)
	assert.InDelta(t, 10, x.Before, 0.3)
	assert.InDelta(t, 16, x.Now, 0.3)
	assert.False(t, x.Waits(), "after a week it is taken for normal by itself")
	assert.Equal(t, x.AcceptedAt, e.To)
	var what []guard.Happening
	for _, c := range changes {
		what = append(what, c.What)
	}
	assert.Equal(t, []guard.Happening{guard.Opened, guard.Settled, guard.Accepted}, what)
}

func TestAReturnFromANewLevel(t *testing.T) {
	start := 15*day + 600
	p := newPath()
	world{seed: 4, delay: between(start, start+4*day, 16, flat(10))}.run(p, start+8*day)
	require.Len(t, p.Episodes(), 1, "the return is no new degradation")
	assert.WithinDuration(t, at(start+4*day), p.Episodes()[0].To, 3*time.Minute)
	assert.WithinDuration(t, at(start+4*day), p.Properties()[0].EndedAt, 3*time.Minute)
}

func TestANewLevelCanBeAcceptedByHand(t *testing.T) {
	start := 15*day + 600
	p := newPath()
	world{seed: 4, delay: between(start, 1e6, 16, flat(10))}.run(p, start+4*day)
	changes, ok := p.Accept(guard.NewLevel, baseline.RTT, at(start+4*day))
	require.True(t, ok)
	require.Len(t, changes, 1)
	assert.Equal(t, guard.Accepted, changes[0].What)
	_, ok = p.Accept(guard.NewLevel, baseline.RTT, at(start+4*day))
	assert.False(t, ok, "there is nothing left to accept")
}

func TestACreepIsTold(t *testing.T) {
	p := newPath()
	world{seed: 6, delay: func(m int) float64 { return 20 * (1 + 0.02*max(0, float64(m-14*day))/day) }}.run(p, 24*day)
	assert.Empty(t, p.Episodes())
	require.Len(t, p.Properties(), 1)
	x := p.Properties()[0]
	assert.Equal(t, guard.Creeping, x.Kind)
	assert.WithinDuration(t, at(14*day), x.Since, 36*time.Hour)
	assert.InDelta(t, 0.4, x.ADay, 0.1, "two percent of 20 ms a day")
	assert.LessOrEqual(t, x.ToldAt.Sub(at(14*day)), 10*24*time.Hour)
}

func TestMaintenanceIsNeitherJudgedNorLearnt(t *testing.T) {
	start := 9*day + 600
	work := baseline.Interval{From: at(start), To: at(start + 120)}
	p := guard.NewPath(&guard.Options{Maintenance: []baseline.Interval{work}}, 0.3)
	world{seed: 3, delay: between(start, start+120, 60, flat(10))}.run(p, start+day)
	assert.Empty(t, p.Episodes())
	n, ok := p.Judge().Baseline().At(baseline.RTT, at(start+60+7*day))
	require.True(t, ok)
	assert.Less(t, n.High, 12.0)
}

func TestAYoungPathIsLearnt(t *testing.T) {
	p := newPath()
	world{seed: 3, delay: between(600, 720, 60, flat(10)), loss: between(900, 910, 1, flat(0))}.run(p, 1000)
	require.Len(t, p.Episodes(), 1, "on its first day only the loss of all answers is told")
	assert.Equal(t, guard.Lost, p.Episodes()[0].Kind)
	until, is := p.Learning(at(1000))
	assert.True(t, is)
	assert.Equal(t, at(day), until)
}

func TestThreePathsShareASegment(t *testing.T) {
	// A tree: all go over gw; three of five over the link from core to isle, which gets slow.
	routes := map[string][]string{
		"holm": {"gw", "core", "isle", "holm"}, "tern": {"gw", "core", "isle", "tern"}, "gannet": {"gw", "core", "isle", "", "gannet"},
		"dock": {"gw", "core", "dock"}, "centre": {"gw", "core", "dc", "centre"},
	}
	start := 9*day + 600
	g := guard.New(guard.Options{})
	r := rand.New(rand.NewPCG(1, 1))
	for m := range start + 60 {
		for name, route := range routes {
			k := guard.Key{From: "northquay", To: name}
			if m%30 == 0 {
				g.Route(k, at(m), route)
			}
			d := 10.0
			if m >= start && len(route) > 2 && route[2] == "isle" {
				d = 25
			}
			p := baseline.Point{At: at(m), Span: time.Minute, Sent: 60, Answered: 60}
			p.Set(baseline.RTT, d+0.1*r.NormFloat64())
			g.Add(k, p)
		}
	}
	require.Len(t, g.Incidents(), 1)
	x := g.Incidents()[0]
	assert.Equal(t, []string{"core", "isle"}, []string{x.Segment.From, x.Segment.To})
	assert.Len(t, x.Members, 3)
	assert.InDelta(t, 15, x.Segment.Excess, 1)
	assert.WithinDuration(t, at(start), x.From, 2*time.Minute)
	assert.LessOrEqual(t, x.ToldAt.Sub(at(start)), 6*time.Minute)
	assert.Greater(t, x.Sure, 0.9)
	assert.True(t, x.Open())
}

func TestARouteChangeIsTheCause(t *testing.T) {
	start := 9*day + 600
	g := guard.New(guard.Options{})
	k := guard.Key{From: "northquay", To: "holm"}
	r := rand.New(rand.NewPCG(1, 1))
	for m := range start + 60 {
		if m%10 == 0 {
			hop := "a"
			if m >= start {
				hop = "b"
			}
			g.Route(k, at(m), []string{"gw", hop, "holm"})
		}
		d := 10.0
		if m >= start {
			d = 25
		}
		p := baseline.Point{At: at(m), Span: time.Minute, Sent: 60, Answered: 60}
		p.Set(baseline.RTT, d+0.1*r.NormFloat64())
		g.Add(k, p)
	}
	require.Len(t, g.Path(k).Episodes(), 1)
	c, ok := g.Path(k).RouteChangeOf(g.Path(k).Episodes()[0])
	require.True(t, ok)
	assert.Equal(t, "b", c.Hop)
	assert.Equal(t, "a", c.Was)
	assert.Equal(t, "gw", c.Near)
}

func TestTheCourseOfAnEpisodeIsTold(t *testing.T) {
	start := 9*day + 600
	p := newPath()
	changes := world{seed: 2, delay: func(m int) float64 {
		switch k := m - start; {
		case k >= 0 && k < 60:
			return 20
		case k >= 60 && k < 120:
			return 60
		case k >= 120 && k < 180:
			return 25
		}
		return 10
	}}.run(p, start+240)
	var what []guard.Happening
	for _, c := range changes {
		if x, _ := c.Episode.Headline(); x.Measure == baseline.RTT {
			what = append(what, c.What)
		}
	}
	assert.Equal(t, []guard.Happening{guard.Opened, guard.Worse, guard.Easing, guard.Closed}, what)
	x, _ := p.Episodes()[0].Headline()
	assert.InDelta(t, 60, x.Worst, 2)
}

func TestARestartChangesNothing(t *testing.T) {
	start := 9*day + 600
	w := world{seed: 8, delay: between(start, start+200, 30, flat(10)), loss: between(start+20, start+120, 0.05, flat(0.001))}
	whole := newPath()
	w.run(whole, start+400)
	// The same in parts: the state goes through JSON at moments around the change.
	o := &guard.Options{}
	r := rand.New(rand.NewPCG(w.seed, 1))
	p := guard.NewPath(o, 0.3)
	var all []baseline.Point
	for m := range start + 400 {
		point := baseline.Point{At: at(m), Span: time.Minute, Sent: 60}
		for range 60 {
			if r.Float64() < w.loss(m) {
				point.Lost++
			}
		}
		point.Answered = point.Sent - point.Lost
		noise, uneven := r.NormFloat64(), r.NormFloat64()
		d := w.delay(m)
		point.Set(baseline.RTT, d+0.01*d*noise)
		point.Set(baseline.Jitter, 0.02*d*(1+0.1*uneven))
		p.Add(point)
		all = append(all, point)
		if m >= start-30 && m%25 == 0 {
			state, err := json.Marshal(p.Record())
			require.NoError(t, err)
			normal, err := json.Marshal(p.Judge().Baseline())
			require.NoError(t, err)
			var s guard.Record
			require.NoError(t, json.Unmarshal(state, &s))
			var b baseline.Baseline
			require.NoError(t, json.Unmarshal(normal, &b))
			p = guard.Resume(o, 0.3, s, &b, all[len(all)-96:])
		}
	}
	require.Len(t, p.Episodes(), len(whole.Episodes()))
	for i, want := range whole.Episodes() {
		got := p.Episodes()[i]
		assert.Equal(t, want.Kind, got.Kind)
		assert.WithinDuration(t, want.From, got.From, 2*time.Minute)
		assert.WithinDuration(t, want.To, got.To, 4*time.Minute)
		assert.Len(t, got.Excesses, len(want.Excesses))
	}
}

// TestADayIsNoReasonToTakeAnythingForNormal: a path that hardly varies, a day and some old: what
// lasts six hours is told, and the band says nothing absurd.
func TestADayIsNoReasonToTakeAnythingForNormal(t *testing.T) {
	for _, grain := range []float64{0.00001, 0.01, 0.1} {
		p := guard.NewPath(&guard.Options{}, 0.3)
		start := time.Date(2026, 11, 2, 7, 0, 0, 0, time.UTC) // a Monday
		slower := start.Add(30 * time.Hour)
		var told time.Time
		for at := start; at.Before(slower.Add(8 * time.Hour)); at = at.Add(time.Minute) {
			v := 10 + grain*float64(at.Unix()/60*7919%13)/13
			if !at.Before(slower) {
				v += 15
			}
			point := baseline.Point{At: at, Span: time.Minute, Sent: 60, Answered: 60}
			point.Set(baseline.RTT, v)
			for _, c := range p.Add(point) {
				if c.What == guard.Opened {
					told = at
				}
			}
			if at.Equal(slower) {
				n, ok := p.Judge().Baseline().At(baseline.RTT, at)
				require.True(t, ok)
				assert.InDelta(t, 10, n.Expected, 0.2)
				assert.Greater(t, n.Low, 8.0)
				assert.Less(t, n.High, 13.0)
			}
		}
		assert.Equal(t, 6*time.Hour, told.Sub(slower), "grain %v", grain)
	}
}

// TestLossesOfADirectionRestOnItsOwnPackets: a stream every quarter of an hour beside the path's
// own probes, which lose nothing; from the tenth day on 4 % of its 500 packets are lost on the way
// back.
func TestLossesOfADirectionRestOnItsOwnPackets(t *testing.T) {
	p := newPath()
	r := rand.New(rand.NewPCG(8, 8))
	start := 10*day + 600
	for m := range start + 300 {
		point := baseline.Point{At: at(m), Span: time.Minute, Sent: 60, Answered: 60}
		point.Set(baseline.RTT, 10+0.1*r.NormFloat64())
		p.Add(point)
		if m%15 != 0 {
			continue
		}
		stream := baseline.Point{At: at(m), Span: 10 * time.Second}
		lost := r.IntN(2)
		if m >= start {
			lost = 20 + r.IntN(3)
		}
		stream.SetLost(baseline.LossThere, 0, 500)
		stream.SetLost(baseline.LossBack, lost, 500)
		p.Add(stream)
	}
	require.Len(t, p.Episodes(), 1)
	require.Len(t, p.Episodes()[0].Excesses, 1)
	x := p.Episodes()[0].Excesses[0]
	assert.Equal(t, baseline.LossBack, x.Measure)
	assert.WithinDuration(t, at(start), x.From, 16*time.Minute)
	assert.InDelta(t, 0.042, x.Now, 0.003)
	assert.InDelta(t, 0.001, x.Normal, 0.001)
	assert.Zero(t, x.Sent%500, "packets, not the probes of the path")
	assert.InDelta(t, 0.042*float64(x.Sent), float64(x.Lost), 0.003*float64(x.Sent))
}
