package capacity

import (
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
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
	// Own is how busy the busier end was with this, 0 to 1: the busiest thread that moved
	// bytes, or how near the rate came to what the end reaches within itself. Machine is
	// the busier machine as a whole, with all that other programs do on it.
	Own, Machine figure.Number
	// Datagrams says that it was no TCP: what the sender's stack tells is missing.
	Datagrams bool
	// What datagrams met right after, at rates below and above what was reached.
	Below, Above *Burst
}

// Burst is what datagrams at a rate met.
type Burst struct {
	Rate    Rate
	For     time.Duration // it lasted
	Lost    loss.Ratio
	Delayed figure.Duration // beyond the fastest of them, in the mean
}

// carried reports whether the path had room for a burst beyond a rate. Were that rate all
// that the path carries, then what exceeds it would be lost, or would stand before it: at
// the end For·(1 − rate/Rate), in the mean half of that.
func (b *Burst) carried(beyond Rate) bool {
	if b == nil || b.Lost.Value().Or(0) >= clearlyLost || b.Rate <= beyond {
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
	littleTime  = 0.65 // busy, where nothing else is left
	deepQueue   = 5 * time.Millisecond
	waits       = 3 * time.Millisecond // in the mean, of a burst at a queue
	manyAgain   = 5e-4                 // segments sent again
	manyLost    = 2e-3
	clearlyLost = 2e-3 // of datagrams at half the rate
	surelyLost  = 1e-3 // of them, by the lower end of the interval
	leastExcess = 0.02 // that is lost more beyond the rate than below it
	allBusy     = 0.95 // a whole machine
)

// WhatHeld tells what held a transfer back, each cause by evidence of its own; the one
// that weighs most first. When nothing clearly did, the list is empty.
func WhatHeld(e Evidence) (list []Held) {
	add := func(c Cause, sure float64, why string) { list = append(list, Held{c, sure, why}) }
	again := 0.0
	if e.Segments > 0 {
		again = float64(e.Retransmits) / float64(e.Segments)
	}
	queued, excess := e.queued(), e.excess()
	waiting := e.Above != nil && e.Above.Delayed.Or(0) >= waits
	receiver, buffer := e.ByReceiver.Or(0), e.ByBuffer.Or(0)
	switch { // what the stack of an end tells, and its processors
	case e.Own.Or(0) >= noTime && !queued:
		add(ByHost, share(e.Own.Or(0)), "this program had no time to spare at an end")
	case again >= manyAgain:
	case receiver+buffer >= mostlyHeld && receiver >= buffer:
		add(ByWindow, share(receiver), "the receiver's window was used up")
	case receiver+buffer >= mostlyHeld:
		add(ByWindow, share(buffer), "the sender's buffer was used up")
	case receiver+buffer >= partlyHeld && e.Above.carried(e.Rate):
		add(ByWindow, 0.8, "the window was used up again and again, and the path carries more")
	}
	if e.Below.surelyLoses() {
		add(ByLoss, share(0.5+50*e.Below.Lost.Value().Or(0)), "packets are lost even at half of this rate")
	}
	switch { // what is beyond the rate
	case excess && !queued && !waiting && (e.Datagrams || again >= manyAgain):
		add(ByPolicer, 0.9, "what exceeds the rate is dropped at once, without having waited")
	case queued:
		add(ByLink, 0.9, "a queue stood before the link all along")
	case excess && waiting:
		add(ByLink, 0.9, "what exceeds the rate waits in a queue before it is dropped")
	}
	if len(list) > 0 || e.Datagrams {
		return list
	}
	switch {
	case again >= manyLost && e.Above != nil && !excess:
		add(ByLoss, 0.85, "segments are lost now and then, and TCP slows down for each, while datagrams go through faster")
	case again >= 0.005 && e.Below == nil:
		add(ByLoss, 0.6, "segments had to be sent again, and nothing waited")
	case again >= manyAgain:
	// TCP that no window, no loss and no queue holds sends as fast as it is given
	// something: what is left are the ends.
	case e.Own.Or(0) >= littleTime && receiver+buffer < partlyHeld && e.Below != nil && e.waited():
		add(ByHost, 0.7, "this program was busy at an end for most of the time, and nothing else that was measured held it")
	case e.Machine.Or(0) >= allBusy:
		add(ByHost, 0.6, "other programs kept a machine at an end busy, and nothing else that was measured held it")
	}
	return list
}

// Nothing is the reason where no cause was found.
const Nothing = "nothing that was measured clearly held it back"

// surelyLoses reports whether more of a burst is lost than a sound way may lose.
func (b *Burst) surelyLoses() bool {
	if b == nil {
		return false
	}
	low, _, ok := b.Lost.Interval()
	return ok && low >= surelyLost
}

// Settled reports whether a burst at half the rate was long enough to tell whether loss
// holds the rate: its interval lies on one side of the limit, or is narrow.
func (b *Burst) Settled() bool {
	if b == nil {
		return true
	}
	low, high, ok := b.Lost.Interval()
	const quiet = 200 // of which none was lost: nothing says that any would be
	return ok && (low >= surelyLost || high < clearlyLost || high-low < clearlyLost || b.Lost.Lost == 0 && b.Lost.Sent >= quiet)
}

// excess reports whether what goes beyond the rate is surely lost more than what stays
// below it.
func (e Evidence) excess() bool {
	if e.Above == nil {
		return false
	}
	low, _, ok := e.Above.Lost.Interval()
	most := 0.0
	if e.Below != nil {
		_, most, _ = e.Below.Lost.Interval()
		if e.Below.Lost.Lost == 0 {
			most = 0
		}
	}
	return ok && low >= most && e.Above.Lost.Value().Or(0) >= e.Below.ratio()+leastExcess
}

func (b *Burst) ratio() float64 {
	if b == nil {
		return 0
	}
	return b.Lost.Value().Or(0)
}

// queued reports whether packets waited under load much longer than at rest.
func (e Evidence) queued() bool {
	rest, ok := e.RTTRest.Get()
	load, ok2 := e.RTTLoad.Get()
	return ok && ok2 && load-rest >= max(deepQueue, rest/5)
}

// waited reports whether it is known how long packets waited.
func (e Evidence) waited() bool { return e.RTTRest.IsSet() && e.RTTLoad.IsSet() }

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
