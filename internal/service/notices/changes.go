package notices

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

type actorKey struct{}

// WithActor says who does what is done in a context.
func WithActor(ctx context.Context, who string) context.Context {
	return context.WithValue(ctx, actorKey{}, who)
}

// Actor is who does what is done in a context.
func Actor(ctx context.Context) string {
	if who, _ := ctx.Value(actorKey{}).(string); who != "" {
		return who
	}
	return "the service"
}

// Changed keeps a line of who changed what, with what it was before and is after; nil
// for nothing.
func (n *Notices) Changed(ctx context.Context, what, name string, before, after any) {
	c := store.Change{ID: ident.New(), At: time.Now().UTC(), Who: Actor(ctx), What: what, Name: name}
	detail, err := json.Marshal(struct {
		Before any `json:"before"`
		After  any `json:"after"`
	}{before, after})
	if err != nil {
		detail = []byte("{}") // who did what is kept all the same
	}
	c.Detail = string(detail)
	n.log.Info("changed", "what", what, "name", name, "who", c.Who)
	n.keep(ctx, "a change", func(ctx context.Context) error { return n.store.NoteChange(ctx, c) })
}

const (
	// keepTime is how long the database may take, whoever asked and went meanwhile.
	keepTime = 5 * time.Second
	// mostLate are lines that wait for the database at the most.
	mostLate = 10_000
)

// keep writes a line, or has it written later: what was done is done, and it is not to be lost that
// somebody did it.
func (n *Notices) keep(ctx context.Context, what string, write func(context.Context) error) {
	n.mu.Lock()
	waits := len(n.late) > 0
	n.mu.Unlock()
	if !waits { // else it comes after those
		err := n.try(ctx, write)
		if err == nil {
			return
		}
		n.log.Error(what+" could not be noted now; it is noted later", "error", err)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.late) >= mostLate {
		n.log.Error(what + " is lost: too many wait for the database")
		return
	}
	n.late = append(n.late, write)
}

func (n *Notices) try(ctx context.Context, write func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), keepTime)
	defer cancel()
	err := write(ctx)
	switch {
	case errors.Is(err, store.ErrTaken): // it was written, and the answer was lost
		return nil
	case errors.Is(err, store.ErrUnfit): // it never will be: those behind it are not to wait for it
		n.log.Error("a line is lost: the database does not take it", "error", err)
		return nil
	}
	return err
}

// KeepLate writes the lines that wait for the database, in their order, until one is not taken.
func (n *Notices) KeepLate(ctx context.Context) error {
	n.keeping.Lock()
	defer n.keeping.Unlock()
	for {
		n.mu.Lock()
		if len(n.late) == 0 {
			n.mu.Unlock()
			return nil
		}
		next := n.late[0]
		n.mu.Unlock()
		if err := n.try(ctx, next); err != nil {
			return err
		}
		n.mu.Lock()
		n.late = n.late[1:]
		n.mu.Unlock()
	}
}
