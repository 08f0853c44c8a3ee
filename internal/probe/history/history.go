// Package history makes, in virtual time, the readings that a continuous watch
// in a world would have produced. The fates are those of the world, the
// figures come from the same summariser that live probes go through.
package history

import (
	"context"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network/world"
)

// Path is a pair of places in a world, pinged once an interval.
type Path struct {
	From     int // node index
	To       netip.Addr
	Interval time.Duration
	Wait     time.Duration
	Phase    time.Duration
}

// Minutes calls each with the reading of every minute from start (inclusive)
// to end (exclusive), in order. The probes belong to the caller until the next
// call. It stops when each or ctx returns an error, and returns it.
func Minutes(ctx context.Context, m *world.Model, p Path, start, end time.Time, each func(reading.Reading, []reading.Probe) error) error {
	if _, err := m.Find(p.To.String()); err != nil {
		return err
	}
	walker := m.Walker()
	expected := int(time.Minute / p.Interval)
	b := reading.NewBuilder(start, time.Minute, expected)
	due := start.Add(p.Phase)
	var number uint64
	for at := start; at.Before(end); at = at.Add(time.Minute) {
		b.Reset(at)
		limit := at.Add(time.Minute)
		for ; due.Before(limit); due = due.Add(p.Interval) {
			x := probe(walker.Echo(p.From, p.To, due, number+1), due, p.Wait)
			x.Number = int(number)
			b.Add(x)
			number++
		}
		if err := each(b.Reading(), b.Probes()); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

func probe(fate world.Fate, due time.Time, wait time.Duration) reading.Probe {
	p := reading.Probe{DueAt: due, RTT: fate.RTT, Stamp: reading.StampWorld, TTL: fate.TTL}
	switch {
	case fate.Refused != "":
		p.Outcome, p.Cause = reading.Refused, fate.Refused
	case fate.Answered && fate.RTT <= wait:
		p.Outcome = reading.Answered
	case fate.Answered:
		p.Outcome = reading.Late
	}
	return p
}

// Discard takes a minute and does nothing with it.
func Discard(reading.Reading, []reading.Probe) error { return nil }
