// Package bulk moves bytes over TCP connections as fast as they go, and notes how it
// went each second.
package bulk

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
)

// Interval is how it went in about a second. What a stack does not tell is nil.
type Interval struct {
	Start       float64  `json:"start_seconds"` // since the transfer's start
	Seconds     float64  `json:"seconds"`
	Bytes       int64    `json:"bytes"`       // of payload, at this end
	Retransmits *int64   `json:"retransmits"` // segments, of who sends
	RTTMs       *float64 `json:"rtt_ms"`      // by the kernel, the mean of the streams
	Window      *int64   `json:"window_bytes"`
	Process     float64  `json:"cpu_process_ratio"` // of one processor
	Machine     *float64 `json:"cpu_machine_ratio"`
}

// Report is how a transfer went at one end.
type Report struct {
	Bytes int64 `json:"bytes"`
	// Left is of them what left this end: what is written waits in a buffer first.
	Left      int64      `json:"left_bytes"`
	First     float64    `json:"first_seconds"` // of the receiver: when the first byte came, since the start
	Seconds   float64    `json:"seconds"`       // from the first byte to the last
	Intervals []Interval `json:"intervals"`
	// At its end, of the one who sends; zero values when its stack does not tell.
	Told       bool    `json:"told"`
	Congestion string  `json:"congestion"`
	Segment    int     `json:"segment_bytes"`
	Segments   int64   `json:"segments"`
	Again      int64   `json:"retransmits"`
	LeastRTTMs float64 `json:"least_rtt_ms"`
	// Timed says that the stack tells what it waited for.
	Timed      bool    `json:"timed"`
	ByReceiver float64 `json:"by_receiver_ratio"` // shares of the time that there was something to send
	ByBuffer   float64 `json:"by_buffer_ratio"`
	// Busiest is the share of the time that this program was at work for each
	// connection: 1 is a processor of its own.
	Busiest float64 `json:"busy_ratio"`
	Problem string  `json:"problem,omitempty"` // why it ended early
}

// Transfer is one direction of a test at one end.
type Transfer struct {
	Conns   []net.Conn
	Streams network.Streams
	Sends   bool
	Bytes   int64 // that each connection sends; no limit when 0
	For     time.Duration

	moved  atomic.Int64
	first  atomic.Int64 // ns since the start
	last   atomic.Int64
	over   atomic.Bool
	begun  time.Time
	mu     sync.Mutex
	report Report
	base   int64 // bytes that had left the connections before
	left   int64 // of this transfer, when it was last looked; less than 0 when the stack does not tell
}

const chunk = 256 << 10

// block is what is sent: noise, which nothing on the way can make smaller.
var block = func() []byte {
	b := make([]byte, chunk)
	r := rand.NewChaCha8([32]byte{'w', 'o', 'o', 'd', 'l', 'a', 'r', 'k'})
	_, _ = r.Read(b)
	return b
}()

// Moved is how many bytes went or came so far.
func (t *Transfer) Moved() int64 { return t.moved.Load() }

// Intervals are those so far.
func (t *Transfer) Intervals() []Interval {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]Interval{}, t.report.Intervals...)
}

// Run moves bytes until the time is over, all is sent, the other end closes, or ctx
// ends. It closes the connections for writing, and the caller closes them.
func (t *Transfer) Run(ctx context.Context) Report {
	t.base, t.left = t.leftSoFar(), -1
	t.begun = time.Now()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() {
		t.over.Store(true)
		for _, c := range t.Conns {
			_ = c.SetDeadline(time.Unix(1, 0))
		}
	})
	defer stop()
	var watching, moving sync.WaitGroup
	over := make(chan struct{})
	watching.Go(func() { t.watch(over) })
	problems := make(chan error, len(t.Conns))
	used := host.NewMeter()
	for _, c := range t.Conns {
		moving.Go(func() {
			if t.Sends {
				problems <- t.send(c)
			} else {
				problems <- t.receive(c)
			}
		})
	}
	moving.Wait()
	t.mu.Lock()
	t.report.Busiest = min(1, used.Since().Process/float64(len(t.Conns)))
	t.mu.Unlock()
	close(over)
	watching.Wait()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.report.Bytes = t.moved.Load()
	t.report.Left = t.report.Bytes
	if t.Sends && t.left >= 0 {
		t.report.Left = min(t.report.Bytes, t.left)
	}
	if last := t.last.Load(); last > 0 {
		from := t.first.Load()
		if t.Sends {
			from = 0
		}
		t.report.First = time.Duration(from).Seconds()
		t.report.Seconds = time.Duration(last - from).Seconds()
	}
	for range t.Conns {
		if err := <-problems; err != nil && t.report.Problem == "" {
			t.report.Problem = err.Error()
		}
	}
	return t.report
}

func (t *Transfer) count(n int) {
	if n <= 0 {
		return
	}
	now := int64(time.Since(t.begun))
	t.first.CompareAndSwap(0, now)
	t.last.Store(now)
	t.moved.Add(int64(n))
}

func (t *Transfer) send(c net.Conn) error {
	end := t.begun.Add(t.For)
	if direct, err := t.sendDirectly(c, end); direct {
		if err != nil {
			return err
		}
		return closeWrite(c)
	}
	_ = c.SetWriteDeadline(end)
	left := t.Bytes
	for at := 0; ; at = (at + chunk) % len(block) {
		n := min(chunk, len(block)-at)
		if t.Bytes > 0 {
			if left <= 0 {
				break
			}
			n = int(min(int64(n), left))
		}
		k, err := c.Write(block[at : at+n])
		t.count(k)
		left -= int64(k)
		var timed net.Error
		if errors.As(err, &timed) && timed.Timeout() && !time.Now().Before(end) {
			break
		}
		if err != nil {
			return err
		}
	}
	return closeWrite(c)
}

// closeWrite tells the other end that all is sent.
func closeWrite(c net.Conn) error {
	if half, ok := c.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

func (t *Transfer) receive(c net.Conn) error {
	if direct, err := t.receiveDirectly(c); direct {
		return err
	}
	b := make([]byte, chunk)
	for {
		n, err := c.Read(b)
		t.count(n)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// watch notes each second how it goes.
func (t *Transfer) watch(over <-chan struct{}) {
	load := host.NewMeter()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var bytes, again int64
	at := t.begun
	for {
		ended := false
		select {
		case <-tick.C:
		case <-over:
			ended = true
		}
		now := time.Now()
		i := Interval{Start: at.Sub(t.begun).Seconds(), Seconds: now.Sub(at).Seconds()}
		used := load.Since()
		i.Process, i.Machine = used.Process, used.Machine
		moved := t.moved.Load()
		if t.Sends {
			again = t.look(&i, again)
			if t.left >= 0 {
				moved = max(bytes, min(moved, t.left))
			}
		}
		i.Bytes = moved - bytes
		at, bytes = now, moved
		t.mu.Lock()
		if i.Seconds > 0.01 {
			t.report.Intervals = append(t.report.Intervals, i)
		}
		t.mu.Unlock()
		if ended {
			return
		}
	}
}

// leftSoFar is how many bytes left the connections, by their stack.
func (t *Transfer) leftSoFar() (n int64) {
	for _, c := range t.Conns {
		if s, ok := t.Streams.Watch(c); ok && t.Sends {
			n += s.Left
		}
	}
	return n
}

// look asks the stack how the connections stand.
func (t *Transfer) look(i *Interval, again int64) int64 {
	var rtt, least time.Duration
	var sum, segments, window, left int64
	var busy, receiver, buffer time.Duration
	told := 0
	var last network.StreamState
	for _, c := range t.Conns {
		s, ok := t.Streams.Watch(c)
		if !ok {
			continue
		}
		told++
		last = s
		rtt += s.RTT
		sum, segments, window, left = sum+s.Retransmits, segments+s.Sent, window+s.Window, left+s.Left
		busy, receiver, buffer = busy+s.Busy, receiver+s.ByReceiver, buffer+s.ByBuffer
		if s.LeastRTT > 0 && (least == 0 || s.LeastRTT < least) {
			least = s.LeastRTT
		}
	}
	if told == 0 {
		return again
	}
	t.left = left - t.base
	more := sum - again
	i.Retransmits = &more
	if rtt > 0 {
		ms := float64(rtt) / float64(told) / 1e6
		i.RTTMs = &ms
	}
	if window > 0 {
		i.Window = &window
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	r := &t.report
	r.Told, r.Congestion, r.Segment, r.Segments, r.Again = true, last.Congestion, last.Segment, segments, sum
	r.LeastRTTMs = float64(least) / 1e6
	if r.Timed = busy > 0; r.Timed {
		r.ByReceiver, r.ByBuffer = float64(receiver)/float64(busy), float64(buffer)/float64(busy)
	}
	return sum
}
