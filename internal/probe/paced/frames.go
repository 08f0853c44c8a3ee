package paced

import (
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// mostCycle is how many sizes of frames may follow each other.
const mostCycle = 4096

// checkTest says what is wrong with a shape of frames of a test.
func (s Shape) checkTest() error {
	switch {
	case s.Calls != 1 || !s.Bulk || s.Burst != 0:
		return fmt.Errorf("frames of a test are one stream, counted and not in bursts of a stream")
	case s.For <= 0 || s.For > 24*time.Hour:
		return fmt.Errorf("a stream of %v: more than nothing and at most 24h are possible", s.For)
	case !(s.FPS > 0) || s.FPS > 1e8:
		return fmt.Errorf("%g frames a second: more than none, and at most 100,000,000 are possible", s.FPS)
	case len(s.Sizes) == 0 || len(s.Sizes) > mostCycle:
		return fmt.Errorf("%d sizes of frames: 1 to %d are possible", len(s.Sizes), mostCycle)
	case s.AtOnce < 0 || s.AtOnce > 50_000_000 || s.Around < 0 || s.Around > 200:
		return fmt.Errorf("a burst of %d frames with %d bytes around each is not possible", s.AtOnce, s.Around)
	case float64(s.AtOnce) > s.FPS*s.For.Seconds()*1.01+1:
		// Over its time a burst is no more than the rate that a far end allows or not.
		return fmt.Errorf("a burst of %d frames is more than %g a second are in %v", s.AtOnce, s.FPS, s.For)
	case s.Window < 0 || s.Window > 0 && s.For/s.Window > 100_000:
		return fmt.Errorf("windows of %v are not possible in %v", s.Window, s.For)
	}
	for _, n := range s.Sizes {
		if n < wire.TestFrameSize || n > MostSize {
			return fmt.Errorf("frames with %d bytes of payload: %d to %d are possible", n, wire.TestFrameSize, MostSize)
		}
	}
	return nil
}

// testDue is when the k-th frame of a test leaves: of mixed sizes each takes its time by its
// size, so that no burst is in them that is not asked for.
func (s Shape) testDue(k int) time.Duration {
	if s.AtOnce > 0 {
		return 0
	}
	at := float64(k)
	if n := len(s.Sizes); n > 1 {
		before, whole := 0, 0
		for i, size := range s.Sizes {
			if i < k%n {
				before += size + s.Around
			}
			whole += size + s.Around
		}
		at = float64(k/n*n) + float64(before)/float64(whole)*float64(n)
	}
	return time.Duration(at / s.FPS * 1e9)
}

// schedule is when frames are due, quickly: of mixed sizes what stands before each in its cycle
// is summed up once.
func (s Shape) schedule() func(k int) time.Duration {
	if s.Format != Test || len(s.Sizes) < 2 || s.AtOnce > 0 {
		return s.due
	}
	n := len(s.Sizes)
	parts := make([]float64, n)
	whole := 0
	for i, size := range s.Sizes {
		parts[i] = float64(whole)
		whole += size + s.Around
	}
	for i := range parts {
		parts[i] *= float64(n) / float64(whole)
	}
	return func(k int) time.Duration { return time.Duration((float64(k/n*n) + parts[k%n]) / s.FPS * 1e9) }
}

// Windows is how many windows frames are counted in.
func (s Shape) Windows() int {
	if s.Window <= 0 {
		return 0
	}
	return int((s.For + s.Window - 1) / s.Window)
}

// DueIn is how many of the first frames are due in each window: of a stream that was stopped no
// more left.
func (s Shape) DueIn(frames int64) []int64 {
	list := make([]int64, s.Windows())
	if len(list) == 0 || s.AtOnce > 0 {
		return list
	}
	due := s.schedule()
	total, k := min(s.PerCall(), int(frames)), 0
	for i := range list {
		end := time.Duration(i+1) * s.Window
		// The first that is due behind the window, by halves.
		low, high := k, total
		for low < high {
			mid := (low + high) / 2
			if due(mid) < end {
				low = mid + 1
			} else {
				high = mid
			}
		}
		list[i] = int64(low - k)
		k = low
	}
	return list
}

// frames counts those of a test as they arrive.
type frames struct {
	shape Shape
	due   func(int) time.Duration
	next  int64 // the number after the highest that came
	meter acceptance.Meter
}

func framesOf(s Shape) *frames {
	return &frames{shape: s, due: s.schedule(), meter: acceptance.Meter{Window: s.Window, Windows: s.Windows()}}
}

// take counts a packet, and reports whether it is a frame of the test.
func (f *frames) take(p *network.Packet, at time.Time, wall Wall) (payload []byte, is bool) {
	if !wire.IsTestFrame(p.Data) {
		return nil, false
	}
	x, err := wire.ParseTestFrame(p.Data)
	if err != nil {
		f.meter.Damage()
		return nil, true
	}
	if x.Stream != uint8(f.shape.First) {
		return nil, false
	}
	number := f.next + int64(int32(x.Number-uint32(f.next)))
	if number < 0 || number >= int64(f.shape.PerCall()) {
		return nil, false
	}
	f.next = max(f.next, number+1)
	mark := -1
	switch {
	case p.DSCP.Known:
		mark = int(p.DSCP.Value)
	case p.Tagged:
		mark = int(p.Priority)
	}
	f.meter.Add(number, f.due(int(number)), x.Sent, wall(at), len(p.Data), mark)
	return p.Data, true
}

// Metered is what was counted of frames of a test; nil when none were to come.
func (r *Receiver) Metered() *acceptance.Metered {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.frames == nil {
		return nil
	}
	return r.frames.meter.Done()
}

// giveBack sends frames back that came, with their order.
func (r *Receiver) giveBack(list []network.Outgoing) []network.Outgoing {
	if len(list) > 0 {
		if n, err := r.Conn.SendAll(list); err != nil {
			r.mu.Lock()
			r.unreturned += len(list) - n
			r.mu.Unlock()
		}
	}
	return list[:0]
}

// Unreturned is how many frames came that this host could not send back.
func (r *Receiver) Unreturned() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.unreturned
}

// outgoing is a frame on its way back.
func outgoing(p *network.Packet) network.Outgoing {
	return network.Outgoing{To: netip.AddrPortFrom(p.Peer, p.Port), Message: p.Data}
}

// fast is the distance of frames below which several are due each time that this host looks: then
// they may as well go through it together.
const fast = 3 * time.Microsecond

// together reports whether frames of a test go through this host together: of a size, and so many
// that it would not send them one by one. Those of a burst go one by one, as what they come through
// is to have them so.
func (s Shape) together() bool {
	if s.AtOnce > 0 || s.apart() >= fast {
		return false
	}
	for _, n := range s.Sizes {
		if n != s.Sizes[0] {
			return false
		}
	}
	return true
}

// away is for how long a host may look away while frames come, and have room for them.
const away = 50 * time.Millisecond

// Departed is how what was sent left, as a whole.
type Departed struct {
	Packets int64   `json:"packets"`
	Seconds float64 `json:"seconds"` // from the first to the last
	Skipped int64   `json:"skipped"` // left out, because this host was hopelessly late
	// Pauses are when nothing was sent because this host was away.
	Pauses []Pause `json:"pauses,omitempty"`
	// TooLarge says that they do not fit the way, and may not be cut up.
	TooLarge bool `json:"too_large,omitempty"`
}

// Tested sets what sockets of tests need beside others: what does not fit is not cut up, and what
// comes tells its DSCP. There is room for the largest frame, and for what both ends say beside
// them.
func Tested(o *network.SocketOptions, shapes ...*Shape) {
	most := 0
	for _, s := range shapes {
		if s != nil && s.Format == Test {
			o.DontFragment, o.Frames = true, true
			most = max(most, MostSizeOf(*s))
			o.Together = o.Together || s.together()
			o.Depth = max(o.Depth, s.AtOnce, int(min(1e6, s.FPS*away.Seconds())))
		}
	}
	if most > 0 {
		o.Room = max(256, most)
	}
}

// Pause is for how many seconds the times of a frame and of all later ones were put off.
type Pause struct {
	Frame   int64   `json:"frame"`
	Seconds float64 `json:"seconds"`
}

// Paused is how many seconds all pauses took.
func (d Departed) Paused() (sum float64) {
	for _, p := range d.Pauses {
		sum += p.Seconds
	}
	return sum
}

// WindowOf is in which window a frame is due.
func (s Shape) WindowOf(frame int64) int {
	if s.Window <= 0 {
		return 0
	}
	return int(s.due(int(frame)) / s.Window)
}
