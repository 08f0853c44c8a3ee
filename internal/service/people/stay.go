package people

import (
	"context"
	"time"

	"woodlark.example/internal/ident"
)

// WhileIn is a context that lasts as long as somebody stays who they were when they came in: it
// ends when their session or token is ended or over, or when they may do other than before. What
// goes on for long, such as a stream of events, goes on by it.
func (x *People) WhileIn(ctx context.Context, w Who) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() { // ends with the context, which whoever holds it ends
		defer cancel()
		for {
			changed, over := x.nextChange(), make(<-chan time.Time)
			ends, still := x.still(w)
			if !still {
				return
			}
			var timer *time.Timer
			if ends != nil {
				timer = time.NewTimer(ends.Sub(x.o.Now()))
				over = timer.C
			}
			select {
			case <-changed:
			case <-over:
			case <-ctx.Done():
			}
			if timer != nil {
				timer.Stop()
			}
			if ctx.Err() != nil {
				return
			}
		}
	}()
	return ctx, cancel
}

// still reports whether somebody is who they were, and until when; nil until they are ended.
func (x *People) still(w Who) (ends *time.Time, is bool) {
	now, is := x.now(w)
	return now.EndsAt, is && now.Role == w.Role && sameScopes(now.Scopes, w.Scopes) && (now.EndsAt == nil || x.o.Now().Before(*now.EndsAt))
}

// now is who somebody is by now who came in before; false for nobody.
func (x *People) now(w Who) (Who, bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	switch {
	case w.SignIn != (ident.ID{}):
		for _, s := range x.signIns {
			if s.ID == w.SignIn {
				who := x.whoHas(s, w.Address)
				return who, who.Role != ""
			}
		}
		return Who{}, false
	case w.Token != (ident.ID{}):
		for _, t := range x.tokens {
			if t.ID == w.Token {
				return x.whoUses(t, w.Address)
			}
		}
		return Who{}, false
	}
	return w, w.Way == ByMachine
}

// nextChange is closed when who may come in changes.
func (x *People) nextChange() <-chan struct{} {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.changed == nil {
		x.changed = make(chan struct{})
	}
	return x.changed
}

// tell says that who may come in has changed; x.mu is held.
func (x *People) tell() {
	if x.changed != nil {
		close(x.changed)
		x.changed = nil
	}
}
