package agent

import (
	"context"
	"reflect"
	"sync"
)

// repeated holds tasks that are carried out again and again, each by a goroutine of
// its own.
type repeated[T any] struct {
	mu      sync.Mutex // guards wanted, and is held for a moment only
	wanted  map[string]T
	running map[string]*repeating[T]
}

type repeating[T any] struct {
	task   T
	cancel context.CancelFunc
	ended  chan struct{}
}

// want replaces the tasks, which are known by their names.
func (r *repeated[T]) want(tasks map[string]T) {
	r.mu.Lock()
	r.wanted = tasks
	r.mu.Unlock()
}

// apply brings what runs to what is wanted. A task that is as it was goes on
// undisturbed. It and stop are called by one goroutine.
func (r *repeated[T]) apply(ctx context.Context, run func(context.Context, T)) {
	r.mu.Lock()
	wanted := r.wanted
	r.mu.Unlock()
	if r.running == nil {
		r.running = map[string]*repeating[T]{}
	}
	var over []*repeating[T]
	for id, old := range r.running {
		if t, ok := wanted[id]; !ok || !reflect.DeepEqual(t, old.task) {
			old.cancel()
			over = append(over, old)
			delete(r.running, id)
		}
	}
	for _, old := range over {
		<-old.ended
	}
	for id, t := range wanted {
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

func (r *repeated[T]) stop() {
	for _, x := range r.running {
		x.cancel()
	}
	for id, x := range r.running {
		<-x.ended
		delete(r.running, id)
	}
}
