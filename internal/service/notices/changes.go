package notices

import (
	"context"
	"encoding/json"

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
	who := Actor(ctx)
	detail, err := json.Marshal(struct {
		Before any `json:"before"`
		After  any `json:"after"`
	}{before, after})
	if err == nil {
		err = n.store.NoteChange(ctx, store.Change{Who: who, What: what, Name: name, Detail: string(detail)})
	}
	n.log.Info("changed", "what", what, "name", name, "who", who)
	if err != nil {
		n.log.Error("a change could not be noted", "what", what, "name", name, "who", who, "error", err)
	}
}
