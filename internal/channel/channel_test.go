package channel_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/channel/channeltest"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// A slip is a channel that exists only here: it puts slips into boxes of this test.
type slip struct {
	Box  string    `json:"box" help:"the name of the box"`
	Wait kind.Span `json:"wait" help:"how long a slip is held"`
}

func (s *slip) Check() error {
	if s.Box == "" {
		return fmt.Errorf("%w: a slip needs a box", kind.ErrInvalid)
	}
	return nil
}

var slips = channel.Register(&channel.Type{Name: "slip", Summary: "a slip in a box",
	New:  func() channel.Settings { return &slip{} },
	Open: func(s channel.Settings) (channel.Channel, error) { return &posted{s.(*slip)}, nil }})

type posted struct{ *slip }

func (p *posted) Close() error { return nil }

func (p *posted) Deliver(ctx context.Context, m channel.Message) error {
	b, ok := boxes.Load(p.Box)
	if !ok {
		return fmt.Errorf("box %s: %w", p.Box, errors.New("is not there"))
	}
	return b.(*box).take(ctx, m)
}

var boxes sync.Map

type box struct {
	name string
	mu   sync.Mutex
	got  []ident.ID
	hang chan struct{} // nothing is taken until it is closed; nil when all is
}

func (b *box) take(ctx context.Context, m channel.Message) error {
	if b.hang != nil {
		select {
		case <-b.hang:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.got = append(b.got, m.ID)
	return nil
}

func (b *box) Settings() string { return `{"box": "` + b.name + `", "wait": "5s"}` }
func (b *box) Got() []ident.ID  { return b.got }
func (b *box) Die()             { boxes.Delete(b.name) }
func (b *box) Hang()            { b.hang = make(chan struct{}) }

func TestAChannelConforms(t *testing.T) {
	channeltest.Conforms(t, slips, func(t *testing.T) channeltest.Receiver {
		b := &box{name: ident.New().String()}
		boxes.Store(b.name, b)
		t.Cleanup(b.Die)
		return b
	})
}

func TestTheRegister(t *testing.T) {
	assert.Equal(t, []string{"slip"}, channel.Names())
	x, err := channel.Find("slip")
	require.NoError(t, err)
	assert.Same(t, slips, x)
	_, err = channel.Find("pigeon")
	require.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorContains(t, err, `"pigeon"`)
	assert.ErrorContains(t, err, "slip")
	assert.Panics(t, func() { channel.Register(slips) })
}
