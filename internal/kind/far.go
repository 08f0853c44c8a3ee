package kind

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// UsualPort is where a far end listens when nothing else is said.
const UsualPort = 7474

// SplitPort takes the port off a target; a bare IPv6 address has none.
func SplitPort(target string, usual uint16) (string, uint16, error) {
	if _, err := netip.ParseAddr(target); err == nil {
		return target, usual, nil
	}
	name, text, err := net.SplitHostPort(target)
	if err != nil {
		if strings.Contains(target, ":") {
			return "", 0, fmt.Errorf("%w: %q is not ADDRESS:PORT; an IPv6 address with a port stands in brackets", ErrInvalid, short(target))
		}
		return target, usual, nil
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil || port == 0 || name == "" {
		return "", 0, fmt.Errorf("%w: %q is not ADDRESS:PORT", ErrInvalid, short(target))
	}
	return name, uint16(port), nil
}

// CheckEnd says what is wrong with a far end: a name or an address, with a port or without.
func CheckEnd(target string) error {
	name, _, err := SplitPort(target, UsualPort)
	if err != nil {
		return err
	}
	return CheckTarget(name)
}

// Address is the address of a name, of one family or, when that is left open, the first by
// IPv4 if there is one.
func Address(ctx context.Context, n network.Network, name string, f wire.Family) (netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return a.Unmap(), nil
	}
	found, err := n.Lookup(ctx, name, f)
	if err != nil {
		return netip.Addr{}, err
	}
	for _, a := range found.Addrs {
		if f != 0 || a.Is4() {
			return a, nil
		}
	}
	return found.Addrs[0], nil
}

// Near makes ready to measure with the far end of a lane.
func (j *Job) Near(ctx context.Context, lane int, f Family, source Addr, usual uint16) (nearend.Options, error) {
	if _, ok := j.Network.(network.Streams); !ok {
		return nearend.Options{}, errors.New("this host has no streams to a far end")
	}
	target := j.Far.Address
	if target == "" {
		target = j.Lanes[lane].Target
	}
	name, port, err := SplitPort(target, usual)
	if err != nil {
		return nearend.Options{}, err
	}
	addr, err := Address(ctx, j.Network, name, f.One())
	if err != nil {
		return nearend.Options{}, err
	}
	return nearend.Options{Network: j.Network, To: netip.AddrPortFrom(addr, port), Key: j.Far.Key, KeyName: j.Far.KeyName, Wall: j.Wall, End: j.End, Source: source.Addr, Link: j.LinkTo}, nil
}

// TellEnds tells how far a measurement with two ends is; the step is which of its runs goes on.
func (j *Job) TellEnds(lane int, step string, p nearend.Progress) {
	j.Tell(Progress{Lane: lane, Done: min(p.Elapsed, p.Length).Milliseconds(), Of: p.Length.Milliseconds(), Says: step, More: p})
}

// Close says how a measurement with two ends ended: what broke off is failed and what was
// stopped cancelled, and what was measured until then is kept.
func (o *Outcome) Close(complete bool, problem string) {
	switch o.State = Done; {
	case problem == nearend.Stopped:
		o.State, o.Reason = Cancelled, problem
	case !complete:
		o.State, o.Reason = Failed, problem
	}
}

// Bytes is the More of a progress between two ends: what arrived so far.
type Bytes = nearend.Progress

// KeyFrom is the key of a far end by the words that both ends share.
func KeyFrom(words string) []byte { return session.KeyFrom(words) }
