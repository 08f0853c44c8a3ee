package paced

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
)

// Duplex is one end of streams in both directions over one connection. Out or In is
// nil where nothing goes that way.
type Duplex struct {
	Receiver
	sender *Sender
	owned  sync.WaitGroup
	done   chan struct{} // the sender has sent all
	sent   Log
	err    error
	cancel context.CancelFunc

	seconds []Second
	counted int64 // when the seconds were last looked at
	bytes   int64
	out     int64
	at      time.Time
	begun   time.Time
	load    *host.Meter
}

// Second is what was counted in about a second.
type Second struct {
	Start, Length time.Duration
	Packets       int64 // that arrived
	Bytes         int64
	Sent          int64
	Load          host.Load
}

// NewDuplex prepares an end. It receives from now on; Start begins to send.
func NewDuplex(conn network.Conn, peer netip.AddrPort, clock network.Clock, wall Wall, out, in *Shape) *Duplex {
	d := &Duplex{Receiver: Receiver{Conn: conn, Clock: clock, Wall: wall}, done: make(chan struct{}), load: host.NewMeter()}
	if in != nil {
		d.In = *in
	}
	if out != nil {
		d.Out = *out
		d.sender = &Sender{Shape: *out, Conn: conn, To: peer, Clock: clock, Wall: wall}
		if out.Format == RTP {
			d.sender.Reports = d.reportsOf
		}
	}
	return d
}

// Listen begins to receive.
func (d *Duplex) Listen() { d.Clock.Go(&d.owned, d.Run) }

// Meet says to whom it sends, before Start, where that was not known from the beginning.
func (d *Duplex) Meet(peer netip.AddrPort) {
	if d.sender != nil {
		d.sender.To = peer
	}
}

// Start sends from a time on.
func (d *Duplex) Start(ctx context.Context, at time.Time) {
	d.begun, d.at = at, at
	d.load.Since()
	ctx, d.cancel = context.WithCancel(ctx)
	if d.sender == nil {
		close(d.done)
		return
	}
	d.Clock.Go(&d.owned, func() {
		defer close(d.done)
		d.sent, d.err = d.sender.Run(ctx, at)
	})
}

// Sending is closed when all is sent.
func (d *Duplex) Sending() <-chan struct{} { return d.done }

// SentSoFar is how many packets and bytes left.
func (d *Duplex) SentSoFar() (packets, bytes int64) {
	if d.sender == nil {
		return 0, 0
	}
	return d.sender.Sent()
}

// Departed is how it all left, after Close.
func (d *Duplex) Departed() Departed {
	if d.sender == nil {
		return Departed{}
	}
	return d.sender.Departed()
}

// Look notes what was counted since it was last called.
func (d *Duplex) Look() Second {
	now, t := d.Clock.Now(), d.Count()
	sent, _ := d.SentSoFar()
	s := Second{Start: d.at.Sub(d.begun), Length: now.Sub(d.at), Packets: t.Packets - d.counted, Bytes: t.Bytes - d.bytes, Sent: sent - d.out, Load: d.load.Since()}
	d.at, d.counted, d.bytes, d.out = now, t.Packets, t.Bytes, sent
	if s.Length > 10*time.Millisecond {
		d.seconds = append(d.seconds, s)
	}
	return s
}

// Seconds are those that Look noted.
func (d *Duplex) Seconds() []Second { return d.seconds }

// Close ends it and returns what it noted of what it sent, and of what arrived.
func (d *Duplex) Close() (out, in Log, err error) {
	if d.cancel != nil {
		d.cancel()
	}
	_ = d.Conn.Close()
	d.owned.Wait()
	out, in = d.Log(d.sent)
	return out, in, d.err
}
