package reading

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"time"
)

// sketchGamma is the ratio of neighbouring bucket limits of a Sketch: a
// quantile read from it is within half a percent of the true order statistic.
const sketchGamma = 1.01

var logGamma = math.Log(sketchGamma)

// Sketch is a histogram of delays with buckets of constant relative width. Two
// sketches merge exactly: the sketch of a day is the sum of those of its hours.
// The zero value is an empty sketch.
type Sketch struct{ counts map[int32]uint32 }

// Add counts one delay. Delays under a nanosecond count as one.
func (s *Sketch) Add(d time.Duration) {
	if s.counts == nil {
		s.counts = make(map[int32]uint32, 64)
	}
	s.counts[int32(math.Ceil(math.Log(math.Max(1, float64(d)))/logGamma))]++
}

// Merge adds another's counts.
func (s *Sketch) Merge(other Sketch) {
	if s.counts == nil {
		s.counts = make(map[int32]uint32, len(other.counts))
	}
	for bucket, n := range other.counts {
		s.counts[bucket] += n
	}
}

// Count is the number of delays in the sketch.
func (s *Sketch) Count() int {
	var n int
	for _, c := range s.counts {
		n += int(c)
	}
	return n
}

// Quantile is the q-quantile (0 to 1), within 0.5 %; false when empty.
func (s *Sketch) Quantile(q float64) (time.Duration, bool) {
	total := s.Count()
	if total == 0 {
		return 0, false
	}
	buckets := s.buckets()
	rank := int(math.Round(float64(total-1) * q))
	for _, b := range buckets {
		rank -= int(s.counts[b])
		if rank < 0 {
			return bucketMiddle(b), true
		}
	}
	return bucketMiddle(buckets[len(buckets)-1]), true
}

func bucketMiddle(b int32) time.Duration {
	return time.Duration(min(math.Round(2*math.Pow(sketchGamma, float64(b))/(1+sketchGamma)), math.MaxInt64/2))
}

func (s *Sketch) buckets() []int32 {
	out := make([]int32, 0, len(s.counts))
	for b := range s.counts {
		out = append(out, b)
	}
	slices.Sort(out)
	return out
}

// MarshalBinary writes the sketch: pairs of varints, the step to the next
// bucket and its count.
func (s *Sketch) MarshalBinary() ([]byte, error) {
	out := make([]byte, 0, 3*len(s.counts))
	last := int32(0)
	for _, b := range s.buckets() {
		out = binary.AppendVarint(out, int64(b-last))
		out = binary.AppendUvarint(out, uint64(s.counts[b]))
		last = b
	}
	return out, nil
}

// largestBucket holds the longest time that there is.
var largestBucket = int64(math.Ceil(math.Log(math.MaxInt64) / logGamma))

// UnmarshalBinary reads what MarshalBinary wrote. What it did not write, such as a bucket
// of no time that there is, is an error.
func (s *Sketch) UnmarshalBinary(data []byte) error {
	s.counts = make(map[int32]uint32, min(len(data)/2, 4096))
	last := int64(0)
	for first := true; len(data) > 0; first = false {
		step, n := binary.Varint(data)
		if n <= 0 {
			return fmt.Errorf("sketch is damaged after %d buckets", len(s.counts))
		}
		count, m := binary.Uvarint(data[n:])
		if m <= 0 || count == 0 || count > math.MaxUint32 {
			return fmt.Errorf("sketch is damaged after %d buckets", len(s.counts))
		}
		if !first && step <= 0 || step < 0 || step > largestBucket || last+step > largestBucket {
			return fmt.Errorf("sketch is damaged after %d buckets: one is of no time that there is", len(s.counts))
		}
		last += step
		s.counts[int32(last)] = uint32(count)
		data = data[n+m:]
	}
	return nil
}
