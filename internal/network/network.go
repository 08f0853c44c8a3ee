// Package network is what probes are sent through: one small interface, with
// the kernel behind it (package kernel) or a simulated network (package
// world). The measuring code is the same over both.
package network

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"woodlark.example/wire"
)

// ErrNotPermitted is wrapped when this host does not let us open a socket; the
// error that wraps it names the setting or the capability that is missing.
var ErrNotPermitted = errors.New("not permitted")

// ErrNoName is wrapped when a name has no address.
var ErrNoName = errors.New("name does not resolve")

// Network is a place in a network from which probes leave.
type Network interface {
	// OpenICMP opens a connection for ICMP of one family.
	OpenICMP(f wire.Family, o SocketOptions) (Conn, error)
	// Lookup finds the addresses of a name, of one family or, when f is 0, of
	// both. It returns an error that wraps ErrNoName when there are none.
	Lookup(ctx context.Context, name string, f wire.Family) ([]netip.Addr, error)
}

// SocketOptions hold for all that leaves through a connection.
type SocketOptions struct {
	DSCP uint8 // differentiated services code point, 0 to 63
	TTL  int   // TTL or hop limit; the system's when 0
}

// Event says what a Packet that Receive gave tells of.
type Event int

const (
	// Answer: Data is an ICMP message that came in.
	Answer Event = iota
	// Departure: Data is a message of ours, At is when it left this host.
	Departure
	// Refusal: Data is a message of ours that was refused; Cause says why.
	Refusal
)

// Packet is one event at a connection.
type Packet struct {
	Event Event
	Peer  netip.Addr
	Data  []byte    // the ICMP message; valid until the next Receive
	At    time.Time // by the kernel or the world; zero when it gave none
	Seen  time.Time // when user space saw it
	TTL   int       // of an answer; 0 when unknown
	Cause string    // of a refusal
}

// Conn sends and receives ICMP messages. Send may be called from one goroutine
// and Receive from another.
type Conn interface {
	// Send sends one message and returns when it was handed over, on the clock
	// that also stamps Packet.Seen.
	Send(to netip.Addr, message []byte) (time.Time, error)
	// Receive blocks until something comes, or the connection is closed. A
	// departure comes before the answer to it.
	Receive(packets []Packet) (int, error)
	// Exact reports whether the times it gives are those of a simulated
	// network, which knows them exactly.
	Exact() bool
	// FixedID reports whether the kernel sets the identifier of messages.
	FixedID() bool
	Close() error
}
