package session

import (
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/figure"
	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/wire"
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
	// Returned says that the far end sends each frame back that comes; nothing else goes back.
	Returned bool `json:"returned,omitempty"`
	// Largest is how large datagrams are, by their payload, of which the near end asks whether they
	// come through, before it begins; 0 when it does not ask.
	Largest int `json:"largest,omitempty"`
	// Link has datagrams go in frames on a link that both ends share, without IP.
	Link *LinkOrder `json:"link,omitempty"`
	// Yardstick asks what the far end reaches within itself, and for nothing else.
	Yardstick *YardstickOrder `json:"yardstick,omitempty"`
	// WayBack asks for the route from the far end to the near one, and for nothing else.
	WayBack bool `json:"way_back,omitempty"`
}

// MostWayBack is how long a far end looks for the way back at most.
const MostWayBack = 20 * time.Second

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

// LinkOrder is how frames on a link look, both ways. By which interface the far end sends follows
// from where the near end's first frame comes in.
type LinkOrder struct {
	Tags   []wire.VLANTag `json:"tags,omitempty"`
	Labels []uint32       `json:"labels,omitempty"`
}

// Options say how frames of a session look: by a part of its name they are told from those of
// others.
func (l LinkOrder) Options(name uint64) *network.LinkOptions {
	return &network.LinkOptions{Tags: l.Tags, Labels: l.Labels, Channel: uint16(name)}
}

// check says what is wrong with it.
func (l LinkOrder) check(o Order) error {
	if len(l.Tags) > 2 || len(l.Labels) > 4 {
		return fmt.Errorf("%d tags and %d labels: 2 and 4 at most are possible", len(l.Tags), len(l.Labels))
	}
	for _, t := range l.Tags {
		if t.ID > 4094 || t.Priority > 7 || t.Type != 0 && t.Type != wire.TypeVLAN && t.Type != wire.TypeServiceVLAN {
			return fmt.Errorf("there is no tag of type %#x with VLAN %d and priority %d", t.Type, t.ID, t.Priority)
		}
	}
	for _, n := range l.Labels {
		if n >= 1<<20 {
			return fmt.Errorf("there is no label %d", n)
		}
	}
	for _, s := range []*paced.Shape{o.There, o.Back} {
		if s != nil && s.Format != paced.Test {
			return errors.New("only frames of a test go on a link without IP")
		}
	}
	if !o.Tests() || o.TCP != nil {
		return errors.New("only frames of a test go on a link without IP")
	}
	return nil
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
	if o.Returned && (o.There == nil || o.There.Format != paced.Test || o.Back != nil || o.TCP != nil) {
		return errors.New("only frames of a test are returned, and nothing else goes back then")
	}
	if o.Largest < 0 || o.Largest > paced.MostSize || o.Largest > 0 && !o.Tests() {
		return fmt.Errorf("whether datagrams of %d bytes come through is asked of frames of a test, and of %d bytes at most", o.Largest, paced.MostSize)
	}
	if o.Link != nil {
		if err := o.Link.check(o); err != nil {
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

// Tests reports whether it sends frames of an acceptance test.
func (o Order) Tests() bool {
	return o.There != nil && o.There.Format == paced.Test || o.Back != nil && o.Back.Format == paced.Test
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
	if o.WayBack {
		d = max(d, MostWayBack)
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
	// Is says what it is: an agent, or a responder without a service.
	Is string `json:"is,omitempty"`
	// Link is the one by which it sends to the other end, as far as it is known.
	Link host.Link `json:"link,omitzero"`
}

// Here is what an end on this machine says of itself.
func Here(name, version string) End {
	return End{Name: name, Version: version, System: host.Kernel(), Boot: host.Boot(), Clock: host.ReadClock()}
}

// Link is one of a host's links.
type Link = host.Link

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
	// Of frames of a test: what arrived of the way there, and how those of the way back left.
	Metered    *acceptance.Metered `json:"metered,omitempty"`
	Departed   *paced.Departed     `json:"departed,omitempty"`
	Unreturned int                 `json:"unreturned,omitempty"` // that it could not send back
	// Hops are those of the way back, by address and name; ? where nobody answered.
	Hops []string `json:"hops,omitempty"`
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
