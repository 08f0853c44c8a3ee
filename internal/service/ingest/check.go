package ingest

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
)

const (
	oldestTaken = 400 * 24 * time.Hour // before now: no longer is anything held back
	newestTaken = 60 * 24 * time.Hour  // behind now, by clocks that are wrong
	longestSpan = 25 * time.Hour
	longestRTT  = time.Hour
	mostCounted = 10_000_000
	mostPacked  = 200_000 // probes of one reading
	usualPacked = 4096    // more of them are rare
	longestText = 2000
	longestName = 253
)

// check says what an agent cannot have measured: of paths that are not its own, at
// times and with figures that cannot be. The error wraps kind.ErrInvalid and protocol.ErrRefused.
func (x *Ingest) check(u protocol.Upload) error {
	now := x.Now()
	var errs []error
	own := func(what string, path ident.ID) error {
		p := x.Paths.ByID(path)
		switch {
		case p == nil:
			return fmt.Errorf("%s is of path %s, which there is not", what, path)
		case p.AgentID != u.Agent:
			return fmt.Errorf("%s is of path %s, which is another agent's", what, path)
		}
		return nil
	}
	for i := range u.Readings {
		r := &u.Readings[i]
		errs = append(errs, own("a reading", r.Path), checkReading(r, now))
	}
	for _, r := range u.Runs {
		errs = append(errs, own("a run", r.Path), checkMade("run", r.ID, r.Started, r.Ended, r.Outcome, now), checkTexts(r.Address, 64, "", 0))
	}
	for _, x := range u.Sweeps {
		errs = append(errs, checkMade(kind.In("sweeps").Name, x.ID, x.Started, x.Ended, x.Outcome, now), checkTexts("", 0, x.Reason, longestText))
	}
	for _, x := range u.Traces {
		errs = append(errs, checkMade(kind.In("traces").Name, x.ID, x.Started, x.Ended, x.Outcome, now), checkTexts(x.Target, longestName, x.Reason, longestText), checkTexts(x.Via, 20, "", 0))
		if x.Family != 4 && x.Family != 6 {
			errs = append(errs, fmt.Errorf("a trace is by IPv%d", x.Family))
		}
	}
	for _, x := range u.TwoEnded {
		errs = append(errs, checkMade("measurement", x.ID, x.Started, x.Ended, x.Outcome, now), checkTexts(x.Target, longestName, x.Reason, longestText))
	}
	for _, m := range u.Made {
		errs = append(errs, checkMade("run", m.Run, m.Started, m.Ended, m.Outcome, now), checkTexts(m.Lane.Target, longestName, m.Reason, longestText), checkTexts(m.Lane.Via, 20, m.Address, 64), checkFigures(m))
		k, err := kind.Find(m.Kind)
		switch {
		case err != nil:
			errs = append(errs, err)
		case k.Paths:
			errs = append(errs, own("a run", m.Path))
		}
	}
	for _, c := range u.Conversations {
		errs = append(errs, checkTexts(c.Program, 64, c.Reason, longestText), checkConversation(c, now))
	}
	if err := errors.Join(errs...); err != nil {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, firstOf(err))
	}
	return nil
}

// checkConversation says what of a conversation cannot be.
func checkConversation(c protocol.Conversation, now time.Time) error {
	switch {
	case c.ID.IsZero() || c.Watch.IsZero():
		return errors.New("a conversation has no identifier, or no watch")
	case c.Server.IsValid() && c.Protocol != "tcp" && c.Protocol != "udp":
		return fmt.Errorf("a conversation is by %q", kind.Shorten(c.Protocol))
	case c.Began.Before(now.Add(-oldestTaken)) || c.Seen.After(now.Add(newestTaken)) || c.Seen.Before(c.Began) || !c.Ended.IsZero() && (c.Ended.Before(c.Began) || c.Ended.After(now.Add(newestTaken))):
		return fmt.Errorf("a conversation is from %s to %s, which cannot be", c.Began.UTC().Format(time.RFC3339), c.Seen.UTC().Format(time.RFC3339))
	}
	return nil
}

// checkFigures says what of a run's figures cannot be.
func checkFigures(m protocol.Made) error {
	f := m.Figures
	for _, v := range []*float64{f.ThereBps, f.BackBps, f.MOS} {
		if v != nil && (*v < 0 || *v > 1e15) {
			return fmt.Errorf("a figure of a %s is %g", m.Kind, *v)
		}
	}
	for _, n := range []*int64{f.Answered, f.Of, &f.SentBytes} {
		if n != nil && *n < 0 {
			return fmt.Errorf("a %s counts %d", m.Kind, *n)
		}
	}
	if m.Lane.Family != 0 && m.Lane.Family != 4 && m.Lane.Family != 6 {
		return fmt.Errorf("a %s is by IPv%d", m.Kind, m.Lane.Family)
	}
	return nil
}

// firstOf is the first of joined errors: one says enough of an upload.
func firstOf(err error) error {
	if many, ok := err.(interface{ Unwrap() []error }); ok && len(many.Unwrap()) > 1 {
		return fmt.Errorf("%w (and %d more)", many.Unwrap()[0], len(many.Unwrap())-1)
	}
	return err
}

func checkMade(what string, id ident.ID, from, to time.Time, outcome protocol.Outcome, now time.Time) error {
	switch {
	case id.IsZero():
		return fmt.Errorf("a %s has no identifier", what)
	case from.Before(now.Add(-oldestTaken)) || from.After(now.Add(newestTaken)):
		return fmt.Errorf("a %s began at %s, which cannot be", what, from.UTC().Format(time.RFC3339))
	case !to.IsZero() && (to.Before(now.Add(-oldestTaken)) || to.After(now.Add(newestTaken))):
		return fmt.Errorf("a %s ended at %s, which cannot be", what, to.UTC().Format(time.RFC3339))
	}
	switch outcome {
	case protocol.Running, protocol.Done, protocol.Failed, protocol.Missed, protocol.Cancelled:
		return nil
	}
	return fmt.Errorf("a %s ended as %q, which is no outcome", what, kind.Shorten(string(outcome)))
}

func checkTexts(a string, mostA int, b string, mostB int) error {
	if len(a) > mostA || len(b) > mostB {
		return fmt.Errorf("a text of %d bytes is longer than %d", max(len(a), len(b)), max(mostA, mostB))
	}
	return nil
}

// checkReading says what is wrong with the figures of a reading.
func checkReading(r *protocol.Record, now time.Time) error {
	x := r.Reading
	at := x.At.UTC().Format(time.RFC3339)
	switch {
	case x.At.Before(now.Add(-oldestTaken)) || x.At.After(now.Add(newestTaken)):
		return fmt.Errorf("a reading is of %s, which cannot be", at)
	case x.Span < 0 || x.Span > longestSpan:
		return fmt.Errorf("the reading of %s spans %v", at, x.Span)
	}
	for _, n := range []int{x.Expected, x.Sent, x.Answered, x.Lost, x.Late, x.Refused, x.Unsent, x.Duplicates, x.LateSent, x.Reordered.Or(0), x.Damaged.Or(0)} {
		if n < 0 || n > mostCounted {
			return fmt.Errorf("the reading of %s counts %d", at, n)
		}
	}
	if x.Sent != x.Answered+x.Lost+x.Refused || x.Late > x.Lost || x.LateSent > x.Sent || x.Reordered.Or(0) > x.Sent || x.Damaged.Or(0) > x.Sent {
		return fmt.Errorf("the counts of the reading of %s do not agree: %d sent, %d answered, %d lost, %d refused", at, x.Sent, x.Answered, x.Lost, x.Refused)
	}
	if err := checkTimes(x, at); err != nil {
		return err
	}
	return checkPacked(r, at)
}

// checkTimes says what is wrong with the round-trip times of a reading.
func checkTimes(x reading.Reading, at string) error {
	s := x.RTT
	for _, d := range []figure.Duration{s.Min, s.Mean, s.Median, s.P95, s.P99, s.Max, s.SD, s.Jitter, s.JitterRFC3550} {
		if v, ok := d.Get(); ok && (v < 0 || v > longestRTT) {
			return fmt.Errorf("a time of the reading of %s is %v", at, v)
		}
	}
	ordered := []figure.Duration{s.Min, s.Median, s.P95, s.P99, s.Max}
	for i := 1; i < len(ordered); i++ {
		low, one := ordered[i-1].Get()
		high, other := ordered[i].Get()
		if one && other && low > high {
			return fmt.Errorf("the times of the reading of %s are out of order: %v above %v", at, low, high)
		}
	}
	if _, has := s.Median.Get(); has != (x.Answered > 0) {
		return fmt.Errorf("the reading of %s has %d answers, and their times do not fit that", at, x.Answered)
	}
	return nil
}

// unpacked are probes that nobody looks at any more, so that their room is used again.
var unpacked = sync.Pool{New: func() any { return new([]reading.Probe) }}

// checkPacked holds a reading against its probes, and packs them as they are kept.
func checkPacked(r *protocol.Record, at string) error {
	room := unpacked.Get().(*[]reading.Probe)
	defer unpacked.Put(room)
	probes, err := reading.UnpackInto(*room, r.Reading.At, r.Packed)
	if *room = probes[:0]; cap(probes) > usualPacked {
		*room = nil // others need no such room
	}
	switch {
	case err != nil:
		return fmt.Errorf("the probes of the reading of %s cannot be read: %w", at, err)
	case len(probes) > mostPacked:
		return fmt.Errorf("the reading of %s has %d probes", at, len(probes))
	case len(probes) == 0:
		return nil
	}
	var sent, answered int
	for _, p := range probes {
		if p.Outcome != reading.Unsent {
			sent++
		}
		if p.Outcome == reading.Answered {
			answered++
		}
		if p.RTT < 0 || p.RTT > longestRTT {
			return fmt.Errorf("a probe of the reading of %s took %v", at, p.RTT)
		}
	}
	if sent != r.Reading.Sent || answered != r.Reading.Answered {
		return fmt.Errorf("the reading of %s says %d of %d answered, its probes %d of %d", at, r.Reading.Answered, r.Reading.Sent, answered, sent)
	}
	r.Packed = reading.Pack(r.Reading.At, probes)
	return nil
}

// markClock marks the readings of an agent whose clock is off, by what it showed when it
// sent them: they are kept, and nothing is judged by them.
func markClock(u *protocol.Upload, now time.Time) (off time.Duration) {
	if !u.SentAt.IsZero() {
		if off = u.SentAt.Sub(now); off > -fleet.WrongClock && off < fleet.WrongClock {
			off = 0
		}
	}
	for i := range u.Readings {
		x := &u.Readings[i]
		if off != 0 || x.Reading.At.After(now.Add(fleet.WrongClock)) {
			x.Flags |= protocol.WrongClock
		}
	}
	return off
}
