package baseline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fortnight is a path of 10 ms, more at times that more says.
func fortnight(more func(time.Time) float64) *History {
	h := &History{}
	start := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC) // a Monday
	for i := range 14 * 1440 {
		at := start.Add(time.Duration(i) * time.Minute)
		p := Point{At: at, Span: time.Minute, Sent: 60, Answered: 60}
		p.Set(RTT, 10+0.1*float64(i*7919%13)/13+more(at))
		h.Add(p)
	}
	return h
}

func TestWhatComesOnOneDayOfTheWeek(t *testing.T) {
	at := func(t time.Time, from, to int) bool { return t.Hour() >= from && t.Hour() < to }
	for _, c := range []struct {
		name string
		more func(time.Time) float64
		want []Rhythm // days and hours only
	}{
		{"nothing", func(time.Time) float64 { return 0 }, nil},
		{"Saturday nights", func(t time.Time) float64 {
			if t.Weekday() == time.Saturday && at(t, 21, 23) {
				return 20
			}
			return 0
		}, []Rhythm{{Weekdays: 1 << time.Saturday, From: 21 * 60, To: 23 * 60}}},
		{"less than is worth caring about", func(t time.Time) float64 {
			if t.Weekday() == time.Saturday && at(t, 21, 23) {
				return 0.9
			}
			return 0
		}, nil},
		{"on one Saturday only", func(t time.Time) float64 {
			if t.Day() == 7 && at(t, 21, 23) {
				return 20
			}
			return 0
		}, nil},
		{"on Tuesdays, and as bad now and then on other days at other hours", func(t time.Time) float64 {
			if t.Weekday() == time.Tuesday && at(t, 2, 4) || t.Day() == 6 && at(t, 12, 17) || t.Day() == 12 && at(t, 8, 11) {
				return 20
			}
			return 0
		}, nil},
		{"Tuesdays, and the whole of Thursdays' lunch", func(t time.Time) float64 {
			if t.Weekday() == time.Tuesday && at(t, 2, 4) || t.Weekday() == time.Thursday && at(t, 12, 13) {
				return 20
			}
			return 0
		}, []Rhythm{{Weekdays: 1 << time.Tuesday, From: 2 * 60, To: 4 * 60}, {Weekdays: 1 << time.Thursday, From: 12 * 60, To: 13 * 60}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := Build(fortnight(c.more), Training{})
			require.NoError(t, err)
			var got []Rhythm
			for _, r := range b.Models[RTT].Weekly {
				got = append(got, Rhythm{Weekdays: r.Weekdays, From: r.From, To: r.To})
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestCompare(t *testing.T) {
	quiet, err := Build(fortnight(func(time.Time) float64 { return 0 }), Training{})
	require.NoError(t, err)
	busy, err := Build(fortnight(func(t time.Time) float64 {
		if t.Hour() == 14 {
			return 12
		}
		return 0
	}), Training{})
	require.NoError(t, err)
	same := Compare(quiet, quiet)
	require.Len(t, same, 2, "round trips and losses")
	assert.False(t, same[0].Differs || same[1].Differs)
	d := Compare(quiet, busy)[0]
	assert.True(t, d.Differs)
	assert.Equal(t, 14, d.Hour)
	assert.InDelta(t, 10.05, d.WorstA.Expected, 0.1)
	assert.InDelta(t, 22.05, d.WorstB.Expected, 1.5)
	assert.Empty(t, Compare(quiet.Only(Loss), quiet.Only(RTT)), "nothing in common")
	both := quiet.Only(Loss).With(busy.Only(RTT))
	assert.False(t, Compare(both, busy)[0].Differs)
}
