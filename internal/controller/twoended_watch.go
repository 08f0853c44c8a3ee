package controller

import (
	"context"
	"errors"
	"fmt"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// runTwoEnded starts what the watches with two ends want, each at the multiples of its
// interval.
func (c *Controller) runTwoEnded(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := c.lastTwo(ctx)
	for {
		var now time.Time
		select {
		case now = <-tick.C:
		case <-ctx.Done():
			return
		}
		c.mu.RLock()
		var due []*Watch
		for _, w := range c.watches {
			if w.Paused || w.Spec.Kind != KindThroughput && w.Spec.Kind != KindStream {
				continue
			}
			at := now.Truncate(w.Spec.Every)
			before, known := last[w.ID]
			if !known { // the first run starts at once
				before = w.CreatedAt.Add(-w.Spec.Every)
				if now.Sub(w.CreatedAt) > time.Minute {
					before = at
				}
			}
			if at.After(before) || !known && now.Sub(w.CreatedAt) <= time.Minute {
				due = append(due, w)
			}
			last[w.ID] = at
		}
		c.mu.RUnlock()
		for _, w := range due {
			c.startTwo(ctx, w)
		}
	}
}

// lastTwo is for which of their times the watches with two ends were last carried out, by
// what is kept: one is not carried out again, and those that were due while this service
// was not running were missed.
func (c *Controller) lastTwo(ctx context.Context) map[ident.ID]time.Time {
	last := map[ident.ID]time.Time{}
	now := time.Now()
	for _, w := range c.Watches() {
		if w.Spec.Kind != KindThroughput && w.Spec.Kind != KindStream || w.Spec.Every <= 0 {
			continue
		}
		list, err := c.store.TwoEndedList(ctx, store.TwoEndedFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
		if err != nil || len(list) == 0 {
			continue
		}
		at := now.Truncate(w.Spec.Every)
		if begun := list[0].StartedAt.Truncate(w.Spec.Every); begun.Before(at) && !w.Paused {
			why := fmt.Errorf("the service was not running at %s", at.UTC().Format(time.RFC3339))
			if n := at.Sub(begun) / w.Spec.Every; n > 1 {
				why = fmt.Errorf("the service was not running, and %d were due, the last at %s", n, at.UTC().Format(time.RFC3339))
			}
			for _, from := range w.Spec.From {
				for _, to := range w.Spec.To {
					c.missedTwo(ctx, TwoEndedSpec{Kind: plan.TwoEndedKind(w.Spec.Kind), From: from, To: to, Watch: w.ID}, why)
				}
			}
		}
		last[w.ID] = at
	}
	return last
}

func (c *Controller) startTwo(ctx context.Context, w *Watch) {
	for _, from := range w.Spec.From {
		for _, to := range w.Spec.To {
			budget := w.Spec.DayBytes
			if budget == 0 && w.Spec.Kind == KindThroughput {
				budget = defaultBudget
			}
			s := TwoEndedSpec{Kind: plan.TwoEndedKind(w.Spec.Kind), From: from, To: to, Request: *w.Spec.Two, Watch: w.ID, Budget: budget}
			if _, err := c.TwoEnded(ctx, s); err != nil {
				c.log.Error("a measurement of a watch could not be started", "watch", w.Name, "error", err)
				c.missedTwo(ctx, s, err)
			}
		}
	}
}

// missedTwo keeps that one could not be started, with its reason.
func (c *Controller) missedTwo(ctx context.Context, s TwoEndedSpec, why error) {
	c.mu.RLock()
	near, err := c.agentNamed(s.From)
	c.mu.RUnlock()
	if err != nil {
		return
	}
	now := time.Now()
	row, err := store.TwoEndedOf(near.ID, plan.TwoEnded{ID: ident.New(), Watch: s.Watch, Target: s.To, Kind: s.Kind, Started: now, Ended: now, Outcome: plan.Missed, Reason: why.Error()})
	if err == nil {
		_ = c.store.SaveTwoEnded(ctx, row)
	}
}

// checkTwo says what is wrong with the spec of a watch with two ends.
func (s Spec) checkTwo() (errs []error) {
	if s.Every < leastLoading {
		errs = append(errs, fmt.Errorf("every %v is less than %v, and it is not continuous", s.Every, leastLoading))
	}
	if s.Two == nil {
		return append(errs, errors.New("it says nothing of what to send"))
	}
	whole := s.Two.For * time.Duration(max(1, s.Two.Repeats))
	if s.Two.For < 0 || s.Two.Repeats < 0 || whole > s.Every/2 {
		errs = append(errs, fmt.Errorf("for %v, %d times, is not between nothing and half of every %v", s.Two.For, max(1, s.Two.Repeats), s.Every))
	}
	if s.DayBytes < 0 {
		errs = append(errs, fmt.Errorf("%d bytes a day are below zero", s.DayBytes))
	}
	return errs
}
