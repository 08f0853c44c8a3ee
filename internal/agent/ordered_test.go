package agent

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
)

// TestWhatTheServiceHadMadeIsNotMadeAgain: a service that is killed behind a measurement of a watch
// leaves an agent that would make it itself, a while behind the time at which it was due.
func TestWhatTheServiceHadMadeIsNotMadeAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "dues")
	d := openDues(file, slog.New(slog.DiscardHandler))
	a := &Agent{dues: d}
	due := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	o := protocol.RunOrder{Watch: ident.New(), Lanes: []protocol.RunLane{{Lane: kind.Lane{Target: "holm"}}}}
	other := o
	other.Lanes = []protocol.RunLane{{Lane: kind.Lane{Target: "gannetbay"}}}
	assert.False(t, a.wasOrdered(o, due))
	a.noteOrdered(o, due.Add(time.Second))
	a.noteOrdered(protocol.RunOrder{Lanes: o.Lanes}, due.Add(time.Hour)) // by hand
	for range 2 {
		assert.True(t, a.wasOrdered(o, due))
		assert.True(t, a.wasOrdered(o, due.Add(-5*time.Minute)))
		assert.False(t, a.wasOrdered(o, due.Add(5*time.Minute)), "the next is its own")
		assert.False(t, a.wasOrdered(other, due))
		d.close() // it is killed, and started again
		a.dues = openDues(file, slog.New(slog.DiscardHandler))
	}
}
