package ingest

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

const (
	// UsualWithin is from how long back the usual route is known.
	UsualWithin    = 14 * 24 * time.Hour
	usualSightings = 3
)

// compareTraces lays each trace of an upload beside the usual route of its lane.
func (n *Ingest) compareTraces(ctx context.Context, u *protocol.Upload) error {
	for i := range u.Traces {
		x := &u.Traces[i]
		if x.Report == nil {
			continue
		}
		x.Report.Own(n.Owners())
		if x.Outcome != protocol.Done {
			continue
		}
		lane := store.LaneOf(u.Agent, x.Target, x.Family, x.Via)
		usual, found, err := n.Store.UsualRoute(ctx, lane, x.Started.Add(-UsualWithin), usualSightings)
		if err != nil {
			return err
		}
		if !found {
			continue
		}
		before, err := usual.Report()
		if err != nil {
			n.Log.Error("the usual route cannot be read; nothing is compared", "error", err)
			continue
		}
		if before != nil {
			x.Report.CompareWith(*before, "the usual route")
		}
	}
	return nil
}

// CompareTraces lays a trace beside another: an earlier one by its identifier, the
// last before it, or the usual route.
func (n *Ingest) CompareTraces(ctx context.Context, t store.Trace, r *finding.TraceReport, with string) error {
	var other store.Trace
	var found bool
	var err error
	what := "the last trace"
	switch with {
	case "last":
		other, found, err = n.Store.TraceBefore(ctx, t.Lane, t.StartedAt)
	case "baseline":
		what = "the usual route"
		other, found, err = n.Store.UsualRoute(ctx, t.Lane, t.StartedAt.Add(-UsualWithin), usualSightings)
	default:
		var id ident.ID
		if id, err = ident.Parse(with); err != nil {
			return fmt.Errorf("%w: compare %q is neither last, baseline nor a trace's identifier", kind.ErrInvalid, kind.Shorten(with))
		}
		what = "an earlier trace"
		other, err = n.Store.Trace(ctx, id)
		found = err == nil
	}
	if err != nil {
		return err
	}
	if !found {
		return fmt.Errorf("%w: there is no %s of %s by %s to compare with", store.ErrNotFound, map[string]string{"last": "earlier trace", "baseline": "usual route yet"}[with], t.Target, t.Via)
	}
	before, err := other.Report()
	if err != nil || before == nil {
		return err
	}
	r.CompareWith(*before, what)
	return nil
}

// compareSweeps notes how each sweep of an upload differs from the one before.
func (n *Ingest) compareSweeps(ctx context.Context, u *protocol.Upload) error {
	for i := range u.Sweeps {
		x := &u.Sweeps[i]
		if x.Report == nil {
			continue
		}
		before, found, err := n.Store.SweepBefore(ctx, u.Agent, x.Scope, x.Started)
		if err != nil {
			return err
		}
		if !found {
			continue
		}
		report, err := before.Report()
		if err != nil {
			n.Log.Error("the sweep before cannot be read; nothing is compared", "error", err)
			continue
		}
		if report != nil {
			x.Report.CompareWith(*report)
		}
	}
	return nil
}
