package respond

import (
	"context"
	"fmt"
	"sync"
	"time"

	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

// work is what the far end does of an order.
type work struct {
	s      *served
	begun  time.Time
	there  *bulk.Transfer
	back   *bulk.Transfer
	moving sync.WaitGroup
	mu     sync.Mutex
	result session.Result
}

// start begins: datagrams only to an address that has proved itself.
func (s *served) start(ctx context.Context) (*work, error) {
	w := &work{s: s, begun: s.r.o.Network.Clock().Now()}
	if t := s.order.TCP; t != nil {
		deadline := time.After(joinPatience)
		for n := 0; n < t.There+t.Back; n++ {
			select {
			case <-s.joined:
			case <-deadline:
				return nil, fmt.Errorf("only %d of %d TCP connections came through", n, t.There+t.Back)
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		w.move(ctx, t)
	}
	if y := s.order.Yardstick; y != nil {
		if rate, err := bulk.Loopback(ctx, y.Streams, y.For); err == nil {
			w.result.Inside = &rate
		}
	}
	if s.order.WayBack {
		w.wayBack(ctx)
	}
	s.mu.Lock()
	d := s.duplex
	s.mu.Unlock()
	if d == nil {
		if s.order.Back != nil || s.order.There != nil {
			if s.order.Link != nil {
				return nil, fmt.Errorf("no frame of the near end came in on any link")
			}
			return nil, fmt.Errorf("no datagram came through from the near end: UDP to port %d may be filtered", s.r.o.Listen.Port())
		}
		return w, nil
	}
	select {
	case <-s.proved:
	default:
		if s.order.Back != nil {
			return nil, fmt.Errorf("the near end did not prove its address by UDP")
		}
	}
	d.Start(ctx, w.begun.Add(startAfter))
	return w, nil
}

// startAfter lets both ends be ready before the first packet.
const startAfter = 20 * time.Millisecond

func (w *work) move(ctx context.Context, t *session.TCPOrder) {
	if t.There > 0 {
		w.there = &bulk.Transfer{Conns: w.s.there, Streams: w.s.r.streams, For: t.For}
		w.moving.Go(func() {
			r := w.there.Run(ctx)
			w.mu.Lock()
			w.result.There = &r
			w.mu.Unlock()
		})
	}
	if t.Back > 0 {
		w.back = &bulk.Transfer{Conns: w.s.back, Streams: w.s.r.streams, Sends: true, For: t.For, Bytes: t.Bytes}
		w.moving.Go(func() {
			r := w.back.Run(ctx)
			w.mu.Lock()
			w.result.Back = &r
			w.mu.Unlock()
		})
	}
}

// wayBack looks for the hops to the near end's own address, and to no other.
func (w *work) wayBack(ctx context.Context) {
	w.moving.Go(func() {
		ctx, cancel := context.WithTimeout(ctx, session.MostWayBack)
		defer cancel()
		hops, err := w.s.r.o.Trace(ctx, w.s.near)
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.result.Hops = hops; err != nil {
			w.result.Problem = err.Error()
		}
	})
}

// drained is closed when all TCP connections have ended.
func (w *work) drained() <-chan struct{} {
	over := make(chan struct{})
	go func() { // ends with the transfers, which the session waits for
		w.moving.Wait()
		close(over)
	}()
	return over
}

// look is how far it is.
func (w *work) look() session.Progress {
	p := session.Progress{Elapsed: w.s.r.o.Network.Clock().Now().Sub(w.begun).Seconds()}
	if d := w.s.duplex; d != nil {
		now := d.Look()
		t := d.Count()
		p.Packets, p.Bytes, p.CPU = t.Packets, t.Bytes, now.Load
		p.Sent, _ = d.SentSoFar()
	}
	if w.there != nil {
		p.Moved += w.there.Moved()
	}
	return p
}

// tell says all that was noted.
func (w *work) tell(c *session.Channel) error {
	w.moving.Wait()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.result.End = w.s.r.o.End()
	if d := w.s.duplex; d != nil {
		d.Look()
		for _, x := range d.Seconds() {
			w.result.Seconds = append(w.result.Seconds, session.Second{Start: x.Start.Seconds(), Seconds: x.Length.Seconds(), Packets: x.Packets, Bytes: x.Bytes, Sent: x.Sent, CPU: x.Load})
		}
		w.result.Sent, w.result.SentBytes = d.SentSoFar()
		w.result.Dropped, w.result.Reports = d.Conn.Dropped(), d.Reports()
		if o := w.s.order.There; o != nil && o.Bulk && o.Format != paced.Test {
			w.result.Counted = session.CountedOf(d)
		}
		out, in, err := d.Close()
		w.result.Metered, w.result.Unreturned = d.Metered(), d.Unreturned()
		if o := w.s.order.Back; o != nil && o.Format == paced.Test {
			left := d.Departed()
			w.result.Departed = &left
		}
		if err != nil {
			w.result.Problem = err.Error()
		}
		w.result.Late = out.Late
		for _, x := range []struct {
			kind session.Kind
			log  paced.Log
		}{{session.LogSent, paced.Log{Sent: out.Sent}}, {session.LogCame, paced.Log{Arrivals: in.Arrivals}}} {
			for _, part := range x.log.Pack(partSize) {
				if err := c.Send(x.kind, nil, part); err != nil {
					return err
				}
			}
		}
	}
	return c.Send(session.Done, w.result, nil)
}
