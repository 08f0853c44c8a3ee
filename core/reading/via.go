package reading

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Kind is by what a target is asked for an answer.
type Kind int

const (
	// ByICMP is an echo request.
	ByICMP Kind = iota
	// ByTCP is the opening of a connection to a port.
	ByTCP
	// ByUDP is a datagram to a port: its echo answers, and so does "port
	// unreachable" from the target itself.
	ByUDP
	// ByStamp is a STAMP packet to a reflector (RFC 8762), whose own time is taken
	// out of the round trip.
	ByStamp
)

// Via is by what a target is asked, and at which port.
type Via struct {
	Kind Kind
	Port uint16 // of all but ICMP
}

// stampPort is where reflectors listen (RFC 8762 §4.1).
const stampPort = 862

// ErrVia is wrapped when a text names no kind of probe.
var ErrVia = errors.New("no kind of probe")

// ParseVia reads "icmp", "tcp:443", "udp:7", "stamp" or "stamp:862". Its error
// wraps ErrVia.
func ParseVia(text string) (Via, error) {
	name, port, hasPort := strings.Cut(strings.ToLower(strings.TrimSpace(text)), ":")
	v := Via{}
	switch name {
	case "icmp":
		if hasPort {
			return v, fmt.Errorf("%w: %q: ICMP has no ports", ErrVia, text)
		}
		return v, nil
	case "tcp":
		v.Kind = ByTCP
	case "udp":
		v.Kind = ByUDP
	case "stamp":
		v.Kind = ByStamp
		if !hasPort {
			v.Port = stampPort
			return v, nil
		}
	default:
		return v, fmt.Errorf("%w: %q is none of icmp, tcp:PORT, udp:PORT, stamp", ErrVia, text)
	}
	if !hasPort {
		return v, fmt.Errorf("%w: %q names no port, as in %s:443", ErrVia, text, name)
	}
	n, err := strconv.Atoi(port)
	if err != nil || n < 1 || n > 65535 {
		return v, fmt.Errorf("%w: port %q is not between 1 and 65535", ErrVia, port)
	}
	v.Port = uint16(n)
	return v, nil
}

// ParseVias reads several, with commas between them, each once.
func ParseVias(text string) ([]Via, error) {
	var list []Via
	for _, part := range strings.Split(text, ",") {
		v, err := ParseVia(part)
		if err != nil {
			return nil, err
		}
		for _, other := range list {
			if other == v {
				return nil, fmt.Errorf("%w: %q is named twice", ErrVia, part)
			}
		}
		list = append(list, v)
	}
	return list, nil
}

func (v Via) String() string {
	switch {
	case v.Kind == ByTCP:
		return fmt.Sprintf("tcp:%d", v.Port)
	case v.Kind == ByUDP:
		return fmt.Sprintf("udp:%d", v.Port)
	case v.Kind == ByStamp && v.Port != stampPort:
		return fmt.Sprintf("stamp:%d", v.Port)
	case v.Kind == ByStamp:
		return "stamp"
	}
	return "icmp"
}

// MarshalText writes it as String does.
func (v Via) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalJSON reads the text that ParseVia reads; its error wraps ErrVia. An earlier release
// wrote numbers, {"Kind":1,"Port":443}, of which those are taken that it knew.
func (v *Via) UnmarshalJSON(b []byte) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		read, err := ParseVia(text)
		if err == nil {
			*v = read
		}
		return err
	}
	var numbers struct {
		Kind Kind
		Port uint16
	}
	if err := json.Unmarshal(b, &numbers); err != nil || numbers.Kind < ByICMP || numbers.Kind > ByStamp {
		return fmt.Errorf("%w: %.40s", ErrVia, b)
	}
	*v = Via{numbers.Kind, numbers.Port}
	return nil
}
