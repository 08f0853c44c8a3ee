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

// OrderReports makes messages of reports as if it were a time.
func (x *Notify) OrderReports(ctx context.Context, now time.Time) error {
	return x.orderReports(ctx, now)
}

// Due is when a report was due last, and what it is of.
func (o ReportOrder) Due(now time.Time, zone *time.Location) (due, from, to time.Time) {
	return o.due(now, zone)
}

// Quiet reports whether a rule says nothing at a time.
func (x *Notify) Quiet(r Rule, now time.Time) bool { return x.quiet(r, now) }
