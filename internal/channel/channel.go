// Package channel is the contract of a channel: a way by which people hear of a fault outside
// the service. A channel is a folder: its settings, how a message is handed over, and nothing
// of it elsewhere; everything else goes through the register. channeltest holds each to the
// contract.
//
//	t, err := channel.Find("webhook")
//	settings, err := t.Decode(data)
//	c, err := t.Open(settings)
//	err = c.Deliver(ctx, message)
package channel

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// Settings are where and how messages are handed over: a struct of fields with the tags of
// kind.FieldsOf. Check says what cannot be; its error wraps kind.ErrInvalid.
type Settings interface{ Check() error }

// Public are settings of channels that somebody outside may be reached by: OnlyPublic forbids
// private, loopback and link-local addresses.
type Public interface{ OnlyPublic() }

// Type is a way of handing messages over.
type Type struct {
	Name    string
	Summary string // in half a line
	// Pictures and Files are whether messages may have them.
	Pictures, Files bool
	// New are the usual settings. Where one says something, being empty says nothing.
	New func() Settings
	// Open makes a channel of settings that were checked. It does not wait for the receiver.
	Open func(Settings) (Channel, error)
}

// Channel hands messages over. It is safe for concurrent use.
type Channel interface {
	// Deliver returns nil once the receiver has taken the message, and an error that names the
	// receiver otherwise: one that wraps ErrRefused when the same would be refused again. It
	// ends when ctx does.
	Deliver(ctx context.Context, m Message) error
	// Close lets go of what is held.
	Close() error
}

// ErrRefused is wrapped when a receiver does not take a message and would not take it again.
var ErrRefused = errors.New("refused")

// Message is what is told.
type Message struct {
	// ID is the same at each try, so that a receiver knows a repeat.
	ID ident.ID
	At time.Time
	// What is opened, worse, eased, closed, reminder, summary or test.
	What string
	// Subject is the episode or incident that it is about, and Order grows within it.
	Subject string
	Order   int
	Title   string // a line
	Text    string
	Body    json.RawMessage // the same for machines
	// Picture is a PNG of it, where there is one, and Files what is handed over with it: by the
	// channels that can.
	Picture []byte
	Files   []File
}

// File is handed over with a message.
type File struct {
	Name, Type string
	Data       []byte
}

var types = map[string]*Type{}

// Register makes a type known; one of a name that is taken is a mistake in the program.
func Register(t *Type) *Type {
	if types[t.Name] != nil {
		panic("channel " + t.Name + " is registered twice")
	}
	types[t.Name] = t
	return t
}

// Names are those of all types.
func Names() []string { return slices.Sorted(maps.Keys(types)) }

// Find is the type of a name; the error names those that there are.
func Find(name string) (*Type, error) {
	if t := types[name]; t != nil {
		return t, nil
	}
	return nil, fmt.Errorf("%w: %w channel %q: there are %s", kind.ErrInvalid, kind.ErrUnknown, kind.Shorten(name), strings.Join(Names(), ", "))
}

// Decode reads settings from an object of JSON, strictly, and checks them.
func (t *Type) Decode(data []byte) (Settings, error) {
	given := map[string]json.RawMessage{}
	if len(bytes.TrimSpace(data)) > 0 {
		if err := json.Unmarshal(data, &given); err != nil {
			return nil, fmt.Errorf("%w: the settings of a channel by %s are an object of JSON", kind.ErrInvalid, t.Name)
		}
	}
	s := t.New()
	if err := kind.Fill("a channel by "+t.Name, s, given); err != nil {
		return nil, err
	}
	return s, s.Check()
}

// Encode writes settings so that Decode reads the same.
func (t *Type) Encode(s Settings) ([]byte, error) {
	list, err := kind.Written(s)
	if err != nil {
		return nil, err
	}
	return json.Marshal(list)
}
