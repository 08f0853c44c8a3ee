package acceptance

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/oneway"
)

// Meter counts the frames of a load as they arrive, without noting each: of any rate and any
// length it takes the same memory, but for a window each while. Its zero value, with the windows
// set, is ready.
type Meter struct {
	Window  time.Duration // how long a window is; none when 0
	Windows int           // how many there are

	tally   oneway.Tally
	damaged int64
	whole   int64 // frames from the first on that came without a gap
	marks   map[int]int64
	list    []Window
	base    time.Duration // the transit of the first; all others are told beyond it
	sum     float64
	least   time.Duration
	most    time.Duration
	taken   int64
	sample  []int32 // transits beyond the base in units of the sample, drawn at random
	random  uint64
}

// mostSample is how many frames quantiles are taken of: of more as many are drawn at random.
const mostSample = 1 << 16

// sampleUnit is in what transits of the sample are kept: they reach over more than a minute.
const sampleUnit = 50 * time.Nanosecond

// Add counts a frame: its number, when it was due to leave after the beginning, when it left by
// the sender's clock and arrived by the receiver's, its size in bytes, and its DSCP (below 0 when
// it is not known).
func (m *Meter) Add(number int64, due time.Duration, sent, received time.Time, size, mark int) {
	before := m.tally.Packets
	m.tally.Add(int(number), sent, received, size)
	if m.tally.Packets == before {
		return // it came before
	}
	if number == m.whole {
		m.whole++
		for m.tally.Has(m.whole) {
			m.whole++
		}
	}
	if mark >= 0 {
		if m.marks == nil {
			m.marks = map[int]int64{}
		}
		m.marks[mark]++
	}
	transit := received.Sub(sent)
	if m.taken == 0 {
		m.base = transit
	}
	x := transit - m.base
	m.sum += float64(x)
	m.least, m.most = min(m.least, x), max(m.most, x)
	m.draw(x)
	m.taken++
	if m.Window <= 0 {
		return
	}
	if m.list == nil {
		m.list = make([]Window, m.Windows)
	}
	i := int(due / m.Window)
	if i < 0 || i >= len(m.list) {
		return
	}
	w := &m.list[i]
	if w.Received == 0 || x < w.Least {
		w.Least = x
	}
	w.Received++
	w.Bytes += int64(size)
}

// draw keeps a transit, or not: of all that came each is kept with the same chance.
func (m *Meter) draw(x time.Duration) {
	v := int32(min(math.MaxInt32, max(math.MinInt32, int64(x/sampleUnit))))
	if len(m.sample) < mostSample {
		m.sample = append(m.sample, v)
		return
	}
	if m.random == 0 {
		m.random = 0x2545f4914f6cdd1d
	}
	m.random ^= m.random << 13
	m.random ^= m.random >> 7
	m.random ^= m.random << 17
	if at := m.random % uint64(m.taken+1); at < mostSample {
		m.sample[at] = v
	}
}

// Damage counts a frame that was changed on its way. It counts as lost.
func (m *Meter) Damage() { m.damaged++ }

// Metered is what a meter counted. Transits are by two clocks, in nanoseconds.
type Metered struct {
	Packets    int64           `json:"packets"`
	Bytes      int64           `json:"bytes"` // of payload
	Duplicates int64           `json:"duplicates"`
	Reordered  int64           `json:"reordered"`
	Damaged    int64           `json:"damaged"`
	Whole      int64           `json:"whole"`
	Least      int64           `json:"least_ns"`
	Mean       int64           `json:"mean_ns"`
	P50        int64           `json:"p50_ns"`
	P99        int64           `json:"p99_ns"`
	P999       int64           `json:"p999_ns"`
	Most       int64           `json:"most_ns"`
	Marks      map[int]int64   `json:"dscps,omitempty"`
	Windows    []MeteredWindow `json:"windows,omitempty"`
}

// MeteredWindow is what arrived of what was due in a window: frames, bytes, and the least
// transit beyond the first frame's, in nanoseconds.
type MeteredWindow [3]int64

// Done is what it counted.
func (m *Meter) Done() *Metered {
	x := &Metered{Packets: m.tally.Packets, Bytes: m.tally.Bytes, Duplicates: m.tally.Duplicates, Reordered: m.tally.Reordered, Damaged: m.damaged, Whole: m.whole, Marks: m.marks}
	if m.taken > 0 {
		base := int64(m.base)
		x.Least, x.Most, x.Mean = base+int64(m.least), base+int64(m.most), base+int64(m.sum/float64(m.taken))
		sorted := slices.Clone(m.sample)
		slices.Sort(sorted)
		at := func(q float64) int64 {
			i := q * float64(len(sorted)-1)
			low := int(i)
			v := float64(sorted[low])
			if low+1 < len(sorted) {
				v += (i - float64(low)) * float64(sorted[low+1]-sorted[low])
			}
			return base + int64(v*float64(sampleUnit))
		}
		x.P50, x.P99, x.P999 = at(0.5), at(0.99), at(0.999)
	}
	for _, w := range m.list {
		x.Windows = append(x.Windows, MeteredWindow{w.Received, w.Bytes, int64(w.Least)})
	}
	return x
}

// Count is how many frames and bytes arrived so far.
func (m *Meter) Count() (packets, bytes int64) { return m.tally.Packets, m.tally.Bytes }

// Clocks is how the receiver's clock stands to the sender's.
type Clocks struct {
	Of     Of            // what the delays are, by what is known of the clocks
	Offset time.Duration // of the receiver's clock, ahead of the sender's
	Error  time.Duration
}

// DelayBy is the delay of what was metered, by clocks that stand so to each other; nil when
// nothing arrived.
func (x *Metered) DelayBy(c Clocks) *Delay {
	if x.Packets == 0 {
		return nil
	}
	at := func(ns int64) float64 { return float64(ns-int64(c.Offset)) / 1e6 }
	return &Delay{Of: c.Of, LeastMs: at(x.Least), MeanMs: at(x.Mean), P50Ms: at(x.P50), P99Ms: at(x.P99), P999Ms: at(x.P999), MostMs: at(x.Most), ErrorMs: float64(c.Error) / 1e6}
}

// Trend is that of windows in which so many frames were sent, of some with pauses.
func (x *Metered) Trend(sent []int64, pauses map[int]bool, each time.Duration) (steady, growth *float64) {
	list := make([]Window, min(len(sent), len(x.Windows)))
	for i := range list {
		w := x.Windows[i]
		list[i] = Window{Sent: sent[i], Received: w[0], Bytes: w[1], Least: time.Duration(w[2]), Pause: pauses[i]}
	}
	return Trend(list, each)
}
