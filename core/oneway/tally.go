package oneway

import (
	"math"
	"time"

	"woodlark.example/core/figure"
)

// Tally counts a stream as it arrives, without noting each packet: for streams of
// millions. Its zero value is ready.
type Tally struct {
	Packets    int64 // that arrived, each once
	Bytes      int64 // of payload, of those
	Duplicates int64
	Reordered  int64 // that arrived behind a later one (RFC 4737 §3.3)
	Next       int64 // one more than the highest number that arrived
	First      time.Time
	Last       time.Time

	jitter  float64 // of RFC 3550 §6.4.1, ns
	transit float64 // of the latest, ns
	first   float64 // transit; the next two are beyond it
	least   float64
	sum     float64
	timed   int64                     // packets with a time of sending
	seen    *[tallyWindow / 64]uint64 // whether a number came, of the last ones
}

// tallyWindow is how far behind the highest a duplicate is still known as one.
const tallyWindow = 1 << 16

// Add counts a packet: its number, when it was sent by the sender's clock (zero when
// that is not known) and when it arrived by the receiver's.
func (t *Tally) Add(number int, sent, received time.Time, size int) {
	n := int64(number)
	if t.seen == nil {
		t.seen = new([tallyWindow / 64]uint64)
		t.First = received
	}
	if n >= t.Next {
		if n-t.Next >= tallyWindow {
			*t.seen = [tallyWindow / 64]uint64{}
		} else {
			for i := t.Next; i < n; i++ {
				t.seen[i%tallyWindow/64] &^= 1 << (i % 64)
			}
		}
		t.Next = n + 1
	} else {
		if t.Next-n > tallyWindow || t.seen[n%tallyWindow/64]&(1<<(n%64)) != 0 {
			t.Duplicates++
			return
		}
		t.Reordered++
	}
	t.seen[n%tallyWindow/64] |= 1 << (n % 64)
	t.Packets++
	t.Bytes += int64(size)
	t.Last = received
	if sent.IsZero() {
		return
	}
	transit := float64(received.Sub(sent))
	if t.timed > 0 {
		t.jitter += (math.Abs(transit-t.transit) - t.jitter) / 16
	} else {
		t.first = transit
	}
	t.least = min(t.least, transit-t.first)
	t.sum += transit - t.first
	t.timed++
	t.transit = transit
}

// Has reports whether a number came, of the last ones: of earlier ones it does not know.
func (t *Tally) Has(n int64) bool {
	return t.seen != nil && n < t.Next && t.Next-n <= tallyWindow && t.seen[n%tallyWindow/64]&(1<<(n%64)) != 0
}

// Lost is how many of the packets that were sent did not arrive.
func (t Tally) Lost(sent int64) int64 { return max(0, sent-t.Packets) }

// Jitter is that of RFC 3550 §6.4.1; absent without times of sending.
func (t Tally) Jitter() figure.Duration {
	if t.timed == 0 {
		return figure.Duration{}
	}
	return figure.Of(round(t.jitter))
}

// Waited is how much longer than the fastest the packets took, in the mean: what a queue
// held them, while a single late one hardly counts.
func (t Tally) Waited() figure.Duration {
	if t.timed == 0 {
		return figure.Duration{}
	}
	return figure.Of(round(t.sum/float64(t.timed) - t.least))
}

func round(ns float64) time.Duration { return time.Duration(math.Round(ns)) }
