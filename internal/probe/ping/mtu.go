package ping

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// SizeRequest asks for the largest packet that reaches a target whole.
type SizeRequest struct {
	Addr   netip.Addr
	Wait   time.Duration // for an answer; a second when 0
	Socket network.SocketOptions
	Mark   uint64
	Link   int // the MTU of the host's own link, where it is known
	// Tried, if set, is told of each size as it is known, in bytes of the whole
	// IP packet.
	Tried func(size int, fits bool)
}

const (
	probesASize = 3
	moreToTell  = 8 // further probes, when a size vanished with no word
	headers4    = 28
	headers6    = 48
	mostPacket  = 65_535
)

// sizer is one search.
type sizer struct {
	SizeRequest
	engine  *Engine
	headers int
	found   finding.PathMTU
	// small are the probes of sizes that fit: what is lost of them has other causes.
	small loss.Ratio
}

// FindMTU searches for the path MTU with echo requests that may not be cut up
// (RFC 1191, RFC 8201), and by whether they arrive, as routers may be silent
// (RFC 4821 §7). A target that does not answer at all gives a result without
// an MTU.
func FindMTU(ctx context.Context, n network.Network, r SizeRequest) (finding.PathMTU, error) {
	f := wire.FamilyOf(r.Addr)
	r.Socket.DontFragment = true
	r.Socket.Room = mostPacket
	if r.Wait == 0 {
		r.Wait = time.Second
	}
	e, err := NewEngine(n, Options{Families: []wire.Family{f}, Socket: r.Socket, Mark: r.Mark})
	if err != nil {
		return finding.PathMTU{}, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &sizer{SizeRequest: r, engine: e, headers: headers4}
	if f == wire.IPv6 {
		s.headers = headers6
	}
	ended := make(chan error, 1)
	go func() { ended <- e.Run(ctx) }()
	err = s.search(ctx)
	cancel()
	if broke := <-ended; err == nil {
		err = broke
	}
	return s.found, err
}

// try sends probes of a size.
func (s *sizer) try(ctx context.Context, size, count int) ([]reading.Probe, error) {
	var probes []reading.Probe
	done := make(chan struct{})
	stop, err := s.engine.Add(Target{Addr: s.Addr, Interval: 20 * time.Millisecond, Count: count, Wait: s.Wait, Payload: size - s.headers,
		Settled: func(p reading.Probe) { probes = append(probes, p) }, Done: func() { close(done) }})
	if err != nil {
		return nil, err
	}
	select {
	case <-done:
		return probes, nil
	case <-ctx.Done():
		stop()
		return nil, fmt.Errorf("the search for the path MTU was stopped: %w", ctx.Err())
	}
}

// verdict of one size.
type verdict struct {
	fits, unsent bool
	told         int // what a router said fits
	by           string
}

func (s *sizer) judge(probes []reading.Probe) verdict {
	var v verdict
	for _, p := range probes {
		switch p.Outcome {
		case reading.Answered, reading.Late:
			v.fits = true
		case reading.Unsent:
			v.unsent = true
		case reading.Refused:
			if p.MTU > 0 {
				v.told, v.by = p.MTU, p.Cause
			}
		}
	}
	return v
}

// search closes in from both sides: fits is a size that arrived, fails one that
// did not.
func (s *sizer) search(ctx context.Context) error {
	fits, fails := s.headers+MinPayload, mostPacket+1
	if s.Link > 0 && s.Link < fails {
		fails = s.Link + 1
	}
	probes, err := s.try(ctx, fits, probesASize)
	if err != nil {
		return err
	}
	s.found.Sent += len(probes)
	if v := s.judge(probes); !v.fits {
		if probes, err = s.try(ctx, fits, moreToTell); err != nil {
			return err
		}
		s.found.Sent += len(probes)
		if v := s.judge(probes); !v.fits {
			return nil // it does not answer at all
		}
	}
	s.met(probes)
	next := min(1500, fails-1)
	silent := 0 // the least size that vanished with no word
	for fails-fits > 1 {
		if next <= fits || next >= fails {
			next = (fits + fails) / 2
		}
		size := next
		probes, err := s.try(ctx, size, probesASize)
		if err != nil {
			return err
		}
		s.found.Sent += len(probes)
		v := s.judge(probes)
		for asked := len(probes); !v.fits && !v.unsent && v.told == 0 && asked < s.enough(); asked += len(probes) {
			if probes, err = s.try(ctx, size, probesASize); err != nil {
				return err
			}
			s.found.Sent += len(probes)
			v = s.judge(probes)
		}
		if v.fits {
			s.met(probes)
		}
		if s.Tried != nil && !v.unsent {
			s.Tried(size, v.fits)
		}
		switch {
		case v.fits:
			fits = size
			next = fits + 1 // often the size was named, or is the link's own
			if s.found.Told != fits && fits != 1500 {
				next = fails - 1
			}
		case v.unsent:
			fails = size
			s.found.Link = size - 1
		case v.told > 0 && v.told < size:
			fails = size
			s.found.Told, s.found.By = v.told, v.by
			next = v.told
		default:
			fails, silent = size, size
		}
	}
	s.found.MTU = fits
	if s.Link > 0 {
		s.found.Link = s.Link
	} else if s.found.Link != 0 && s.found.Link != fits {
		// The last size that could not be sent was an upper limit; the search went
		// below it for another reason.
		if s.found.Link, err = s.link(ctx, fits); err != nil {
			return err
		}
	}
	if silent == fails && silent != 0 {
		return s.tell(ctx, fits, fails)
	}
	return nil
}

// met counts what became of probes of a size that fits.
func (s *sizer) met(probes []reading.Probe) {
	for _, p := range probes {
		s.small.Sent++
		if p.Outcome == reading.Lost {
			s.small.Lost++
		}
	}
}

// enough is how many probes of a size must vanish before the size is to blame: so many
// that, by what is lost of those that fit, it happens once in ten thousand times.
func (s *sizer) enough() int {
	const least, most = 0.05, 60
	ratio := min(0.9, max(least, s.small.Value().Or(0)))
	if s.small.Lost > 0 { // of a few probes little is known
		_, high, _ := s.small.Interval()
		ratio = min(0.9, (ratio+high)/2)
	}
	return min(most, int(math.Ceil(math.Log(1e-4)/math.Log(ratio))))
}

// link searches for the largest packet that this host's own link takes, by
// sizes that are refused here at once.
func (s *sizer) link(ctx context.Context, fits int) (int, error) {
	fails := s.found.Link + 1
	for fails-fits > 1 {
		size := (fits + fails) / 2
		probes, err := s.try(ctx, size, 1)
		if err != nil {
			return 0, err
		}
		if s.judge(probes).unsent {
			fails = size
		} else {
			fits = size
		}
	}
	return fits, nil
}

// tell asks whether a size that vanished with no word does so by its size, or by
// loss that small packets meet too.
func (s *sizer) tell(ctx context.Context, fits, fails int) error {
	small, err := s.try(ctx, fits, moreToTell)
	if err != nil {
		return err
	}
	large, err := s.try(ctx, fails, moreToTell)
	if err != nil {
		return err
	}
	s.found.Sent += len(small) + len(large)
	s.found.Vanished = probesASize + moreToTell
	for _, p := range large {
		if p.Outcome != reading.Lost {
			s.found.Vanished = 0
		}
	}
	for _, p := range small {
		if p.Outcome == reading.Answered {
			s.found.Arrived++
		}
	}
	return nil
}
