package session

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// Role is what a connection is for.
type Role string

// The roles.
const (
	Control Role = "control"
	Data    Role = "data" // carries bytes of a bandwidth test
)

// Hello is how an end introduces itself.
type Hello struct {
	Key     string `json:"key"` // which key it has: empty for the shared one, else a ticket's or a session's name
	Role    Role   `json:"role"`
	Version string `json:"version"`
	Name    string `json:"name"`
	// Of a data connection: which it is of its session's, and whether the one who
	// opened it sends.
	Stream int  `json:"stream"`
	There  bool `json:"there"`
}

// ErrKey is wrapped when the other end does not have the same key.
var ErrKey = errors.New("the keys differ")

// ErrNotOurs is wrapped when the other end speaks something else.
var ErrNotOurs = errors.New("not a Woodlark responder")

const (
	magic     = "WDLK\x01"
	nonceSize = 32
	sumSize   = 32
	mostHello = 1024
	// handshakeTime is how long an end that has not proved itself is listened to.
	handshakeTime = 5 * time.Second
	accepted      = 1
	refusedKey    = 2
	refusedBusy   = 3
)

// KeyFrom makes the key of what a user typed.
func KeyFrom(text string) []byte {
	sum := sha256.Sum256([]byte("woodlark shared key\x00" + text))
	return sum[:]
}

func sum(key []byte, parts ...[]byte) []byte {
	m := hmac.New(sha256.New, key)
	for _, p := range parts {
		var size [4]byte
		binary.BigEndian.PutUint32(size[:], uint32(len(p)))
		m.Write(size[:])
		m.Write(p)
	}
	return m.Sum(nil)
}

// Ask introduces this end to the one that listens, and checks that it has the key too.
func Ask(c net.Conn, key []byte, h Hello) (*Channel, error) {
	_ = c.SetDeadline(time.Now().Add(handshakeTime))
	challenge := make([]byte, len(magic)+nonceSize)
	if _, err := io.ReadFull(c, challenge); err != nil || string(challenge[:len(magic)]) != magic {
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) || err != nil && bytes.HasPrefix([]byte(magic), bytes.TrimRight(challenge, "\x00")) {
			return nil, fmt.Errorf("%s says nothing, or hangs up: it may be busy, or no Woodlark responder; try again: %w", c.RemoteAddr(), err)
		}
		return nil, fmt.Errorf("%w: what listens at %s does not begin as one does", ErrNotOurs, c.RemoteAddr())
	}
	theirs := challenge[len(magic):]
	ours := make([]byte, nonceSize)
	_, _ = rand.Read(ours)
	hello, err := json.Marshal(h)
	if err != nil {
		return nil, fmt.Errorf("introduce this end: %w", err)
	}
	b := append([]byte(magic), ours...)
	b = binary.BigEndian.AppendUint16(b, uint16(len(hello)))
	b = append(b, hello...)
	b = append(b, sum(key, []byte("ask"), theirs, ours, hello)...)
	if _, err := c.Write(b); err != nil {
		return nil, fmt.Errorf("introduce this end to %s: %w", c.RemoteAddr(), err)
	}
	answer := make([]byte, 1+sumSize)
	if _, err := io.ReadFull(c, answer); err != nil {
		return nil, fmt.Errorf("%s hung up during the introduction: %w", c.RemoteAddr(), err)
	}
	switch answer[0] {
	case accepted:
	case refusedBusy:
		return nil, fmt.Errorf("%s is busy, or has as many sessions as it takes: try again later", c.RemoteAddr())
	default:
		return nil, fmt.Errorf("%w: %s does not accept this key; both ends need the same -key", ErrKey, c.RemoteAddr())
	}
	if !hmac.Equal(answer[1:], sum(key, []byte("answer"), theirs, ours, hello)) {
		return nil, fmt.Errorf("%w: %s does not have this key itself", ErrKey, c.RemoteAddr())
	}
	return newChannel(c, sum(key, []byte("session"), theirs, ours), true), nil
}

// Busy is returned by find to turn an end away that has the key.
var errBusy = errors.New("busy")

// Busy turns away an end that has the key, for want of room.
func Busy() error { return errBusy }

// TurnAway says to who was challenged and has not answered that this end is busy.
func TurnAway(c net.Conn) {
	_ = c.SetDeadline(time.Now().Add(time.Second))
	answer := make([]byte, 1+sumSize)
	answer[0] = refusedBusy
	_, _ = c.Write(answer)
}

// Answer challenges who opened a connection. find gives the key that a hello names; an
// error turns it away, as a wrong key does. Nothing but the challenge, of a fixed size,
// is sent to who does not prove that it has the key.
func Answer(c net.Conn, find func(Hello) ([]byte, error)) (*Channel, Hello, error) {
	var h Hello
	_ = c.SetDeadline(time.Now().Add(handshakeTime))
	ours := make([]byte, nonceSize)
	_, _ = rand.Read(ours)
	if _, err := c.Write(append([]byte(magic), ours...)); err != nil {
		return nil, h, fmt.Errorf("challenge %s: %w", c.RemoteAddr(), err)
	}
	head := make([]byte, len(magic)+nonceSize+2)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, h, fmt.Errorf("%s did not introduce itself: %w", c.RemoteAddr(), err)
	}
	size := int(binary.BigEndian.Uint16(head[len(magic)+nonceSize:]))
	if string(head[:len(magic)]) != magic || size > mostHello {
		return nil, h, fmt.Errorf("%w: %s speaks something else", ErrNotOurs, c.RemoteAddr())
	}
	theirs := head[len(magic) : len(magic)+nonceSize]
	rest := make([]byte, size+sumSize)
	if _, err := io.ReadFull(c, rest); err != nil {
		return nil, h, fmt.Errorf("%s did not finish its introduction: %w", c.RemoteAddr(), err)
	}
	hello := rest[:size]
	if err := json.Unmarshal(hello, &h); err != nil {
		return nil, h, fmt.Errorf("%w: %s introduces itself in another way", ErrNotOurs, c.RemoteAddr())
	}
	key, err := find(h)
	proved := err == nil && hmac.Equal(rest[size:], sum(key, []byte("ask"), ours, theirs, hello))
	if errors.Is(err, errBusy) || !proved {
		answer := make([]byte, 1+sumSize)
		answer[0] = refusedKey
		if errors.Is(err, errBusy) {
			answer[0] = refusedBusy
		}
		_, _ = c.Write(answer)
		return nil, h, fmt.Errorf("%w: %s was turned away", ErrKey, c.RemoteAddr())
	}
	if _, err := c.Write(append([]byte{accepted}, sum(key, []byte("answer"), ours, theirs, hello)...)); err != nil {
		return nil, h, fmt.Errorf("accept %s: %w", c.RemoteAddr(), err)
	}
	return newChannel(c, sum(key, []byte("session"), ours, theirs), false), h, nil
}
