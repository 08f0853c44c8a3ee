package notify

import (
	"context"
	"time"
)

// Route makes messages as if it were a time.
func (x *Notify) Route(ctx context.Context, now time.Time) error { return x.route(ctx, now) }

// Release tells what was held back as if it were a time.
func (x *Notify) Release(ctx context.Context, now time.Time) error { return x.release(ctx, now) }

// Remind reminds as if it were a time.
func (x *Notify) Remind(ctx context.Context, now time.Time) error { return x.remind(ctx, now) }
