package voice

import (
	"math"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Buffer is a de-jitter buffer: it holds packets back so that they can be played at
// their pace, and discards those that come after their turn.
type Buffer struct {
	// Hold is for how long, beyond the least delay. Of an adaptive buffer it is what it
	// begins with.
	Hold time.Duration
	// Adaptive says that it follows the variation, between Least and Most.
	Adaptive    bool
	Least, Most time.Duration
}

// The usual buffers.
var (
	Fixed    = Buffer{Hold: 40 * time.Millisecond}
	Adaptive = Buffer{Adaptive: true, Hold: 20 * time.Millisecond, Least: 10 * time.Millisecond, Most: 200 * time.Millisecond}
)

// Played is what a buffer made of a stream.
type Played struct {
	Lost      int           // that never came
	Discarded int           // that came after their turn
	Ratio     figure.Number // of both, Ppl (G.107)
	Burst     float64       // burst ratio of both; 1 when there are too few to tell
	// Delay is the mean time from being sent to being played, without what the codec
	// adds; absent when nothing was played.
	Delay figure.Duration
}

// Play plays delays of packets in sending order; absent ones were lost. An adaptive
// buffer measures the variation as RTP does (RFC 3550 §6.4.1) and holds packets for
// four times it beyond the mean, which it follows by a sixteenth a packet; it changes
// only slowly, as between the words that are spoken.
func (b Buffer) Play(delays []figure.Duration) Played {
	p := Played{Burst: 1}
	gone := make([]bool, len(delays))
	var mean, jitter, hold, total float64
	least := math.Inf(1)
	for _, d := range delays {
		if v, ok := d.Get(); ok {
			least = min(least, float64(v))
		}
	}
	started, played := false, 0
	last := 0.0
	for i, d := range delays {
		v, ok := d.Get()
		if !ok {
			p.Lost++
			gone[i] = true
			continue
		}
		x := float64(v)
		if !started {
			started, mean, last, hold = true, x, x, float64(b.Hold)
		}
		turn := least + float64(b.Hold)
		if b.Adaptive {
			turn = mean + hold
		}
		if x > turn {
			p.Discarded++
			gone[i] = true
		} else {
			total += turn
			played++
		}
		jitter += (math.Abs(x-last) - jitter) / 16
		mean += (x - mean) / 16
		last = x
		if b.Adaptive {
			want := math.Min(math.Max(4*jitter, float64(b.Least)), float64(b.Most))
			hold += (want - hold) / 16
		}
	}
	if len(delays) > 0 {
		p.Ratio = figure.Of(float64(p.Lost+p.Discarded) / float64(len(delays)))
		p.Burst = max(1, loss.PatternOf(gone).BurstRatio.Or(1))
	}
	if played > 0 {
		p.Delay = figure.Of(time.Duration(total / float64(played)))
	}
	return p
}

// Quality is how a stretch of a call sounds.
type Quality struct {
	Played
	Mouth figure.Duration // mean delay from mouth to ear: network, packetisation, look-ahead and buffer
	R     figure.Number   // absent when the codec has no factors, or nothing was played
	MOS   figure.Number
}

// Judge rates delays of packets by a codec through a buffer.
func Judge(c Codec, b Buffer, delays []figure.Duration) Quality {
	q := Quality{Played: b.Play(delays)}
	d, ok := q.Delay.Get()
	if !ok {
		return q
	}
	mouth := d + c.Packet + c.Ahead
	q.Mouth = figure.Of(mouth)
	if !c.Rated {
		return q
	}
	r := Rating(Call{Codec: c, Delay: max(0, mouth), Loss: q.Ratio.Or(0), Burst: q.Burst})
	q.R, q.MOS = figure.Of(r), figure.Of(MOS(r))
	return q
}
