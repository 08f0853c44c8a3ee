package capacity

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/figure"
)

// Cause is what kept a transfer from being faster; see package finding for the codes.
type Cause string

// The causes.
const (
	NotKnown  Cause = ""
	ByWindow  Cause = "held_by_window" // the receiver's window or the sender's buffer
	ByLoss    Cause = "held_by_loss"   // packets are lost that nobody had to drop
	ByLink    Cause = "held_by_link"   // the link is full
	ByHost    Cause = "held_by_host"   // a machine at an end has no time to spare
	ByPolicer Cause = "policed"        // what exceeds a rate is dropped at once
)

// Evidence is what tells them apart.
type Evidence struct {
	Rate Rate // that was reached
	// Shares of the time that there was something to send; absent where the sender's
	// stack does not tell.
	ByReceiver, ByBuffer figure.Number
	Retransmits          int64
	Segments             int64 // sent; 0 when not known
	RTTRest, RTTLoad     figure.Duration
	// How busy the busier end was, 0 to 1: the busiest thread that moved bytes, or the
	// whole machine.
	Busy figure.Number
	// What datagrams met right after, at rates below and above what was reached.
	Below, Above *Burst
}

// Burst is what datagrams at a rate met.
type Burst struct {
	Rate    Rate
	For     time.Duration   // it lasted
	Loss    float64         // ratio
	Delayed figure.Duration // beyond the fastest of them, in the mean
}

// carried reports whether the path had room for a burst beyond a rate. Were that rate all
// that the path carries, then what exceeds it would be lost, or would stand before it: at
// the end For·(1 − rate/Rate), in the mean half of that.
func (b *Burst) carried(beyond Rate) bool {
	if b == nil || b.Loss >= clearlyLost || b.Rate <= beyond {
		return false
	}
	stands := time.Duration(float64(b.For) * (1 - float64(beyond/b.Rate)) / 2)
	return b.Delayed.Or(0) < max(waits, stands/4)
}

// Held is a judgement.
type Held struct {
	Cause Cause
	Sure  float64 // 0 to 1
	Why   string
}

const (
	mostlyHeld  = 0.5  // share of the time
	partlyHeld  = 0.2  // that tells when datagrams go through faster
	noTime      = 0.85 // busy
	deepQueue   = 5 * time.Millisecond
	waits       = 3 * time.Millisecond // in the mean, of a burst at a queue
	manyAgain   = 5e-4                 // segments sent again
	manyLost    = 2e-3
	clearlyLost = 2e-3 // of datagrams at half the rate
)

// WhatHeld tells what held a transfer back. When nothing clearly did it says so.
func WhatHeld(e Evidence) Held {
	again := 0.0
	if e.Segments > 0 {
		again = float64(e.Retransmits) / float64(e.Segments)
	}
	queued := e.queued()
	receiver, buffer := e.ByReceiver.Or(0), e.ByBuffer.Or(0)
	switch {
	case e.Busy.Or(0) >= noTime && !queued:
		return Held{ByHost, share(e.Busy.Or(0)), "an end had no time to spare"}
	case receiver+buffer >= mostlyHeld && again < manyAgain && receiver >= buffer:
		return Held{ByWindow, share(receiver), "the receiver's window was used up"}
	case receiver+buffer >= mostlyHeld && again < manyAgain:
		return Held{ByWindow, share(buffer), "the sender's buffer was used up"}
	case receiver+buffer >= partlyHeld && again < manyAgain && e.Above.carried(e.Rate):
		return Held{ByWindow, 0.8, "the window was used up again and again, and the path carries more"}
	case e.Below != nil && e.Below.Loss >= clearlyLost:
		return Held{ByLoss, share(0.5 + 50*e.Below.Loss), "packets are lost even at half of this rate"}
	case e.Above != nil && e.Above.Loss >= 0.02 && !queued && e.Above.Delayed.Or(math.MaxInt64) < waits && again >= manyAgain:
		return Held{ByPolicer, 0.9, "what exceeds the rate is dropped at once, without having waited"}
	case queued || e.Above != nil && e.Above.Loss >= 0.02 && e.Above.Delayed.Or(0) >= waits:
		return Held{ByLink, 0.9, "a queue stood before the link all along"}
	case again >= manyLost && e.Above != nil && e.Above.Loss < 0.02:
		return Held{ByLoss, 0.85, "segments are lost now and then, and TCP slows down for each, while datagrams go through faster"}
	case again >= 0.005 && e.Below == nil:
		return Held{ByLoss, 0.6, "segments had to be sent again, and nothing waited"}
	}
	return Held{Why: "nothing that was measured clearly held it back"}
}

// queued reports whether packets waited under load much longer than at rest.
func (e Evidence) queued() bool {
	rest, ok := e.RTTRest.Get()
	load, ok2 := e.RTTLoad.Get()
	return ok && ok2 && load-rest >= max(deepQueue, rest/5)
}

func share(v float64) float64 { return min(0.99, max(0.5, v)) }

// Bloat reports whether the round trip under load is far above that at rest: by more
// than 50 ms, and more than doubled.
func Bloat(rest, load figure.Duration) (by time.Duration, is bool) {
	r, ok := rest.Get()
	l, ok2 := load.Get()
	if !ok || !ok2 {
		return 0, false
	}
	return l - r, l-r > 50*time.Millisecond && l > 2*r
}

// Median of rates; absent when there are none.
func Median(rates []Rate) figure.Opt[Rate] {
	if len(rates) == 0 {
		return figure.Opt[Rate]{}
	}
	sorted := slices.Clone(rates)
	slices.Sort(sorted)
	n := len(sorted)
	return figure.Of((sorted[(n-1)/2] + sorted[n/2]) / 2)
}
