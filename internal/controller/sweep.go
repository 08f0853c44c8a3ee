package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// Simulated is the kind of an agent that stands in a simulated network.
const Simulated = "simulated"

// KindSweep is the kind of a watch that sweeps; its targets are prefixes.
const KindSweep = "sweep"

const (
	leastSweeping  = time.Minute // between the sweeps of a watch
	defaultRate    = 5000
	mostRate       = 1e7
	sweepPatience  = 2 * time.Minute // beyond what a sweep should take
	longestToSweep = 12 * time.Hour
)

// orderOf is the sweep of a spec.
func (s Spec) orderOf() plan.SweepOrder {
	return plan.SweepOrder{Entries: s.To, Exclude: s.Exclude, Via: s.Via, Rate: s.Rate, Wait: s.Wait, Rounds: 2, Random: s.Random, Low: s.Low, Names: true}
}

// checkSweep says what is wrong with the spec of a sweep.
func (s Spec) checkSweep() (errs []error) {
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	space, err := sweep.Parse(s.To, s.Exclude, sweep.Options{Low: s.Low})
	if err != nil {
		wrong("%w", err)
	} else if in, a := space.Within(sweep.Nearby()); !in && !s.Beyond {
		wrong("%s is neither private nor of documentation: if you may sweep there, say so with \"beyond\"", a)
	}
	vias, err := reading.ParseVias(s.Via)
	if err != nil {
		wrong("via: %w", err)
	}
	for _, v := range vias {
		if v.Kind != reading.ByICMP && v.Kind != reading.ByTCP {
			wrong("via %s: a sweep asks by icmp or tcp:PORT", v)
		}
	}
	if s.Rate < 1 || s.Rate > mostRate {
		wrong("rate %g is not between 1 and 10,000,000 packets a second", s.Rate)
	} else if took := time.Duration(float64(space.Len()) * float64(len(vias)) / s.Rate * 2 * float64(time.Second)); took > longestToSweep {
		wrong("this would take up to %v; sweep a part at a time, or raise the rate", took.Round(time.Minute))
	}
	if s.Wait < time.Millisecond || s.Wait > 30*time.Second {
		wrong("wait %v is not between 1ms and 30s", s.Wait)
	}
	return errs
}

// Sweep starts a sweep on demand at an agent. It returns at once; the sweep goes
// on and is kept.
func (c *Controller) Sweep(ctx context.Context, from string, spec Spec) (store.Sweep, error) {
	spec.Kind, spec.From, spec.Every = KindSweep, []string{from}, leastSweeping
	spec = spec.WithDefaults()
	if err := spec.Check(); err != nil {
		return store.Sweep{}, err
	}
	c.mu.RLock()
	a, err := c.agentNamed(from)
	c.mu.RUnlock()
	switch {
	case err != nil:
		return store.Sweep{}, err
	case a.hand == nil:
		return store.Sweep{}, fmt.Errorf("%w: agent %q is not running", ErrInvalid, from)
	}
	order := spec.orderOf()
	space, err := sweep.Parse(order.Entries, order.Exclude, sweep.Options{Low: order.Low})
	if err != nil {
		return store.Sweep{}, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	prefixes, err := json.Marshal(order.Entries)
	if err != nil {
		return store.Sweep{}, err
	}
	scope := space.Scope()
	made := store.Sweep{ID: ident.New(), AgentID: a.ID, Scope: scope[:], Prefixes: string(prefixes), StartedAt: time.Now().UTC(), Outcome: plan.Running, Addresses: space.Len()}
	if err := c.store.BeginSweep(ctx, made); err != nil {
		return made, err
	}
	packets := space.Len() * uint64(len(spec.kindsOfSweep()))
	c.mu.Lock()
	c.active[made.ID] = progress{of: int(packets)}
	c.mu.Unlock()
	limit := time.Duration(float64(packets)/max(1, order.Rate)*2*float64(time.Second)) + 2*order.Wait + sweepPatience
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), limit)
		defer cancel()
		a.hand.Sweep(ctx, made.ID, order, func(sent uint64) {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.active[made.ID] = progress{heard: int(min(sent, packets)), of: int(packets)}
		})
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.active, made.ID)
	}()
	return made, nil
}

func (s Spec) kindsOfSweep() []reading.Via {
	vias, err := reading.ParseVias(s.Via)
	if err != nil {
		return []reading.Via{{}}
	}
	return vias
}

// compareSweeps notes how each sweep of an upload differs from the one before.
func (c *Controller) compareSweeps(ctx context.Context, u *plan.Upload) error {
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

// sendSweeps gives each agent the sweeps of all watches that are not paused. It
// is called with mu held.
func (c *Controller) sendSweeps() {
	tasks := map[ident.ID][]plan.SweepTask{}
	for _, w := range c.sortedWatches() {
		if w.Paused || w.Spec.Kind != KindSweep {
			continue
		}
		for id, a := range c.agents {
			if slices.Contains(w.Spec.From, a.Name) {
				tasks[id] = append(tasks[id], plan.SweepTask{Watch: w.ID, Every: w.Spec.Every, Order: w.Spec.orderOf()})
			}
		}
	}
	for id, a := range c.agents {
		if a.hand != nil {
			a.hand.SetSweeps(tasks[id])
		}
	}
}
