package people

import (
	"context"
	"errors"
	"fmt"

	"woodlark.example/internal/store"
)

// ByProvider is that a provider elsewhere said who it is.
const ByProvider Way = "provider"

// ErrNotLetIn is wrapped when a provider says who it is, and nobody let them in.
var ErrNotLetIn = errors.New("nobody let you in here")

// SignInElsewhere begins a session of whom a provider elsewhere says it is. The first time they are
// found by name; from then on by what the provider knows them by, whatever they are called. The error
// wraps ErrNotLetIn.
func (x *People) SignInElsewhere(ctx context.Context, subject, name, address, browser string) (string, Who, error) {
	x.change.Lock()
	p, err := x.elsewhere(ctx, subject, name, address)
	x.change.Unlock()
	if err != nil {
		return "", Who{}, err
	}
	return x.begin(ctx, &p, ByProvider, address, browser)
}

func (x *People) elsewhere(ctx context.Context, subject, name, address string) (store.Person, error) {
	var known, called *store.Person
	x.mu.RLock()
	for _, p := range x.people {
		if p.Elsewhere == subject {
			known = &p
		}
		if name != "" && p.Name == name {
			called = &p
		}
	}
	x.mu.RUnlock()
	switch {
	case known != nil && known.EndedAt == nil:
		return *known, nil
	case known != nil, called != nil && called.EndedAt != nil:
		return store.Person{}, fmt.Errorf("%w any more; ask an administrator", ErrNotLetIn)
	case called == nil && name == "":
		return store.Person{}, fmt.Errorf("%w: the sign-in elsewhere says no name of you that it vouches for; ask an administrator", ErrNotLetIn)
	case called == nil:
		return store.Person{}, fmt.Errorf("%w as %s; ask an administrator", ErrNotLetIn, name)
	case called.Elsewhere != "":
		return store.Person{}, fmt.Errorf("%w: %s is somebody else to the sign-in elsewhere; ask an administrator", ErrNotLetIn, name)
	}
	p := *called
	p.Elsewhere = subject
	if err := x.o.Store.SavePerson(ctx, p); err != nil {
		return p, err
	}
	x.put(p)
	x.o.Notices.Changed(With(ctx, Who{Name: p.Name, Address: address}), "known_elsewhere", p.Name, nil, map[string]any{"subject": subject})
	return p, nil
}
