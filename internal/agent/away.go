package agent

import (
	"context"
	"fmt"
	"sync"
	"time"

	"woodlark.example/internal/protocol"
)

// away is what the agent sees to by itself while its service is away: that its load runs
// come one after the other, and that they send no more than they may.
type away struct {
	mu   sync.Mutex
	is   bool
	turn chan struct{} // holds one while a measurement goes on
	sent map[string][]sent
}

// sent is what a run sent that began at a time.
type sent struct {
	at    time.Time
	bytes int64
}

// ServiceAway notes whether the service is reached. One that is in this process always is.
func (a *Agent) ServiceAway(is bool) {
	a.away.mu.Lock()
	defer a.away.mu.Unlock()
	a.away.is = is
}

func (x *away) now() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.is
}

// mayBegin waits for its turn, and says when what a measurement may send within a day is
// used up. What it returns is called with what came of it.
func (x *away) mayBegin(ctx context.Context, t protocol.Standing) (end func([]protocol.Made), err error) {
	x.mu.Lock()
	if x.turn == nil {
		x.turn, x.sent = make(chan struct{}, 1), map[string][]sent{}
	}
	turn := x.turn
	x.mu.Unlock()
	select {
	case turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	began, sum := time.Now(), int64(0)
	var day []sent
	for _, s := range x.sent[t.Name()] {
		if began.Sub(s.at) < 24*time.Hour {
			day = append(day, s)
			sum += s.bytes
		}
	}
	x.sent[t.Name()] = day
	if t.Budget > 0 && sum >= t.Budget {
		<-turn
		return nil, fmt.Errorf("its runs sent %.1f GB within a day, and %.1f GB are allowed", float64(sum)/1e9, float64(t.Budget)/1e9)
	}
	return func(list []protocol.Made) {
		x.mu.Lock()
		defer x.mu.Unlock()
		for _, m := range list {
			x.sent[t.Name()] = append(x.sent[t.Name()], sent{began, m.Figures.SentBytes})
		}
		<-turn
	}, nil
}

// doStanding makes a standing measurement once.
func (a *Agent) doStanding(ctx context.Context, t protocol.Standing, o protocol.RunOrder) error {
	if !t.Away {
		_, err := a.do(ctx, o, nil)
		return err
	}
	end, err := a.away.mayBegin(ctx, t)
	if err != nil {
		return err
	}
	made, err := a.do(ctx, o, nil)
	end(made)
	return err
}

// ordered is by what it is remembered that the service had a measurement of a watch made.
func ordered(o protocol.RunOrder) string {
	key := "by the service " + o.Watch.String()
	for _, l := range o.Lanes {
		key += " " + l.Lane.Target
	}
	return key
}

// noteOrdered remembers that the service has a measurement of a watch made: one that is killed behind
// that leaves an agent that would see to it itself.
func (a *Agent) noteOrdered(o protocol.RunOrder, now time.Time) {
	if !o.Watch.IsZero() {
		a.dues.set(due{Key: ordered(o), At: now, Began: now, Over: true})
	}
}

// wasOrdered reports whether the service had a measurement made for a time at which it was due.
func (a *Agent) wasOrdered(o protocol.RunOrder, at time.Time) bool {
	const early = 2 * time.Second // the service looks each second, by a clock of its own
	last, known := a.dues.last(ordered(o))
	return known && !last.At.Before(at.Add(-early))
}
