package session

import (
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/host"
	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/paced"
)

// What is said on a control connection, in this order: the near end's Open, the far
// end's Opened or Refused, the near end's Go, a Tick of each end now and then, the near
// end's Finish, the far end's Log in as many parts as it takes, and its Done.
const (
	Open    Kind = "open"
	Opened  Kind = "opened"
	Refused Kind = "refused"
	Go      Kind = "go"
	Tick    Kind = "tick"
	Finish  Kind = "finish"
	LogSent Kind = "log-sent" // a part of what the far end noted of its own packets
	LogCame Kind = "log-came" // of what arrived there
	Done    Kind = "done"
)

// Finished goes with Finish.
type Finished struct {
	// Cut says that the near end was stopped: nothing more is worth waiting for.
	Cut bool `json:"cut,omitempty"`
}

// Order is what the near end asks for.
type Order struct {
	There *paced.Shape `json:"there,omitempty"` // datagrams that the near end sends
	Back  *paced.Shape `json:"back,omitempty"`  // that the far end sends
	TCP   *TCPOrder    `json:"tcp,omitempty"`
	// Yardstick asks what the far end reaches within itself, and for nothing else.
	Yardstick *YardstickOrder `json:"yardstick,omitempty"`
}

// YardstickOrder is how a machine measures itself.
type YardstickOrder struct {
	Streams int           `json:"streams"`
	For     time.Duration `json:"for"`
}

// TCPOrder is a bandwidth test by TCP.
type TCPOrder struct {
	There      int           `json:"there"` // connections that the near end sends on
	Back       int           `json:"back"`  // that the far end sends on
	For        time.Duration `json:"for"`
	Bytes      int64         `json:"bytes"` // that each connection sends at most; no limit when 0
	Congestion string        `json:"congestion"`
	Window     int           `json:"window"`
	DSCP       uint8         `json:"dscp"`
}

// MostStreams is how many TCP connections a test may have each way.
const MostStreams = 128

// Check says what is wrong with an order.
func (o Order) Check() error {
	for _, s := range []*paced.Shape{o.There, o.Back} {
		if s == nil {
			continue
		}
		if err := s.Check(); err != nil {
			return err
		}
	}
	if y := o.Yardstick; y != nil && (y.Streams < 1 || y.Streams > MostStreams || y.For <= 0 || y.For > 10*time.Second) {
		return fmt.Errorf("a machine measures itself with 1 to %d streams for up to 10s", MostStreams)
	}
	if t := o.TCP; t != nil {
		switch {
		case t.There < 0 || t.Back < 0 || t.There > MostStreams || t.Back > MostStreams || t.There+t.Back == 0:
			return fmt.Errorf("%d and %d TCP streams: 1 to %d each way are possible", t.There, t.Back, MostStreams)
		case t.For <= 0 || t.For > 24*time.Hour:
			return fmt.Errorf("a transfer of %v: more than nothing and at most 24h are possible", t.For)
		case t.Bytes < 0 || t.Window < 0:
			return errors.New("bytes and window cannot be negative")
		}
	}
	return nil
}

// Length is how long the order takes.
func (o Order) Length() time.Duration {
	var d time.Duration
	if o.There != nil {
		d = max(d, o.There.For)
	}
	if o.Back != nil {
		d = max(d, o.Back.For)
	}
	if o.TCP != nil {
		d = max(d, o.TCP.For)
	}
	if o.Yardstick != nil {
		d = max(d, o.Yardstick.For)
	}
	return d
}

// Rate is the most bits of payload a second that the order sends one way; 0 when that
// is not known before, as for TCP.
func (o Order) Rate() float64 {
	most := 0.0
	for _, s := range []*paced.Shape{o.There, o.Back} {
		if s != nil {
			most = max(most, s.Rate())
		}
	}
	return most
}

// End is what an end says of itself.
type End struct {
	Name    string     `json:"name"`
	Version string     `json:"version"`
	System  string     `json:"system"`
	Boot    string     `json:"boot"` // ends with the same share a clock, unless an offset is
	Offset  string     `json:"offset,omitempty"`
	Clock   host.Clock `json:"clock"`
}

// Here is what an end on this machine says of itself.
func Here(name, version string) End {
	return End{Name: name, Version: version, System: host.Kernel(), Boot: host.Boot(), Clock: host.ReadClock()}
}

// Accepted is the far end's answer to an order.
type Accepted struct {
	Session uint64 `json:"session"`
	End     End    `json:"end"`
}

// Refusal is why the far end does not carry out an order.
type Refusal struct {
	Reason string `json:"reason"`
}

// Progress is what the far end did and saw so far.
type Progress struct {
	Elapsed float64   `json:"elapsed_seconds"`
	Packets int64     `json:"packets"` // datagrams that arrived, each once
	Bytes   int64     `json:"bytes"`
	Sent    int64     `json:"sent"` // datagrams that it sent
	Moved   int64     `json:"moved"`
	CPU     host.Load `json:"cpu"`
}

// Result is what the far end saw in all.
type Result struct {
	Sent      int64    `json:"sent"` // datagrams of the way back
	SentBytes int64    `json:"sent_bytes"`
	Late      int      `json:"late_sent"`         // of those, see paced.Log
	Counted   *Counted `json:"counted,omitempty"` // datagrams of the way there, when they were only counted
	// Transfers of TCP: there it received, back it sent.
	There   *bulk.Report `json:"tcp_there,omitempty"`
	Back    *bulk.Report `json:"tcp_back,omitempty"`
	Seconds []Second     `json:"seconds"`
	Inside  *float64     `json:"inside_bps,omitempty"` // within itself
	Dropped int          `json:"dropped"`              // datagrams that its own buffer had no room for
	Reports int          `json:"reports"`              // of RTCP that came
	Problem string       `json:"problem,omitempty"`
	End     End          `json:"end"`
}

// Counted is what was counted of a stream of datagrams.
type Counted struct {
	Packets    int64    `json:"packets"`
	Bytes      int64    `json:"bytes"`
	Duplicates int64    `json:"duplicates"`
	Reordered  int64    `json:"reordered"`
	Seconds    float64  `json:"seconds"` // from the first to the last
	JitterMs   *float64 `json:"jitter_ms"`
	WaitedMs   *float64 `json:"waited_ms"` // how much longer than the fastest they took, in the mean
}

// Second is what an end counted in about a second.
type Second struct {
	Start   float64   `json:"start_seconds"`
	Seconds float64   `json:"seconds"`
	Packets int64     `json:"packets"` // that arrived
	Bytes   int64     `json:"bytes"`
	Sent    int64     `json:"sent"`
	CPU     host.Load `json:"cpu"`
}

// CountedOf is what an end counted of the stream that came.
func CountedOf(d *paced.Duplex) *Counted {
	t := d.Count()
	return &Counted{Packets: t.Packets, Bytes: t.Bytes, Duplicates: t.Duplicates, Reordered: t.Reordered, Seconds: t.Last.Sub(t.First).Seconds(),
		JitterMs: figure.Ms(t.Jitter()), WaitedMs: figure.Ms(t.Waited())}
}
