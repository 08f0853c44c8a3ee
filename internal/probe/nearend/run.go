package nearend

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/oneway"
	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

// Progress is how far a run is.
type Progress struct {
	Elapsed time.Duration `json:"elapsed_ns"`
	Length  time.Duration `json:"length_ns"`
	There   int64         `json:"there_bytes"` // so far, at their receivers
	Back    int64         `json:"back_bytes"`
	Lost    int64         `json:"lost"` // datagrams of the way there that the far end has not seen, by its last word
}

// Outcome is what both ends noted.
type Outcome struct {
	Order     session.Order
	Near, Far session.End
	Started   time.Time
	Took      time.Duration
	// Complete says that it went to its end: else what was measured until then is here,
	// and Problem says why it ended.
	Complete bool
	// Told says that the far end told all that it noted, be it of a part only.
	Told    bool
	Problem string

	SentThere, CameThere paced.Log // of datagrams: what left here, what arrived there
	SentBack, CameBack   paced.Log
	LeftThere            int64 // datagrams that left
	LeftBytes            int64
	LeftBack             int64
	CountedThere         *session.Counted
	CountedBack          *session.Counted
	FarSeconds           []session.Second
	NearSeconds          []paced.Second
	Dropped              int // datagrams that a buffer of this host had no room for
	FarDropped           int
	Reports              int // of RTCP that came, at both ends
	TCPThere, TCPBack    Transfer
	Rest, Load           []time.Duration // round trips
	NoUDP                string          // why there are none
	// Of frames of a test: what arrived each way, how they left, and how the far end's clock
	// stands to this one's by the shortest round trip.
	MeteredThere, MeteredBack   *acceptance.Metered
	DepartedThere, DepartedBack *paced.Departed
	Unreturned                  int
	Offset                      *Offset
	// Last is the far end's last word of how far it was, for when it broke off.
	Last session.Progress
}

// Offset is how far the far end's clock is ahead of this one's, by one round trip, of which each
// way took half: so it is wrong by that at most.
type Offset struct{ Ahead, RTT time.Duration }

// Transfer is a direction of TCP by both ends.
type Transfer struct {
	Sent, Received *bulk.Report
}

const (
	// settle is how long the last packets are waited for.
	settle = 2 * time.Second
	// silence is how long the far end, which speaks each second, may say nothing.
	silence = 6 * time.Second
	// stillEvery is how often this end shows that it is there.
	stillEvery = 2 * time.Second
	// collecting is how long it may take to tell what it noted.
	collecting = 60 * time.Second
	// parting is the same when it was stopped: somebody waits for it to end.
	parting = 5 * time.Second
)

// Stopped is the problem of a run that was stopped before its end.
const Stopped = "stopped before its end"

// Run carries it out, and hears the far end in the meantime. The error is for what kept
// it from measuring anything; what broke off is in the outcome.
func (r *Run) Run(ctx context.Context, heard func(Progress)) (Outcome, error) {
	clock := r.o.Network.Clock()
	out := Outcome{Order: r.order, Near: r.o.End, Far: r.far}
	r.echoes.wall = r.o.Wall
	var beside sync.WaitGroup
	// When it is stopped the far end is still heard, for what it noted.
	hearing, deaf := context.WithCancel(context.WithoutCancel(ctx))
	echoing, quiet := context.WithCancel(hearing)
	defer beside.Wait()
	defer r.Close()
	defer deaf()
	defer quiet()
	clock.Go(&beside, func() { r.echo(echoing) })
	if r.noUDP == nil {
		clock.Until(ctx, clock.Now().Add(r.o.Rest), nil)
	} else {
		out.NoUDP = r.noUDP.Error()
	}
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	r.echoes.mu.Lock()
	r.echoes.busy = true
	r.echoes.mu.Unlock()
	if err := r.channel.Send(session.Go, struct{}{}, nil); err != nil {
		return out, err
	}
	out.Started = clock.Now()
	w := r.work(ctx, out.Started)
	words := make(chan session.Message, 16)
	failed := make(chan error, 1)
	beside.Go(func() { r.hear(hearing, words, failed) })
	beside.Go(func() { r.still(hearing) })
	err := w.wait(ctx, words, failed, heard)
	r.echoes.mu.Lock()
	out.Rest, out.Load, out.Offset = slices.Clone(r.echoes.rest), slices.Clone(r.echoes.load), r.echoes.offset
	r.echoes.mu.Unlock()
	quiet()
	out.Took = clock.Now().Sub(out.Started)
	cut := ctx.Err() != nil
	switch {
	case cut:
		last, end := context.WithTimeout(context.WithoutCancel(ctx), parting)
		err = r.collect(last, &out, words, failed, true)
		end()
	case err == nil:
		err = r.collect(ctx, &out, words, failed, false)
	}
	out.Told = err == nil
	w.stop(&out)
	if cut {
		out.Problem = Stopped
		if w.nothing(out) {
			return out, fmt.Errorf("%s: %w", Stopped, ctx.Err())
		}
		return out, nil
	}
	if err != nil {
		out.Problem = err.Error()
		if w.nothing(out) {
			return out, err
		}
		return out, nil
	}
	out.Complete = out.Problem == ""
	return out, nil
}

// still shows the far end that this one is there: over a way that is cut nobody hangs up.
func (r *Run) still(ctx context.Context) {
	tick := time.NewTicker(stillEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if r.channel.Send(session.Tick, struct{}{}, nil) != nil {
				return // who hears the far end will notice
			}
		case <-ctx.Done():
			return
		}
	}
}

// hear takes what the far end says.
func (r *Run) hear(ctx context.Context, words chan<- session.Message, failed chan<- error) {
	for {
		m, err := r.channel.Receive(silence)
		if err != nil {
			failed <- err
			return
		}
		select {
		case words <- m:
		case <-ctx.Done():
			return
		}
		if m.Kind == session.Done || m.Kind == session.Refused {
			return
		}
	}
}

// work is what the near end does of the order.
type work struct {
	r      *Run
	begun  time.Time
	cancel context.CancelFunc
	there  *bulk.Transfer
	back   *bulk.Transfer
	moving sync.WaitGroup
	moved  chan struct{}
	mu     sync.Mutex
	sent   *bulk.Report
	came   *bulk.Report
	last   session.Progress
}

func (r *Run) work(ctx context.Context, at time.Time) *work {
	w := &work{r: r, begun: at, moved: make(chan struct{})}
	ctx, w.cancel = context.WithCancel(ctx)
	if r.duplex != nil {
		r.duplex.Start(ctx, at.Add(20*time.Millisecond))
	}
	if t := r.order.TCP; t != nil {
		ctx, end := context.WithTimeout(ctx, t.For+settle+silence)
		w.moving.Go(func() { <-ctx.Done(); end() })
		var both sync.WaitGroup
		if t.There > 0 {
			w.there = &bulk.Transfer{Conns: r.there, Streams: r.streams, Sends: true, For: t.For, Bytes: t.Bytes}
			both.Go(func() { x := w.there.Run(ctx); w.mu.Lock(); w.sent = &x; w.mu.Unlock() })
		}
		if t.Back > 0 {
			w.back = &bulk.Transfer{Conns: r.back, Streams: r.streams, For: t.For}
			both.Go(func() { x := w.back.Run(ctx); w.mu.Lock(); w.came = &x; w.mu.Unlock() })
		}
		w.moving.Go(func() { both.Wait(); close(w.moved); end() })
	} else {
		close(w.moved)
	}
	return w
}

// wait lasts until all is sent and what is on its way has had time to arrive.
func (w *work) wait(ctx context.Context, words <-chan session.Message, failed <-chan error, heard func(Progress)) error {
	length := w.r.order.Length()
	clock := w.r.o.Network.Clock()
	var sending <-chan struct{}
	if w.r.duplex != nil {
		sending = w.r.duplex.Sending()
	}
	moved := w.moved
	end := time.NewTimer(time.Hour * 1000)
	defer end.Stop()
	settling := false
	for {
		// The far end's packets take as long as ours; it began a moment later.
		if !settling && sending == nil && moved == nil {
			settling = true
			left := w.begun.Add(length).Sub(clock.Now())
			if w.r.order.There != nil || w.r.order.Back != nil {
				left = max(0, left) + w.r.o.Settle
			} else {
				left = 0
			}
			end.Reset(left)
		}
		select {
		case <-sending:
			sending = nil
		case <-moved:
			moved = nil
		case <-end.C:
			return nil
		case m := <-words:
			if m.Kind == session.Refused {
				return expect(m, session.Tick, nil)
			}
			w.tell(m, heard)
		case err := <-failed:
			return err
		case <-ctx.Done():
			return fmt.Errorf("%s: %w", Stopped, ctx.Err())
		}
	}
}

// tell passes on how far it is.
func (w *work) tell(m session.Message, heard func(Progress)) {
	if w.r.duplex != nil {
		w.r.duplex.Look()
	}
	var far session.Progress
	if m.Kind != session.Tick || m.Read(&far) != nil {
		return
	}
	w.last = far
	if heard == nil {
		return
	}
	p := Progress{Elapsed: w.r.o.Network.Clock().Now().Sub(w.begun), Length: w.r.order.Length(), There: far.Bytes + far.Moved}
	if d := w.r.duplex; d != nil {
		p.Back = d.Count().Bytes
		sent, _ := d.SentSoFar()
		if w.r.order.There != nil {
			p.Lost = max(0, sent-far.Packets)
		}
	}
	if w.back != nil {
		p.Back += w.back.Moved()
	}
	heard(p)
}

// collect asks the far end for what it noted.
func (r *Run) collect(ctx context.Context, out *Outcome, words <-chan session.Message, failed <-chan error, cut bool) error {
	if err := r.channel.Send(session.Finish, session.Finished{Cut: cut}, nil); err != nil {
		return err
	}
	deadline := time.After(collecting)
	for {
		var m session.Message
		select {
		case m = <-words:
		case err := <-failed:
			select { // its last words may have come before
			case m = <-words:
				failed = nil
			default:
				return err
			}
		case <-deadline:
			return fmt.Errorf("%w: it did not tell all that it noted within %v", session.ErrGone, collecting)
		case <-ctx.Done():
			return ctx.Err()
		}
		switch m.Kind {
		case session.LogSent, session.LogCame:
			log, shape := &out.SentBack, r.order.Back
			if m.Kind == session.LogCame {
				log, shape = &out.CameThere, r.order.There
			}
			if shape == nil {
				continue
			}
			if err := log.Unpack(m.Blob, *shape); err != nil {
				return err
			}
		case session.Done:
			var x session.Result
			if err := m.Read(&x); err != nil {
				return err
			}
			out.SentBack.Late = x.Late
			out.Far, out.FarSeconds, out.CountedThere, out.LeftBack = x.End, x.Seconds, x.Counted, x.Sent
			out.MeteredThere, out.DepartedBack, out.Unreturned = x.Metered, x.Departed, x.Unreturned
			out.TCPThere.Received, out.TCPBack.Sent, out.FarDropped, out.Reports = x.There, x.Back, x.Dropped, x.Reports
			if x.Problem != "" {
				out.Problem = "the far end: " + x.Problem
			}
			return nil
		}
	}
}

// stop ends this end's part and takes its notes.
func (w *work) stop(out *Outcome) {
	w.cancel()
	w.moving.Wait()
	w.mu.Lock()
	out.TCPThere.Sent, out.TCPBack.Received = w.sent, w.came
	w.mu.Unlock()
	out.Last = w.last
	d := w.r.duplex
	if d == nil {
		return
	}
	d.Look()
	out.NearSeconds = d.Seconds()
	out.LeftThere, out.LeftBytes = d.SentSoFar()
	out.Dropped = d.Conn.Dropped()
	out.Reports += d.Reports()
	if s := w.r.order.Back; s != nil && s.Bulk && s.Format != paced.Test {
		out.CountedBack = session.CountedOf(d)
	}
	sent, came, err := d.Close()
	out.SentThere, out.CameBack = sent, came
	if s := w.r.order.There; s != nil && s.Format == paced.Test {
		left := d.Departed()
		out.DepartedThere = &left
	}
	out.MeteredBack = d.Metered()
	if err != nil && out.Problem == "" {
		out.Problem = err.Error()
	}
}

// nothing reports that there is nothing to show for it.
func (w *work) nothing(o Outcome) bool {
	return o.LeftThere == 0 && len(o.CameBack.Arrivals) == 0 && o.MeteredBack == nil && (o.TCPThere.Sent == nil || o.TCPThere.Sent.Bytes == 0) && (o.TCPBack.Received == nil || o.TCPBack.Received.Bytes == 0)
}

// MedianOf is the median of round trips.
func MedianOf(list []time.Duration) figure.Duration {
	if len(list) == 0 {
		return figure.Duration{}
	}
	sorted := slices.Clone(list)
	slices.Sort(sorted)
	return figure.Of(delay.Quantile(sorted, 0.5))
}

// StreamsOf joins what both ends noted of a call, each way; a way that was not asked for
// is empty.
func (o Outcome) StreamsOf(call int) (there, back oneway.Stream) {
	if s := o.Order.There; s != nil {
		there = paced.Stream(*s, o.SentThere, o.CameThere, call)
	}
	if s := o.Order.Back; s != nil {
		back = paced.Stream(*s, o.SentBack, o.CameBack, call)
	}
	return there, back
}
