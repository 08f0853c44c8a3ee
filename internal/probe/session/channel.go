package session

import (
	"crypto/hmac"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Kind is what a message is.
type Kind string

// Message is one message. Blob is what would be clumsy as JSON.
type Message struct {
	Kind Kind
	Body json.RawMessage
	Blob []byte
}

// Read reads the body.
func (m Message) Read(into any) error {
	if err := json.Unmarshal(m.Body, into); err != nil {
		return fmt.Errorf("read the far end's %q: %w", m.Kind, err)
	}
	return nil
}

// mostMessage is how large a message may be, in bytes.
const mostMessage = 8 << 20

// Channel carries sealed messages over a connection. Send may be called from several
// goroutines, Receive from one.
type Channel struct {
	c      net.Conn
	secret []byte

	sending          sync.Mutex
	sealKey, openKey []byte
	sent, received   uint64
}

func newChannel(c net.Conn, secret []byte, asked bool) *Channel {
	_ = c.SetDeadline(time.Time{})
	x := &Channel{c: c, secret: secret, sealKey: sum(secret, []byte("from asker")), openKey: sum(secret, []byte("from answerer"))}
	if !asked {
		x.sealKey, x.openKey = x.openKey, x.sealKey
	}
	return x
}

// Secret is a key that only the two ends of this channel know.
func (c *Channel) Secret() []byte { return c.secret }

// Conn is the connection beneath. After data was read from it the channel is of no use.
func (c *Channel) Conn() net.Conn { return c.c }

// Close hangs up.
func (c *Channel) Close() error { return c.c.Close() }

func seal(key []byte, number uint64, frame []byte) []byte {
	return sum(key, binary.BigEndian.AppendUint64(nil, number), frame)
}

const sendTime = 20 * time.Second

// Send sends a message.
func (c *Channel) Send(kind Kind, body any, blob []byte) error {
	text, err := json.Marshal(struct {
		Kind Kind `json:"kind"`
		Body any  `json:"body"`
	}{kind, body})
	if err != nil {
		return fmt.Errorf("write %q: %w", kind, err)
	}
	if 4+len(text)+len(blob) > mostMessage {
		return fmt.Errorf("write %q: %d bytes are more than a message may have", kind, len(text)+len(blob))
	}
	frame := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(text)+len(blob)), uint32(len(text)))
	frame = append(append(frame, text...), blob...)
	c.sending.Lock()
	defer c.sending.Unlock()
	whole := binary.BigEndian.AppendUint32(nil, uint32(len(frame)))
	whole = append(whole, frame...)
	whole = append(whole, seal(c.sealKey, c.sent, frame)...)
	c.sent++
	_ = c.c.SetWriteDeadline(time.Now().Add(sendTime))
	if _, err := c.c.Write(whole); err != nil {
		return fmt.Errorf("%w: %q could not be sent to it: %w", ErrGone, kind, err)
	}
	return nil
}

// ErrGone is wrapped when the other end hung up or went silent.
var ErrGone = errors.New("the far end is gone")

// Receive waits for a message, for as long as patience says.
func (c *Channel) Receive(patience time.Duration) (Message, error) {
	_ = c.c.SetReadDeadline(time.Now().Add(patience))
	var head [4]byte
	if _, err := io.ReadFull(c.c, head[:]); err != nil {
		return Message{}, gone(err, patience)
	}
	n := int(binary.BigEndian.Uint32(head[:]))
	if n < 4 || n > mostMessage {
		return Message{}, fmt.Errorf("%w: it sent a message of %d bytes", ErrNotOurs, n)
	}
	_ = c.c.SetReadDeadline(time.Now().Add(sendTime))
	whole := make([]byte, n+sumSize)
	if _, err := io.ReadFull(c.c, whole); err != nil {
		return Message{}, gone(err, sendTime)
	}
	frame := whole[:n]
	if !hmac.Equal(whole[n:], seal(c.openKey, c.received, frame)) {
		return Message{}, fmt.Errorf("%w: a message was changed on the way", ErrKey)
	}
	c.received++
	size := int(binary.BigEndian.Uint32(frame))
	if size > n-4 {
		return Message{}, fmt.Errorf("%w: a message is cut off", ErrNotOurs)
	}
	var text struct {
		Kind Kind            `json:"kind"`
		Body json.RawMessage `json:"body"`
	}
	if err := json.Unmarshal(frame[4:4+size], &text); err != nil {
		return Message{}, fmt.Errorf("%w: %w", ErrNotOurs, err)
	}
	return Message{text.Kind, text.Body, frame[4+size:]}, nil
}

func gone(err error, patience time.Duration) error {
	var n net.Error
	switch {
	case errors.As(err, &n) && n.Timeout():
		return fmt.Errorf("%w: nothing was heard from it for %v", ErrGone, patience)
	case errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed):
		return fmt.Errorf("%w: it hung up", ErrGone)
	}
	return fmt.Errorf("%w: %w", ErrGone, err)
}
