// Package channeltest holds a channel to its contract.
package channeltest

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// Receiver is the far end of a channel, for a test.
type Receiver interface {
	// Settings lead to it.
	Settings() string
	// Got are the identifiers of messages that it took.
	Got() []ident.ID
	// Die has it take nothing any more, and Hang has it not answer.
	Die()
	Hang()
}

// Conforms holds a type to the contract, with a new receiver for each part.
func Conforms(t *testing.T, x *channel.Type, receiver func(t *testing.T) Receiver) {
	t.Run("settings", func(t *testing.T) { settings(t, x, receiver(t)) })
	t.Run("what is taken arrives with its identifier, each time", func(t *testing.T) {
		r := receiver(t)
		c := open(t, x, r)
		m := message()
		require.NoError(t, c.Deliver(t.Context(), m))
		require.NoError(t, c.Deliver(t.Context(), m))
		assert.Equal(t, []ident.ID{m.ID, m.ID}, r.Got())
	})
	t.Run("a dead receiver is an error that may pass", func(t *testing.T) {
		r := receiver(t)
		c := open(t, x, r)
		r.Die()
		err := c.Deliver(t.Context(), message())
		require.Error(t, err)
		assert.NotErrorIs(t, err, channel.ErrRefused)
	})
	t.Run("one that hangs is let go of", func(t *testing.T) {
		r := receiver(t)
		c := open(t, x, r)
		r.Hang()
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		assert.ErrorIs(t, c.Deliver(ctx, message()), context.DeadlineExceeded)
		assert.Empty(t, r.Got())
	})
}

func message() channel.Message {
	return channel.Message{ID: ident.New(), At: time.Now(), What: "test", Subject: "test", Title: "A test of this channel", Text: "If you read this, it arrives.", Body: json.RawMessage(`{}`)}
}

func open(t *testing.T, x *channel.Type, r Receiver) channel.Channel {
	t.Helper()
	s, err := x.Decode([]byte(r.Settings()))
	require.NoError(t, err)
	c, err := x.Open(s)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	return c
}

// settings are strict, and written as they are read.
func settings(t *testing.T, x *channel.Type, r Receiver) {
	s, err := x.Decode([]byte(r.Settings()))
	require.NoError(t, err)
	written, err := x.Encode(s)
	require.NoError(t, err)
	again, err := x.Decode(written)
	require.NoError(t, err)
	assert.Equal(t, s, again)
	for _, f := range kind.FieldsOf(s) {
		assert.NotEmpty(t, f.Name)
		assert.NotEmpty(t, f.Help, f.Name)
	}
	_, err = x.Decode([]byte(`{"no_such_field": 1}`))
	assert.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorContains(t, err, "no_such_field")
	_, err = x.Decode([]byte(`[]`))
	assert.ErrorIs(t, err, kind.ErrInvalid)
	_, err = x.Decode(nil)
	assert.ErrorIs(t, err, kind.ErrInvalid, "nowhere is no receiver")
}
