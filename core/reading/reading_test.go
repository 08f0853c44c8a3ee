package reading_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/delay"
	"woodlark.example/core/reading"
)

var start = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

const ms = time.Millisecond

func TestCounts(t *testing.T) {
	b := reading.NewBuilder(start, time.Minute, 60)
	for i, p := range []reading.Probe{
		{Outcome: reading.Answered, RTT: 10 * ms, Stamp: reading.StampKernel},
		{Outcome: reading.Answered, RTT: 12 * ms, Stamp: reading.StampUser, Copies: 1},
		{Outcome: reading.Lost},
		{Outcome: reading.Late, RTT: 2500 * ms},
		{Outcome: reading.Refused, RTT: 3 * ms, Cause: "host unreachable by 192.0.2.1"},
		{Outcome: reading.Unsent, Cause: "no buffer space"},
		{Outcome: reading.Answered, RTT: 11 * ms, Stamp: reading.StampKernel, SentLate: 2 * ms},
	} {
		p.DueAt = start.Add(time.Duration(i) * time.Second)
		b.Add(p)
	}
	r := b.Reading()
	assert.Equal(t, 6, r.Sent, "an unsent probe was not sent")
	assert.Equal(t, r.Sent, r.Answered+r.Lost+r.Refused)
	assert.Equal(t, 3, r.Answered)
	assert.Equal(t, 2, r.Lost, "late is lost")
	assert.Equal(t, 1, r.Late)
	assert.Equal(t, 1, r.Refused, "a refusal is neither answered nor lost")
	assert.Equal(t, 1, r.Unsent)
	assert.Equal(t, 1, r.Duplicates)
	assert.Equal(t, 1, r.LateSent)
	assert.Equal(t, reading.StampUser, r.Stamp, "the weakest stamp counts")
	assert.True(t, r.Short())
	median, _ := r.RTT.Median.Get()
	assert.Equal(t, 11*ms, median, "late answers are in no delay figure")
	f := r.Figures()
	assert.InDelta(t, 1.0/3, *f.LossRatio, 1e-12)
	assert.Equal(t, 11.0, *f.RTTMedianMs)
	assert.Equal(t, r, f.Reading(), "what is written can be read back")
}

func TestAbsentFiguresAreNull(t *testing.T) {
	f := reading.NewBuilder(start, time.Minute, 60).Reading().Figures()
	assert.Nil(t, f.LossRatio)
	assert.Nil(t, f.RTTMedianMs)
	assert.Equal(t, "none", f.Timestamps)
}

func TestLateSent(t *testing.T) {
	for _, c := range []struct {
		late, interval time.Duration
		want           bool
	}{{time.Millisecond, time.Second, false}, {1001 * time.Microsecond, time.Second, true}, {150 * time.Microsecond, ms, true}, {90 * time.Microsecond, ms, false}, {2 * ms, 0, true}} {
		assert.Equal(t, c.want, reading.LateSent(c.late, c.interval), "%v of %v", c.late, c.interval)
	}
}

// randomProbes makes probes with all kinds of fates, and all that can be said of one.
func randomProbes(seed uint64, n int) []reading.Probe {
	r := rand.New(rand.NewPCG(seed, 2))
	one := func(texts ...string) string { return texts[r.IntN(len(texts))] }
	var probes []reading.Probe
	number := int(seed) * 1000
	for i := range n {
		number += 1 + max(0, r.IntN(12)-10)
		p := reading.Probe{Number: number, DueAt: start.Add(time.Duration(i)*time.Second + time.Duration(r.IntN(1000))), Outcome: reading.Outcome(r.IntN(5)), Copies: r.IntN(3)}
		if p.Outcome != reading.Lost && p.Outcome != reading.Unsent {
			p.RTT, p.Stamp = time.Duration(r.Int64N(int64(3*time.Second))), reading.Stamp(r.IntN(4))
			p.TTL = []int{0, 57, 57, 57, 255}[r.IntN(5)]
			p.As = one("", "", "a datagram of its own")
			if r.IntN(4) == 0 {
				p.Peer = netip.MustParseAddr(one("192.0.2.9", "2001:db8::9", "fe80::1%veth0"))
			}
			p.Overtaken, p.Shut = r.IntN(5) == 0, r.IntN(5) == 0
		}
		if p.Outcome == reading.Refused || p.Outcome == reading.Unsent {
			p.Cause, p.MTU = one("", "connection refused by 192.0.2.9", "no route to host"), []int{0, 1280, 1492}[r.IntN(3)]
		}
		p.Damaged = r.IntN(9) == 0
		if r.IntN(3) == 0 {
			p.SentLate = time.Duration(100+r.IntN(100_000)) * time.Microsecond
		}
		probes = append(probes, p)
	}
	return probes
}

func TestPackKeepsEveryNanosecond(t *testing.T) {
	for seed := range uint64(200) {
		probes := randomProbes(seed, 60)
		back, err := reading.Unpack(start, reading.Pack(start, probes))
		require.NoError(t, err)
		require.Equal(t, probes, back)
		r := reading.Of(start, time.Minute, 60, time.Second, probes)
		require.Equal(t, r, reading.Of(start, time.Minute, 60, time.Second, back), "an agent that is started again finds the same figures")
	}
	for _, few := range [][]reading.Probe{{}, {{DueAt: start}}, {{DueAt: start, Outcome: reading.Answered, RTT: ms}}, {{DueAt: start.Add(time.Hour), Number: 7, Outcome: reading.Answered, RTT: 1 << 50, TTL: 255}}} {
		back, err := reading.Unpack(start, reading.Pack(start, few))
		require.NoError(t, err)
		assert.Equal(t, few, back)
	}
}

// TestPackKnowsDelays: times far from all others, all alike, losses among answers, other spacings;
// each nanosecond stays, and what takes how much is worked by hand: a Rice code of 60 times that are
// exponential above the least, of mean m, takes about log2(m ln 2) + 2 bits a time.
func TestPackKnowsDelays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	quiet := func(int) time.Duration { return 5*ms + time.Duration(r.IntN(1000)) }
	for _, c := range []struct {
		name string
		rtt  func(i int) time.Duration
		lost int // each so many
		most int
		due  func(i int) time.Duration
		late func(i int) time.Duration
	}{
		{"exponential, 200 µs", func(int) time.Duration { return 5*ms + time.Duration(r.ExpFloat64()*200e3) }, 0, 30 + 60*20/8, nil, nil},
		{"exponential, 10 ms", func(int) time.Duration { return 40*ms + time.Duration(r.ExpFloat64()*10e6) }, 0, 30 + 60*26/8, nil, nil},
		{"all alike", func(int) time.Duration { return 7 * ms }, 0, 40, nil, nil},
		{"it creeps", func(i int) time.Duration { return 5*ms + time.Duration(i)*ms + time.Duration(r.IntN(1000)) }, 0, 30 + 60*23/8, nil, nil},
		{"one is far", func(i int) time.Duration { return 5*ms + time.Duration(r.IntN(1000)) + time.Duration(i/59)*time.Second }, 0, 50 + 60*12/8, nil, nil},
		{"every fifth is lost", func(int) time.Duration { return 5*ms + time.Duration(r.IntN(1000)) }, 5, 50 + 60*12/8 + 12*2, nil, nil},
		{"all are lost", nil, 1, 30 + 60*3, nil, nil},
		{"due within a microsecond", quiet, 0, 40 + 60*(12+11)/8, func(int) time.Duration { return time.Duration(r.IntN(400)) }, nil},
		{"due within some nanoseconds", quiet, 0, 40 + 60*(12+7)/8, func(int) time.Duration { return time.Duration(r.IntN(30)) }, nil},
		{"by whole nanoseconds, few", func(int) time.Duration { return 5*ms + time.Duration(r.IntN(40)) }, 0, 40 + 60*8/8, nil, nil},
		{"the clock is set", quiet, 0, 55 + 60*12/8, func(i int) time.Duration { return time.Duration(i/30) * 40 * ms }, nil},
		{"random intervals", quiet, 0, 40 + 60*(12+33)/8, func(int) time.Duration { return time.Duration(r.ExpFloat64() * 1e9) }, nil},
		{"each third is late", quiet, 0, 40 + 60*(12+11)/8, nil, func(i int) time.Duration {
			return time.Duration(i%3/2) * time.Duration(100+r.IntN(200)) * time.Microsecond
		}},
		{"one is late", quiet, 0, 55 + 60*13/8, nil, func(i int) time.Duration { return time.Duration(i/59) * ms }},
	} {
		var probes []reading.Probe
		for i := range 60 {
			p := reading.Probe{Number: 3600 + i, DueAt: start.Add(time.Duration(i) * time.Second)}
			if c.due != nil {
				p.DueAt = p.DueAt.Add(c.due(i))
			}
			if c.late != nil {
				p.SentLate = c.late(i)
			}
			if c.lost == 0 || i%c.lost != 0 {
				p.Outcome, p.RTT, p.TTL, p.Stamp = reading.Answered, c.rtt(i), 57, reading.StampKernel
			}
			probes = append(probes, p)
		}
		packed := reading.Pack(start, probes)
		back, err := reading.Unpack(start, packed)
		require.NoError(t, err)
		require.Equal(t, probes, back, c.name)
		assert.Less(t, len(packed), c.most, c.name)
		second, err := reading.Unpack(start, reading.PackSecond(start, probes))
		require.NoError(t, err)
		require.Equal(t, probes, second, "and as it is written for who knows no newer one")
		assert.Equal(t, packed, reading.Dense(start, reading.PackSecond(start, probes)))
		assert.Equal(t, packed, reading.Dense(start, packed))
		for cut := range len(packed) - 1 {
			_, err := reading.Unpack(start, packed[:cut+1])
			if cut > 0 {
				assert.ErrorIs(t, err, reading.ErrPacked, "%s, cut at %d", c.name, cut)
			}
		}
		_, err = reading.Unpack(start, append(packed, 0))
		assert.ErrorIs(t, err, reading.ErrPacked, "%s, with more behind", c.name)
	}
	assert.Equal(t, []byte{2, 0xff}, reading.Dense(start, []byte{2, 0xff}), "what is damaged stays as it is")
	// A head that says that there are more probes than bytes can hold is refused before room is made.
	_, err := reading.Unpack(start, []byte{3, 0xff, 0xff, 0xff, 0xff, 0x0f, 0, 0, 0, 0, 0, 0, 0})
	assert.ErrorIs(t, err, reading.ErrPacked)
}

// TestLateStaysLate: how late a probe left is rounded so that the same of them count as late.
func TestLateStaysLate(t *testing.T) {
	for _, late := range []time.Duration{0, 99 * time.Microsecond, time.Millisecond - 1, time.Millisecond, time.Millisecond + 1, 1000400, 7 * time.Millisecond / 3} {
		back, err := reading.Unpack(start, reading.Pack(start, []reading.Probe{{DueAt: start, SentLate: late}}))
		require.NoError(t, err)
		assert.Equal(t, reading.LateSent(late, time.Second), reading.LateSent(back[0].SentLate, time.Second), "%v", late)
		assert.InDelta(t, late, back[0].SentLate, float64(100*time.Microsecond))
	}
}

// TestPackedByEarlierReleases: a head without more, as version 1 wrote it.
func TestPackedByEarlierReleases(t *testing.T) {
	// Answered by the kernel's clock in 12 ms, lost with nothing, refused with two copies in 11 ms.
	old := []byte{1, 1, 0, 2, 0x80, 0xec, 0xb8, 0x0b, 0, 0, 2<<3 | 3, 0, 1, 0xff, 0x88, 0x7a}
	back, err := reading.Unpack(start, old)
	require.NoError(t, err)
	assert.Equal(t, []reading.Probe{
		{DueAt: start, Outcome: reading.Answered, Stamp: reading.StampKernel, RTT: 12 * ms},
		{Number: 1, DueAt: start, Outcome: reading.Lost},
		{Number: 2, DueAt: start, Outcome: reading.Refused, Copies: 2, Stamp: reading.StampUser, RTT: 11 * ms},
	}, back)
	assert.Equal(t, old, reading.PackFirst(start, back), "and as it is written for those")
	for seed := range uint64(20) {
		probes := randomProbes(seed, 60)
		back, err := reading.Unpack(start, reading.PackFirst(start, probes))
		require.NoError(t, err)
		require.Len(t, back, len(probes))
		for i, x := range back {
			p := probes[i]
			require.Equal(t, reading.Probe{Number: i, DueAt: p.DueAt, Outcome: p.Outcome, Copies: p.Copies, Stamp: x.Stamp, RTT: x.RTT}, x)
			if p.Outcome == reading.Answered {
				require.Equal(t, p.RTT, x.RTT)
				require.Equal(t, p.Stamp, x.Stamp)
			}
		}
	}
}

func steady() []reading.Probe {
	var probes []reading.Probe
	for i := range 60 {
		probes = append(probes, reading.Probe{Number: i, TTL: 57, DueAt: start.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, Stamp: reading.StampKernel, RTT: 12*ms + time.Duration(i%9)*50*time.Microsecond})
	}
	return probes
}

func BenchmarkPack(b *testing.B) {
	r := rand.New(rand.NewPCG(5, 5))
	probes := steady()
	for i := range probes {
		probes[i].RTT = 5*ms + time.Duration(r.ExpFloat64()*200e3)
	}
	second := reading.PackSecond(start, probes)
	for b.Loop() {
		reading.Dense(start, second)
	}
	b.ReportMetric(float64(len(second)), "B/second")
	b.ReportMetric(float64(len(reading.Pack(start, probes))), "B/dense")
}

func FuzzUnpack(f *testing.F) {
	f.Add(reading.Pack(start, steady()))
	f.Add(reading.Pack(start, randomProbes(1, 20)))
	f.Add([]byte{3})
	f.Add([]byte{4})
	f.Add(reading.PackSecond(start, randomProbes(2, 20)))
	f.Add([]byte{1, 0xff, 0xff})
	f.Add([]byte{2, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, data []byte) {
		probes, err := reading.Unpack(start, data)
		if err != nil {
			require.ErrorIs(t, err, reading.ErrPacked)
			return
		}
		again, err := reading.Unpack(start, reading.Pack(start, probes))
		require.NoError(t, err)
		require.Len(t, again, len(probes))
	})
}

func TestSketchIsWithinItsError(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	var s reading.Sketch
	var all []time.Duration
	for range 5000 {
		d := time.Duration(r.ExpFloat64() * float64(20*ms))
		all = append(all, d)
		s.Add(d)
	}
	median, ok := s.Quantile(0.5)
	require.True(t, ok)
	exact, _ := delay.Median(all)
	assert.InEpsilon(t, float64(exact), float64(median), 0.006)
	data, err := s.MarshalBinary()
	require.NoError(t, err)
	var back reading.Sketch
	require.NoError(t, back.UnmarshalBinary(data))
	assert.Equal(t, s, back)
	require.Error(t, back.UnmarshalBinary(data[:len(data)-1]))
}

func TestRollupsMergeInAnyOrder(t *testing.T) {
	var parts []reading.Rollup
	var whole reading.Rollup
	for i := range 6 {
		probes := randomProbes(uint64(i), 60)
		r := reading.Of(start, time.Minute, 60, time.Second, probes)
		var u reading.Rollup
		u.Add(r, probes)
		whole.Add(r, probes)
		parts = append(parts, u)
	}
	var forth, back reading.Rollup
	for i := range parts {
		forth.Merge(parts[i])
		back.Merge(parts[len(parts)-1-i])
	}
	for _, u := range []reading.Rollup{forth, back} {
		assert.Equal(t, whole.Sent, u.Sent)
		assert.Equal(t, whole.Sum, u.Sum)
		assert.Equal(t, whole.Min, u.Min)
		assert.Equal(t, whole.Max, u.Max)
		assert.Equal(t, whole.Sketch, u.Sketch)
	}
	exact, _ := whole.Quantile(0.5)
	merged, _ := forth.Quantile(0.5)
	assert.InEpsilon(t, float64(exact), float64(merged), 0.05)
}

// FuzzSketch: what is read is either refused or a sketch whose quantiles are times, in
// their order, and which is written as it was read.
func FuzzSketch(f *testing.F) {
	var s reading.Sketch
	for _, d := range []time.Duration{0, time.Microsecond, 12 * time.Millisecond, 13 * time.Millisecond, time.Hour} {
		s.Add(d)
	}
	data, err := s.MarshalBinary()
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte{0xfe, 0xff, 0xff, 0xff, 0x0f, 1})
	f.Add([]byte{1, 1, 1, 1})
	f.Fuzz(func(t *testing.T, data []byte) {
		var s reading.Sketch
		if s.UnmarshalBinary(data) != nil {
			return
		}
		last := time.Duration(0)
		for _, q := range []float64{0, 0.5, 0.95, 1} {
			v, ok := s.Quantile(q)
			require.Equal(t, s.Count() > 0, ok)
			require.GreaterOrEqual(t, v, last)
			last = v
		}
		again, err := s.MarshalBinary()
		require.NoError(t, err)
		var back reading.Sketch
		require.NoError(t, back.UnmarshalBinary(again))
		require.Equal(t, s, back)
	})
}
