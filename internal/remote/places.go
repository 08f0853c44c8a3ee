package remote

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"
)

// base is where the service is called now, and what has the next place called from now on.
func (l *Link) base() (base string, next func()) {
	all := Places(l.Base)
	at := l.at.Load()
	return all[int(at)%len(all)], func() {
		if len(all) > 1 {
			l.at.CompareAndSwap(at, (at+1)%int32(len(all)))
		}
	}
}

// Places are the addresses of services that share a database, as they are written with commas between;
// at least one, which may be empty.
func Places(text string) (list []string) {
	for _, p := range strings.Split(text, ",") {
		list = append(list, strings.TrimSuffix(strings.TrimSpace(p), "/"))
	}
	return list
}

// errSilent is why calls of a place are given up where another may answer: it is stopped, or cut off,
// and what was sent to it gets no answer for minutes.
var errSilent = errors.New("it is silent")

// prompt is how long a plan, and the beginning of the held connection, are waited for where there is
// another place to ask: they are at hand.
const prompt = 4 * time.Second

// call is one that is not over, of a place.
type call struct {
	base string
	stop context.CancelCauseFunc
}

// whileThere is the context of a call of a place, which ends when the place is left. came is to be
// called when there is an answer.
func (l *Link) whileThere(ctx context.Context, base, path string) (_ context.Context, came func()) {
	ctx, stop := context.WithCancelCause(ctx)
	c := &call{base, stop}
	l.mu.Lock()
	if l.calls == nil {
		l.calls = map[*call]bool{}
	}
	l.calls[c] = true
	l.mu.Unlock()
	context.AfterFunc(ctx, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.calls, c)
	})
	if len(Places(l.Base)) == 1 || path != "/plan" && path != "/commands" {
		return ctx, func() {}
	}
	late := time.AfterFunc(prompt, func() { stop(errSilent) })
	return ctx, func() { late.Stop() }
}

// mostAgain is how long it is waited at the most before the service is called again: another may have
// taken over within seconds.
func (l *Link) mostAgain() time.Duration {
	if len(Places(l.Base)) > 1 {
		return 4 * time.Second
	}
	return mostAgain
}

// mayBeSilent is how long the held connection may say nothing, by how often the service says that it
// speaks. Where there is nobody else to turn to, it is waited for longer.
func (l *Link) mayBeSilent(speaks string) time.Duration {
	n, err := strconv.Atoi(speaks)
	if err != nil || n < 1 || len(Places(l.Base)) == 1 {
		return quiet
	}
	return min(quiet, 3*time.Duration(n)*time.Second)
}

// leave gives up all calls of a place where there is another, which is called from now on.
func (l *Link) leave(base string) {
	if len(Places(l.Base)) == 1 {
		return
	}
	if at, next := l.base(); at == base {
		next()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.calls {
		if c.base == base {
			c.stop(errSilent)
		}
	}
}
