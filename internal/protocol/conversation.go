package protocol

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/ident"
)

// Follow has an agent tell whom programs of its machine talk to.
type Follow struct {
	Watch ident.ID `json:"watch"`
	// Words are program:NAME and ports:LOW-HIGH; a conversation fits one of them.
	Words []string `json:"words"`
}

// Conversation is a program that talks to a far end, by one socket or several. Or it is why those
// of a watch are not told of.
type Conversation struct {
	ID       ident.ID       `json:"id"`
	Watch    ident.ID       `json:"watch"`
	Program  string         `json:"program"`
	Protocol string         `json:"protocol"` // tcp, udp
	Server   netip.AddrPort `json:"server"`
	Began    time.Time      `json:"began_at"`
	Seen     time.Time      `json:"seen_at"`           // when it still went on
	Ended    time.Time      `json:"ended_at,omitzero"` // zero while it goes on
	Reason   string         `json:"reason,omitempty"`
}

const (
	byProgram = "program:"
	byPorts   = "ports:"
)

// IsTalk reports whether a word means those that a program talks to.
func IsTalk(word string) bool {
	return strings.HasPrefix(word, byProgram) || strings.HasPrefix(word, byPorts)
}

// Talk is such a word, read: a program, or a range of far ports.
type Talk struct {
	Program   string
	Low, High uint16
}

// ParseTalk reads program:NAME, ports:PORT and ports:LOW-HIGH.
func ParseTalk(word string) (t Talk, err error) {
	if name, is := strings.CutPrefix(word, byProgram); is {
		if name == "" || len(name) > 64 || strings.ContainsAny(name, "/ \t\n") {
			return t, fmt.Errorf("%q: program: is followed by the name of a command, such as program:softphone", word)
		}
		return Talk{Program: name}, nil
	}
	low, high, ranged := strings.Cut(strings.TrimPrefix(word, byPorts), "-")
	if !ranged {
		high = low
	}
	a, errLow := strconv.ParseUint(low, 10, 16)
	b, errHigh := strconv.ParseUint(high, 10, 16)
	if errLow != nil || errHigh != nil || a == 0 || b < a {
		return t, fmt.Errorf("%q: ports: is followed by a port or a range of them, such as ports:5004-5100", word)
	}
	return Talk{Low: uint16(a), High: uint16(b)}, nil
}

// mostCommand is how much of a command's name the kernel keeps.
const mostCommand = 15

// Fits reports whether a program that talks to a port is meant.
func (t Talk) Fits(program string, port uint16) bool {
	if t.Program == "" {
		return port >= t.Low && port <= t.High
	}
	return program == t.Program[:min(len(t.Program), mostCommand)]
}
