package agent

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func testMinutes(t *testing.T) (*minutes, *spool) {
	s := newSpool(Options{Dir: t.TempDir()}, aside{}, slog.New(slog.DiscardHandler))
	return newMinutes(protocol.Task{Path: ident.New(), Interval: time.Second}, s, slog.New(slog.DiscardHandler)), s
}

func feed(m *minutes, from time.Time, seconds int) {
	for i := range seconds {
		m.add(reading.Probe{DueAt: from.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: time.Millisecond})
	}
}

// records are the minutes that were handed to the spool.
func (s *spool) records() (list []protocol.Record) {
	for _, e := range s.minutes {
		list = append(list, e.record(0))
	}
	return list
}

func TestProbesAreCutIntoMinutes(t *testing.T) {
	m, s := testMinutes(t)
	feed(m, noon.Add(20*time.Second), 101)
	got := s.records()
	require.Len(t, got, 2)
	assert.Equal(t, noon, got[0].Reading.At)
	assert.Equal(t, 40, got[0].Reading.Sent, "the minute in which it began")
	assert.True(t, got[0].Reading.Short())
	assert.Equal(t, 60, got[1].Reading.Sent)
	assert.False(t, got[1].Reading.Short())
	m.flush(protocol.Cut)
	last := s.records()[2]
	assert.Equal(t, 1, last.Reading.Sent)
	assert.Equal(t, protocol.Cut, last.Flags)
}

func TestAClockThatIsSetBack(t *testing.T) {
	m, s := testMinutes(t)
	feed(m, noon, 90)
	feed(m, noon.Add(-10*time.Minute+500*time.Millisecond), 60)
	m.flush(0)
	got := s.records()
	times := map[time.Time]bool{}
	total := 0
	for _, r := range got {
		assert.False(t, times[r.Reading.At], "no two readings have one time")
		times[r.Reading.At] = true
		total += r.Reading.Sent
	}
	assert.Equal(t, 150, total, "no probe is lost")
	jumped := 0
	for _, r := range got {
		if r.Flags&protocol.Jumped != 0 {
			jumped++
		}
	}
	assert.Equal(t, 2, jumped, "the minute before and the one after say so")
}

func TestAClockThatIsSetForward(t *testing.T) {
	m, s := testMinutes(t)
	feed(m, noon, 30)
	feed(m, noon.Add(time.Hour), 60)
	m.flush(0)
	require.Len(t, s.records(), 2)
	require.Len(t, s.runs, 1, "the hour between is a missed run with its reason")
	assert.Equal(t, protocol.Missed, s.runs[0].Outcome)
	assert.Equal(t, noon.Add(time.Minute), s.runs[0].Started)
	assert.Equal(t, noon.Add(time.Hour), s.runs[0].Ended)
	assert.Contains(t, s.runs[0].Reason, "clock was set forward")
}

func TestAMinuteThatCouldNotBeSentIsAFailedRun(t *testing.T) {
	m, s := testMinutes(t)
	for i := range 60 {
		m.add(reading.Probe{DueAt: noon.Add(time.Duration(i) * time.Second), Outcome: reading.Unsent, Cause: "network is unreachable"})
	}
	feed(m, noon.Add(time.Minute), 60)
	m.flush(0)
	require.Len(t, s.records(), 2)
	assert.Equal(t, 60, s.records()[0].Reading.Unsent)
	require.Len(t, s.runs, 1, "and the minute after is none")
	assert.Equal(t, protocol.Failed, s.runs[0].Outcome)
	assert.Contains(t, s.runs[0].Reason, "network is unreachable")
}

func TestNoMinuteIsWrittenOverAfterTheClockWasSetBack(t *testing.T) {
	m, s := testMinutes(t)
	feed(m, noon, 10*60)
	feed(m, noon.Add(3*time.Minute+300*time.Millisecond), 15*60) // over what is written, and past it
	m.flush(0)
	times := map[time.Time]bool{}
	total := 0
	for _, r := range s.records() {
		assert.False(t, times[r.Reading.At], "two readings of %v: the second would be dropped", r.Reading.At)
		times[r.Reading.At] = true
		total += r.Reading.Sent
		if again := r.Reading.At.After(noon) && !r.Reading.At.Equal(r.Reading.At.Truncate(time.Minute)); again {
			assert.NotZero(t, r.Flags&protocol.Jumped, "a minute that comes twice says why")
		}
	}
	assert.Equal(t, 25*60, total)
	assert.True(t, times[noon.Add(15*time.Minute)], "past what was written, minutes are whole again")
	assert.Empty(t, s.runs, "nothing was missed")
}
