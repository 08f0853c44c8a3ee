package baseline_test

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
)

// monday is the beginning of a Monday.
var monday = time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)

// world makes points a minute apart: a delay around a base with a little noise,
// and losses, both given by minute.
type world struct {
	random *rand.Rand
	base   func(minute int) float64 // ms
	loss   func(minute int) float64
}

func (w world) points(from, to int) []baseline.Point {
	var list []baseline.Point
	for m := from; m < to; m++ {
		p := baseline.Point{At: monday.Add(time.Duration(m) * time.Minute), Span: time.Minute, Sent: 60}
		for range 60 {
			if w.random.Float64() < w.loss(m) {
				p.Lost++
			}
		}
		p.Answered = p.Sent - p.Lost
		if p.Answered > 0 {
			p.RTT = figure.Of(figure.FromMillis(w.base(m) + w.random.NormFloat64()*0.1))
			p.Jitter = figure.Of(figure.FromMillis(0.3 + w.random.Float64()*0.05))
		}
		list = append(list, p)
	}
	return list
}

func constant(v float64) func(int) float64 { return func(int) float64 { return v } }

func after(at int, before, then float64) func(int) float64 {
	return func(m int) float64 {
		if m < at {
			return before
		}
		return then
	}
}

const day = 24 * 60

func TestNormalOf(t *testing.T) {
	n := baseline.NormalOf([]float64{5, 1, 2, 3, 4})
	assert.Equal(t, 3.0, n.Median)
	assert.Equal(t, 1.0, n.MAD, "deviations 2 2 1 0 1")
	assert.InDelta(t, 1.2, n.Low, 1e-9)
	assert.InDelta(t, 4.8, n.High, 1e-9)
}

func TestResolutionFollowsTheData(t *testing.T) {
	// Each hour of the day has a delay of its own, Mondays one more.
	w := world{rand.New(rand.NewPCG(1, 1)), func(m int) float64 {
		v := 10 + float64(m/60%24)
		if m/day%7 == 0 {
			v += 40
		}
		return v
	}, constant(0)}
	for _, c := range []struct {
		name string
		days int
		want baseline.Resolution
		at   float64
	}{
		{"a day gives one normal for all hours", 1, baseline.Overall, 61.5},
		{"five days tell hours apart", 5, baseline.HourOfDay, 15},
		{"two weeks do not make three Mondays", 14, baseline.HourOfDay, 15},
		{"three weeks tell Mondays apart", 21, baseline.HourOfWeek, 55},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := baseline.Build(w.points(0, c.days*day), baseline.Training{Zone: time.UTC})
			require.NoError(t, err)
			n, resolution, ok := b.At(baseline.RTT, monday.Add(28*24*time.Hour+5*time.Hour))
			require.True(t, ok)
			assert.Equal(t, c.want, resolution)
			assert.InDelta(t, c.at, n.Median, 1)
			// It survives being stored.
			data, err := json.Marshal(b)
			require.NoError(t, err)
			var back baseline.Baseline
			require.NoError(t, json.Unmarshal(data, &back))
			again, _, _ := back.At(baseline.RTT, monday.Add(28*24*time.Hour+5*time.Hour))
			assert.Equal(t, n, again)
		})
	}
}

func TestTrainingLeavesEpisodesOut(t *testing.T) {
	w := world{rand.New(rand.NewPCG(2, 2)), after(day/2, 10, 50), constant(0)}
	episode := baseline.Interval{From: monday.Add(12 * time.Hour)}
	b, err := baseline.Build(w.points(0, day), baseline.Training{Exclude: []baseline.Interval{episode}})
	require.NoError(t, err)
	n, _, _ := b.At(baseline.RTT, monday)
	assert.InDelta(t, 10, n.High, 0.5)
	_, err = baseline.Build(w.points(day/2, day), baseline.Training{Exclude: []baseline.Interval{episode}})
	require.ErrorContains(t, err, "needs 30 readings")
}

// follow trains on a day and judges what comes after.
func follow(t *testing.T, w world, until int) (*baseline.Judge, []baseline.Change) {
	t.Helper()
	b, err := baseline.Build(w.points(0, day), baseline.Training{})
	require.NoError(t, err)
	j := baseline.NewJudge(baseline.Options{Paths: 100})
	j.SetBaseline(b)
	var changes []baseline.Change
	for _, p := range w.points(day, until) {
		for _, c := range j.Add(p) {
			if c.Opened || c.Closed {
				changes = append(changes, c)
			}
		}
	}
	return j, changes
}

func TestEpisodes(t *testing.T) {
	at := day + 200
	minute := func(m int) time.Time { return monday.Add(time.Duration(m) * time.Minute) }
	for _, c := range []struct {
		name       string
		base, loss func(int) float64
		kind       baseline.Kind
		measure    baseline.Measure
		over       bool
	}{
		{"delay goes up by half", after(at, 10, 15), constant(0), baseline.Degraded, baseline.RTT, false},
		{"two percent are lost", constant(10), after(at, 0, 0.02), baseline.Degraded, baseline.Loss, false},
		{"nothing answers", constant(10), after(at, 0, 1), baseline.Lost, baseline.Loss, false},
		{"delay goes up and comes back", func(m int) float64 { return after(at, 10, 30)(m) - after(at+60, 0, 20)(m) }, constant(0), baseline.Degraded, baseline.RTT, true},
		{"loss comes and goes", constant(10), func(m int) float64 { return after(at, 0, 0.05)(m) - after(at+60, 0, 0.05)(m) }, baseline.Degraded, baseline.Loss, true},
		{"down for an hour", constant(10), func(m int) float64 { return after(at, 0, 1)(m) - after(at+60, 0, 1)(m) }, baseline.Lost, baseline.Loss, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			j, changes := follow(t, world{rand.New(rand.NewPCG(3, 3)), c.base, c.loss}, at+150)
			require.NotEmpty(t, changes)
			first := changes[0]
			require.True(t, first.Opened)
			assert.Equal(t, c.kind, first.Episode.Kind)
			assert.WithinDuration(t, minute(at), first.Episode.From, 4*time.Minute, "dated back to its beginning")
			_, ok := first.Episode.Excess(c.measure)
			assert.True(t, ok)
			v := j.Verdict(minute(at+150), 3*time.Minute)
			if !c.over {
				assert.Len(t, changes, 1)
				assert.EqualValues(t, c.kind, v.State)
				return
			}
			require.Len(t, changes, 2)
			assert.True(t, changes[1].Closed)
			assert.WithinDuration(t, minute(at+60), changes[1].Episode.To, 4*time.Minute)
			assert.Equal(t, baseline.StateSteady, v.State)
		})
	}
}

func TestWhatIsNoEpisode(t *testing.T) {
	at := day + 200
	for _, c := range []struct {
		name       string
		base, loss func(int) float64
	}{
		{"a change within the tolerance", after(at, 10, 10.6), constant(0)},
		{"five bad minutes", func(m int) float64 { return after(at, 10, 40)(m) - after(at+5, 0, 30)(m) }, constant(0)},
		{"one minute with half its probes lost", constant(10), func(m int) float64 { return after(at, 0, 0.5)(m) - after(at+1, 0, 0.5)(m) }},
		{"faster than normal", after(at, 10, 4), constant(0)},
		{"a steady small loss that was there before", constant(10), constant(0.004)},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, changes := follow(t, world{rand.New(rand.NewPCG(4, 4)), c.base, c.loss}, at+400)
			assert.Empty(t, changes)
		})
	}
}

func TestFalseAlarmsAreBounded(t *testing.T) {
	alarms := 0
	for seed := range uint64(40) {
		_, changes := follow(t, world{rand.New(rand.NewPCG(seed, 9)), constant(3), constant(0.002)}, 6*day)
		alarms += len(changes)
	}
	assert.Zero(t, alarms, "200 quiet path-days, at most one alarm in 20 days over all paths")
}

func TestAPathThatNeverAnsweredIsNoEpisode(t *testing.T) {
	j := baseline.NewJudge(baseline.Options{})
	w := world{rand.New(rand.NewPCG(5, 5)), constant(10), constant(1)}
	for _, p := range w.points(0, 10) {
		assert.Empty(t, j.Add(p))
	}
	v := j.Verdict(monday.Add(10*time.Minute), time.Minute)
	assert.Equal(t, baseline.StateLost, v.State)
	assert.True(t, v.Never)
	assert.Equal(t, 600, v.Silence)
}

func TestUnmeasured(t *testing.T) {
	j := baseline.NewJudge(baseline.Options{})
	assert.Equal(t, baseline.StateUnmeasured, j.Verdict(monday, time.Minute).State)
	w := world{rand.New(rand.NewPCG(5, 5)), constant(10), constant(0)}
	for _, p := range w.points(0, 10) {
		j.Add(p)
	}
	assert.Equal(t, baseline.StateSteady, j.Verdict(monday.Add(11*time.Minute), 3*time.Minute).State)
	v := j.Verdict(monday.Add(14*time.Minute), 3*time.Minute)
	assert.Equal(t, baseline.StateUnmeasured, v.State)
	assert.Equal(t, monday.Add(10*time.Minute), v.Since)
}

func TestAResumedJudgeGoesOn(t *testing.T) {
	at := day + 200
	w := world{rand.New(rand.NewPCG(3, 3)), after(at, 10, 15), constant(0)}
	j, changes := follow(t, w, at+60)
	require.Len(t, changes, 1)
	again := baseline.NewJudge(baseline.Options{Paths: 100})
	again.SetBaseline(j.Baseline())
	again.Resume([]baseline.Episode{changes[0].Episode}, true, w.points(at, at+60))
	w.base = constant(10)
	var closed []baseline.Change
	for _, p := range w.points(at+60, at+120) {
		for _, c := range again.Add(p) {
			if c.Closed {
				closed = append(closed, c)
			}
		}
	}
	require.Len(t, closed, 1)
	assert.WithinDuration(t, monday.Add(time.Duration(at+60)*time.Minute), closed[0].Episode.To, 3*time.Minute)
}

func TestDailyOf(t *testing.T) {
	var episodes []baseline.Episode
	add := func(d, from, to int) {
		start := monday.AddDate(0, 0, d)
		episodes = append(episodes, baseline.Episode{Kind: baseline.Degraded, From: start.Add(time.Duration(from) * time.Minute), To: start.Add(time.Duration(to) * time.Minute)})
	}
	for d := range 6 {
		add(d, 16*60+d, 18*60+30)
	}
	got, ok := baseline.DailyOf(episodes, monday, monday.AddDate(0, 0, 7), time.UTC)
	require.True(t, ok)
	// 6 times 150 minutes, less 15, of 7 days: p = 0.0878; six or more
	// of seven days at a minute: 7·p⁶·(1−p) + p⁷ = 2.97e-6, times 1440 minutes.
	assert.InDelta(t, 0.0043, got.Chance, 0.0002)
	got.Chance = 0
	assert.Equal(t, baseline.Daily{FromMinute: 16*60 + 3, ToMinute: 18*60 + 30, Days: 6, OfDays: 7}, got)

	episodes = nil
	for d := range 5 {
		add(d, 23*60, 25*60) // past midnight
	}
	got, ok = baseline.DailyOf(episodes, monday, monday.AddDate(0, 0, 6), time.UTC)
	require.True(t, ok)
	assert.Equal(t, 23*60, got.FromMinute)
	assert.Equal(t, 60, got.ToMinute)

	episodes = nil
	add(1, 100, 200)
	add(3, 700, 800)
	add(5, 150, 250)
	_, ok = baseline.DailyOf(episodes, monday, monday.AddDate(0, 0, 7), time.UTC)
	assert.False(t, ok, "three episodes at three times of the day are no habit")
}
