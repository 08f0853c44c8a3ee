// Package network is what probes are sent through: one small interface, with
// the kernel behind it (package kernel) or a simulated network (package
// world). The measuring code is the same over both.
package network

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"time"

	"woodlark.example/wire"
)

// ErrNotPermitted is wrapped when this host does not let us open a socket; the
// error that wraps it names the setting or the capability that is missing.
var ErrNotPermitted = errors.New("not permitted")

// ErrNoName is wrapped when a name has no address.
var ErrNoName = errors.New("name does not resolve")

// ErrBusy is wrapped when this host lets the process have no more sockets.
var ErrBusy = errors.New("too many at once")

// ErrNoSuch is wrapped when the interface or source address that was asked for
// is not to be had.
var ErrNoSuch = errors.New("cannot send so")

// ErrTooBig is wrapped when a message does not fit the link and may not be cut
// up.
var ErrTooBig = errors.New("too big")

// Kind is what a connection sends as probes.
type Kind int

const (
	// ICMP sends messages that are ICMP messages, echo requests mostly.
	ICMP Kind = iota
	// UDP sends messages as the payload of datagrams.
	UDP
	// TCP opens a connection for each message and gives it up again. The
	// message itself is not sent: it comes back with what became of the opening.
	TCP
	// Whole sends messages that are whole IP packets, so that every field of their
	// headers can be chosen. What comes are the transport messages of ICMP errors
	// and echo replies and, where asked for, of UDP and TCP: whose they are is for
	// the caller to tell.
	Whole
	// Ethernet sends messages in frames on a link, without IP: to and from stations of it (see
	// Station). It has no family.
	Ethernet
)

var kindNames = [...]string{"ICMP", "UDP", "TCP", "whole packets", "Ethernet frames"}

func (k Kind) String() string { return kindNames[k] }

// Network is a place in a network from which probes leave.
type Network interface {
	// Open opens a connection for probes of one kind and family. The error wraps
	// ErrNotPermitted where this host does not let us.
	Open(k Kind, f wire.Family, o SocketOptions) (Conn, error)
	// Lookup finds the addresses of a name, of one family or, when f is 0, of
	// both. It returns an error that wraps ErrNoName when there are none; what
	// it returns beside an error still says who was asked and for how long.
	Lookup(ctx context.Context, name string, f wire.Family) (Resolved, error)
	// LookupAt is the same by one resolver alone.
	LookupAt(ctx context.Context, resolver netip.Addr, name string, f wire.Family) (Resolved, error)
	// Reverse finds the name of an address, without its last dot; the error wraps
	// ErrNoName when it has none.
	Reverse(ctx context.Context, a netip.Addr) (string, error)
	// Resolvers are those that Lookup asks, in their order.
	Resolvers() []netip.Addr
	// Clock is the time that its packets travel in.
	Clock() Clock
}

// Resolved is what a name was resolved to.
type Resolved struct {
	Addrs    []netip.Addr
	Resolver string        // that answered; empty when no resolver was asked, as for a name in the hosts file
	Took     time.Duration // from the question to the last answer
}

// Hop is how a host would send to an address.
type Hop struct {
	Source    netip.Addr
	Interface string     // empty in a simulated network
	Gateway   netip.Addr // not valid when the address is on the own link
	MTU       int        // bytes; 0 when not known
}

// Neighbour is what a host knows of who shares a link with it.
type Neighbour struct {
	Known    bool // there is an entry
	Resolved bool // its hardware address is known
	State    string
	Hardware string
}

// Streams is a network that carries TCP, with the end's own stack.
type Streams interface {
	DialTCP(ctx context.Context, to netip.AddrPort, o StreamOptions) (net.Conn, error)
	ListenTCP(at netip.AddrPort) (net.Listener, error)
	// Tune sets what can be set of a connection that stands; what this stack does
	// not have is an error that names it.
	Tune(c net.Conn, o StreamOptions) error
	// Watch tells how a connection stands; false when this stack does not tell.
	Watch(c net.Conn) (StreamState, bool)
}

// StreamOptions are those of a TCP connection; the system's choice where zero.
type StreamOptions struct {
	Congestion string // the congestion control's name, as the system names it
	Window     int    // bytes that may be on the way, by the buffers of this end
	Source     netip.Addr
	DSCP       uint8
}

// StreamState is how a TCP connection stands (RFC 9293; of the times that it was
// held up, see tcp_info of Linux).
type StreamState struct {
	RTT         time.Duration // smoothed
	LeastRTT    time.Duration
	Sent        int64 // segments
	Retransmits int64 // segments, since the start
	Window      int64 // bytes that congestion control lets be on the way
	Segment     int   // bytes of payload in a full one
	Left        int64 // bytes of payload that left, each counted once however often it was sent
	Congestion  string
	// Of the time that there was something to send (Busy), how long the peer's
	// window or this end's buffer held it up.
	Busy, ByReceiver, ByBuffer time.Duration
}

// SocketOptions hold for all that leaves through a connection.
type SocketOptions struct {
	DSCP      uint8      // differentiated services code point, 0 to 63
	TTL       int        // TTL or hop limit; the system's when 0
	Source    netip.Addr // to send from; the system's choice when not valid
	Port      uint16     // of UDP, to send from and to be sent to; the system's choice when 0
	Interface string     // to send by; the system's choice when empty
	// Shared lets further connections of this process have the same Port, each for a
	// Peer of its own: that gets what the peer sends, the others the rest.
	Shared       bool
	Peer         netip.AddrPort
	DontFragment bool // refuse what does not fit instead of cutting it up
	// Bulk trades the exact time of each departure for speed: they are not
	// stamped one by one. For sweeps.
	Bulk bool
	// Frames is for frames of a test: what comes tells its DSCP, of a Bulk connection, too; much
	// may be on its way out; and what a queue of this host's own interface has no room for
	// counts as sent, as what another's has.
	Frames bool
	// Together lets datagrams of one size that are sent at once go through this host as one, where
	// it can cut them up as they leave: faster, and as close behind each other as may be.
	Together bool
	// Link says how frames on a link look, of an Ethernet connection. One without an Interface
	// hears all links, and sends nothing.
	Link *LinkOptions
	// Depth is how many frames have to have room while they wait, of an Ethernet connection;
	// enough when 0.
	Depth int
	// Untimed asks for no stamps at all: what comes has no time of the kernel's.
	Untimed bool
	Room    int // bytes that an answer may have; enough for 2,000 when 0
	// Extensions asks for what routers add to their errors (RFC 4884), of a UDP
	// connection: Packet.ICMP then holds it.
	Extensions bool
	// Hear is the protocol, UDP or TCP, whose messages to our ports from FirstPort
	// to LastPort a Whole connection also gives; none when 0.
	Hear                uint8
	FirstPort, LastPort uint16
}

// LinkOptions say how frames on a link look.
type LinkOptions struct {
	Tags    []wire.VLANTag
	Labels  []uint32 // of MPLS
	Channel uint16   // by which frames of different tests are told apart
}

// Event says what a Packet that Receive gave tells of.
type Event int

const (
	// Answer: Data is what came back: an ICMP message, the payload of a datagram,
	// or the message of an opening that was accepted.
	Answer Event = iota
	// Departure: Data is a message of ours, At is when it left this host.
	Departure
	// Refusal: Data is as much as is known of a message of ours that was refused;
	// Cause says why, To where it went.
	Refusal
)

// Packet is one event at a connection.
type Packet struct {
	Event Event
	Peer  netip.Addr // that it came from
	Port  uint16     // the same
	To    netip.AddrPort
	Data  []byte    // valid until the next Receive
	At    time.Time // by the kernel or the world; zero when it gave none
	Seen  time.Time // when user space saw it
	// Protocol of the message in Data, of a Whole connection.
	Protocol uint8
	// ICMP is the error that refused a datagram, as far as the kernel tells it,
	// without what it quotes; nil when it was none.
	ICMP *wire.ICMPError
	Took time.Duration // the round trip as the other stack's own clockwork timed it; 0 when it did not
	TTL  int           // of an answer; 0 when unknown
	DSCP DSCP          // that an answer came with
	// Priority is that of the outermost tag of a frame that came on a link; Tagged says that it
	// had one.
	Priority uint8
	Tagged   bool
	Cause    string // of a refusal
	MTU      int    // that a packet-too-big names, in bytes; 0 when it is none
	Shut     bool   // refused by the target's own port: the host is there
}

// DSCP is a differentiated services code point (RFC 2474), or none when it is not
// known.
type DSCP struct {
	Known bool
	Value uint8 // 0 to 63
}

// Outgoing is one message of SendAll.
type Outgoing struct {
	To      netip.AddrPort
	Message []byte
	Sent    time.Time // set by SendAll, the best guess
	// Within, set by SendAll, is how long the call took that sent it with others:
	// it left at some moment of that.
	Within time.Duration
}

// Limited is a connection that can give a message a TTL or hop limit of its own.
type Limited interface {
	Conn
	SendTTL(to netip.AddrPort, message []byte, ttl int) (time.Time, error)
}

// Classed is a connection that can give a message a DSCP of its own.
type Classed interface {
	Conn
	SendDSCP(to netip.AddrPort, message []byte, dscp uint8) (time.Time, error)
}

// Conn sends and receives probes. Send may be called from one goroutine and
// Receive from another.
type Conn interface {
	// Send sends one message and returns when it was handed over, on the clock
	// that also stamps Packet.Seen. ICMP has no port: it is not looked at.
	Send(to netip.AddrPort, message []byte) (time.Time, error)
	// SendAll sends messages as fast as it goes, sets when each left, and returns
	// how many did. The error is about the first that did not.
	SendAll(list []Outgoing) (int, error)
	// Receive blocks until something comes, or the connection is closed. A
	// departure comes before the answer to it.
	Receive(packets []Packet) (int, error)
	// Poll is Receive without waiting: 0 when there is nothing, or another
	// goroutine receives.
	Poll(packets []Packet) (int, error)
	// Exact reports whether the times it gives are those of a simulated
	// network, which knows them exactly.
	Exact() bool
	// FixedID reports whether the kernel sets the identifier of messages.
	FixedID() bool
	// Dropped is how many packets came but did not fit into the buffer.
	Dropped() int
	Close() error
}
