package controller

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

// noteChange keeps a line of who changed what, with what it was before and is after; nil
// for nothing.
func (c *Controller) noteChange(ctx context.Context, what, name string, before, after any) {
	who, _ := ctx.Value(actorKey{}).(string)
	if who == "" {
		who = "the service"
	}
	detail, err := json.Marshal(struct {
		Before any `json:"before"`
		After  any `json:"after"`
	}{before, after})
	if err == nil {
		err = c.store.NoteChange(ctx, store.Change{Who: who, What: what, Name: name, Detail: string(detail)})
	}
	c.log.Info("changed", "what", what, "name", name, "who", who)
	if err != nil {
		c.log.Error("a change could not be noted", "what", what, "name", name, "who", who, "error", err)
	}
}
