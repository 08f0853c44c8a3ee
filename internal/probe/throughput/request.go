// Package throughput measures how much fits between two ends, each way.
//
//	report, err := throughput.Measure(ctx, near.Options{Network: n, To: far, Key: key}, throughput.Request{For: 10 * time.Second}, nil)
package throughput

import (
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

// Direction is which way, and in which order.
type Direction string

// The directions.
const (
	There Direction = "there" // from here to the far end
	Back  Direction = "back"
	Each  Direction = "each" // one after the other
	Both  Direction = "both" // at once
)

// Request is what to measure.
type Request struct {
	Target     string
	Protocol   capacity.Transport // TCP when empty
	Direction  Direction          // Each when empty
	Streams    int                // side by side; 1 when 0
	For        time.Duration      // of one direction; 10 s when 0
	Bytes      int64              // of TCP: end a stream after so many
	WarmUp     time.Duration      // left out of the rates; less than For
	Short      bool               // so short that the usual warm-up was not left out, which is to be said
	Congestion string
	Window     int
	DSCP       uint8
	// Of UDP: at which rate, or with Search the most to look for.
	Rate      capacity.Rate
	Size      int // bytes of payload
	Burst     int // packets that leave together
	Search    bool
	LossLimit float64 // that a rate of the search may have
	Repeats   int
	Yardstick bool
	Line      capacity.Rate // that the line is said to have; 0 when not known
	Explain   bool          // find out by datagrams what held TCP back
	Family    int
}

// The usual values.
const (
	DefaultFor    = 10 * time.Second
	DefaultWarmUp = 2 * time.Second
	DefaultSize   = 1400
	DefaultRate   = capacity.Rate(1e6)
	mostSearch    = capacity.Rate(10e9)
	tryFor        = time.Second
)

// complete fills in what was left out, and says what is wrong.
func (r *Request) complete() error {
	if r.Protocol == "" {
		r.Protocol = capacity.TCP
	}
	if r.Direction == "" {
		r.Direction = Each
	}
	if r.For == 0 {
		r.For = DefaultFor
	}
	r.Streams, r.Repeats = max(1, r.Streams), max(1, r.Repeats)
	if r.Size == 0 {
		r.Size = DefaultSize
	}
	if r.Rate == 0 && r.Protocol == capacity.UDP {
		r.Rate = DefaultRate
		if r.Search {
			r.Rate = mostSearch
		}
	}
	switch {
	case r.Protocol != capacity.TCP && r.Protocol != capacity.UDP:
		return fmt.Errorf("no protocol %q: tcp or udp", r.Protocol)
	case r.Direction != There && r.Direction != Back && r.Direction != Each && r.Direction != Both:
		return fmt.Errorf("no direction %q: there, back, each or both", r.Direction)
	case r.WarmUp < 0 || r.Bytes < 0 || r.Burst < 0:
		return errors.New("warm-up, bytes and burst are not below zero")
	case r.WarmUp >= r.For:
		return fmt.Errorf("a warm-up of %v leaves nothing of %v", r.WarmUp, r.For)
	case r.Repeats > 100:
		return fmt.Errorf("%d repeats: at most 100 are possible", r.Repeats)
	case r.Protocol == capacity.UDP && (r.Bytes > 0 || r.Congestion != "" || r.Window > 0):
		return errors.New("bytes, congestion and window are of TCP")
	case r.Protocol == capacity.TCP && (r.Rate > 0 || r.Search || r.Burst > 0):
		return errors.New("rate, search and burst are of UDP: TCP sends as fast as it goes")
	case r.LossLimit < 0 || r.LossLimit >= 1:
		return fmt.Errorf("a loss limit of %g is not a ratio from 0 to 1", r.LossLimit)
	}
	_, err := r.order(There, r.Rate, r.For)
	return err
}

// shape is a stream of datagrams at a rate of payload.
func (r Request) shape(rate capacity.Rate, d time.Duration, first uint32) *paced.Shape {
	apart := time.Duration(float64(r.Size) * 8 / float64(rate) * 1e9)
	return &paced.Shape{Format: paced.Stamp, Calls: r.Streams, Interval: apart * time.Duration(r.Streams), Sizes: []int{r.Size}, Burst: r.Burst, For: d, First: first, DSCP: r.DSCP, Bulk: true}
}

// order is that of one run.
func (r Request) order(d Direction, rate capacity.Rate, length time.Duration) (session.Order, error) {
	var o session.Order
	there, back := d == There || d == Both, d == Back || d == Both
	if r.Protocol == capacity.TCP {
		t := &session.TCPOrder{For: length, Bytes: r.Bytes, Congestion: r.Congestion, Window: r.Window, DSCP: r.DSCP}
		if there {
			t.There = r.Streams
		}
		if back {
			t.Back = r.Streams
		}
		o.TCP = t
		return o, o.Check()
	}
	if there {
		o.There = r.shape(rate, length, 1)
	}
	if back {
		o.Back = r.shape(rate, length, 1<<12)
	}
	return o, o.Check()
}

// Estimate is how long the whole takes, and how many bytes it sends at most; 0 when
// that is not known before, as for TCP.
func (r Request) Estimate() (time.Duration, int64, error) {
	if err := r.complete(); err != nil {
		return 0, 0, err
	}
	runs := r.Repeats
	if r.Direction == Each {
		runs *= 2
	}
	const around = 2 * time.Second
	each := r.For
	bytes := int64(0)
	if r.Protocol == capacity.UDP {
		bytes = int64(float64(r.Rate) / 8 * r.For.Seconds() * float64(runs))
		if r.Direction == Both {
			bytes *= 2
		}
		each += 2 * time.Second
	}
	if r.Search {
		each, bytes = 20*(tryFor+3*time.Second), 0
	}
	return time.Duration(runs) * (each + around), bytes, nil
}
