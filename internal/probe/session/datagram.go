package session

import (
	"bytes"
	"crypto/hmac"
	"encoding/binary"
	"net/netip"
)

// Before datagrams flow, who asked for them proves that it gets what is sent to its
// address: it shows that it has the session's key, gets a cookie there, and shows
// that. All four datagrams are of one size, so nobody gets more than came.

// Step is which of the four a datagram is.
type Step byte

// The steps.
const (
	Begin Step = 1 + iota // near end: there is a session, and I have its key
	Prove                 // far end: tell me this cookie
	Proof                 // near end: this is the cookie
	Bound                 // far end: you are known now
	// Of how large datagrams may be, once both are known to each other. They have as many bytes
	// as they say.
	Sized // near end: tell me whether this comes
	Came  // far end: one of that size came
	Again // far end: and this is as large
)

// DatagramSize is the size of each, in bytes.
const DatagramSize = 64

const datagramMagic = "WDLU"

// Datagram is one of them.
type Datagram struct {
	Step    Step
	Session uint64
	Cookie  [16]byte
}

// Marshal writes it, sealed with the session's secret.
func (d Datagram) Marshal(secret []byte) []byte {
	b := make([]byte, 0, DatagramSize)
	b = append(b, datagramMagic...)
	b = append(b, byte(d.Step))
	b = append(b, 0, 0, 0)
	b = binary.BigEndian.AppendUint64(b, d.Session)
	b = append(b, d.Cookie[:]...)
	return append(b, sum(secret, []byte("datagram"), b)...)
}

// IsDatagram tells such a datagram from what a stream sends, and names its session.
func IsDatagram(b []byte) (session uint64, is bool) {
	if len(b) != DatagramSize || !bytes.HasPrefix(b, []byte(datagramMagic)) {
		return 0, false
	}
	return binary.BigEndian.Uint64(b[8:]), true
}

// ParseDatagram reads one; false when it was not sealed with the secret.
func ParseDatagram(b, secret []byte) (Datagram, bool) {
	if _, is := IsDatagram(b); !is {
		return Datagram{}, false
	}
	if !hmac.Equal(b[32:], sum(secret, []byte("datagram"), b[:32])) {
		return Datagram{}, false
	}
	d := Datagram{Step: Step(b[4]), Session: binary.BigEndian.Uint64(b[8:])}
	copy(d.Cookie[:], b[16:32])
	return d, true
}

// MarshalSized writes one that has as many bytes as it says: at least DatagramSize.
func MarshalSized(step Step, name uint64, size int, secret []byte) []byte {
	b := make([]byte, max(size, DatagramSize))
	copy(b, saying(step, name, size).Marshal(secret))
	return b
}

// MarshalCame writes the word that one of a size came.
func MarshalCame(name uint64, size int, secret []byte) []byte {
	return saying(Came, name, size).Marshal(secret)
}

func saying(step Step, name uint64, size int) Datagram {
	d := Datagram{Step: step, Session: name}
	binary.BigEndian.PutUint32(d.Cookie[:], uint32(size))
	return d
}

// ParseSized reads one of those three, and the size that it tells of; false when it is none, or
// has another size than it says.
func ParseSized(b, secret []byte) (d Datagram, size int, ok bool) {
	if len(b) < DatagramSize {
		return d, 0, false
	}
	if d, ok = ParseDatagram(b[:DatagramSize], secret); !ok {
		return d, 0, false
	}
	size = int(binary.BigEndian.Uint32(d.Cookie[:]))
	switch d.Step {
	case Came:
		return d, size, len(b) == DatagramSize
	case Sized, Again:
		return d, size, len(b) == max(size, DatagramSize)
	}
	return d, 0, false
}

// CookieFor is the cookie of an address, which only who has the secret can make.
func CookieFor(secret []byte, peer netip.AddrPort) (c [16]byte) {
	copy(c[:], sum(secret, []byte("cookie"), []byte(peer.String())))
	return c
}
