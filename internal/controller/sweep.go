package controller

import (
	"context"

	"woodlark.example/internal/protocol"
)

// Simulated is the kind of an agent that stands in a simulated network.
const Simulated = "simulated"

// compareSweeps notes how each sweep of an upload differs from the one before.
func (c *Controller) compareSweeps(ctx context.Context, u *protocol.Upload) error {
	for i := range u.Sweeps {
		x := &u.Sweeps[i]
		if x.Report == nil {
			continue
		}
		before, found, err := c.store.SweepBefore(ctx, u.Agent, x.Scope, x.Started)
		if err != nil {
			return err
		}
		if !found {
			continue
		}
		report, err := before.Report()
		if err != nil {
			c.log.Error("the sweep before cannot be read; nothing is compared", "error", err)
			continue
		}
		if report != nil {
			x.Report.CompareWith(*report)
		}
	}
	return nil
}
