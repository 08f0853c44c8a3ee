package agent

import (
	"context"
	"reflect"
	"sync"
	"time"

	"woodlark.example/internal/ident"
)

// repeated holds tasks that are carried out again and again, each by a goroutine of
// its own.
type repeated[T any] struct {
	mu      sync.Mutex
	wanted  map[ident.ID]T
	running map[ident.ID]*repeating[T]
}

type repeating[T any] struct {
	task   T
	cancel context.CancelFunc
	ended  chan struct{}
}

// want replaces the tasks, which are known by their watches.
func (r *repeated[T]) want(tasks map[ident.ID]T) {
	r.mu.Lock()
	r.wanted = tasks
	r.mu.Unlock()
}

// apply brings what runs to what is wanted. A task that is as it was goes on
// undisturbed.
func (r *repeated[T]) apply(ctx context.Context, run func(context.Context, T)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running == nil {
		r.running = map[ident.ID]*repeating[T]{}
	}
	for id, old := range r.running {
		if t, ok := r.wanted[id]; !ok || !reflect.DeepEqual(t, old.task) {
			r.end(id)
		}
	}
	for id, t := range r.wanted {
		if r.running[id] != nil {
			continue
		}
		ctx, cancel := context.WithCancel(ctx)
		x := &repeating[T]{task: t, cancel: cancel, ended: make(chan struct{})}
		r.running[id] = x
		go func() {
			defer close(x.ended)
			run(ctx, t)
		}()
	}
}

func (r *repeated[T]) end(id ident.ID) {
	r.running[id].cancel()
	<-r.running[id].ended
	delete(r.running, id)
}

func (r *repeated[T]) stop() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range r.running {
		r.end(id)
	}
}

// atMultiples calls do at once and then at each multiple of an interval, until ctx
// ends. One that is due while the one before goes on is missed.
func atMultiples(ctx context.Context, every time.Duration, do func(), missed func(at time.Time)) {
	due := time.Now()
	for ctx.Err() == nil {
		do()
		next := due.Truncate(every).Add(every)
		for ; !next.After(time.Now()); next = next.Add(every) {
			missed(next)
		}
		due = next
		select {
		case <-ctx.Done():
		case <-time.After(time.Until(next)):
		}
	}
}
