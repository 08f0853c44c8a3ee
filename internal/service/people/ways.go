package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

const (
	// welcomeFor is how long a one-time link is good.
	welcomeFor = 7 * 24 * time.Hour
	// SignInFor is how long a session of the console lasts.
	SignInFor = 12 * time.Hour
	// seenEvery is how often, at most, it is written down that somebody was there.
	seenEvery = time.Minute

	mostSignIns = 2000
	mostTokens  = 2000
	mostTitle   = 200

	// Wrong passphrases for one name within wrongFor; beyond that it is not even looked at.
	mostWrong = 10
	wrongFor  = 5 * time.Minute
)

var (
	// ErrNotIn is that somebody does not come in: whoever it is, and whatever is wrong.
	ErrNotIn = errors.New("that name and passphrase do not fit")
	// ErrTooOften is that a name was tried too often with what is wrong.
	ErrTooOften = errors.New("this name was tried too often; try again in five minutes")
	// ErrWelcome is that a one-time link is not good, or not any more.
	ErrWelcome = errors.New("this link was used already, or is not good any more; ask for another")
)

// Welcome makes a one-time link for a person, by which they set a passphrase; those that they had
// before are good no more. It returns the secret of it and until when it is good.
func (x *People) Welcome(ctx context.Context, id ident.ID) (key string, until time.Time, err error) {
	x.mu.RLock()
	p, is := x.people[id]
	x.mu.RUnlock()
	switch {
	case !is:
		return "", until, fmt.Errorf("there is no such person: %w", store.ErrNotFound)
	case p.EndedAt != nil:
		return "", until, fmt.Errorf("%w: %s may not come in; let them in again first", kind.ErrInvalid, p.Name)
	}
	key, until, err = x.welcome(ctx, &id)
	if err == nil {
		x.o.Notices.Changed(ctx, "person_welcomed", p.Name, nil, map[string]any{"good_until": until})
	}
	return key, until, err
}

func (x *People) welcome(ctx context.Context, id *ident.ID) (string, time.Time, error) {
	key, now := keys.New("wlw"), x.o.Now().UTC()
	w := store.Welcome{ID: ident.New(), Mark: keys.Mark(key), PersonID: id, MadeAt: now, MadeBy: notices.Actor(ctx), EndsAt: now.Add(welcomeFor)}
	return key, w.EndsAt, x.o.Store.SaveWelcome(ctx, w)
}

// First makes the one-time link by which the first administrator is made; an empty one when there
// are people already.
func (x *People) First(ctx context.Context) (key string, err error) {
	if len(x.All()) > 0 {
		return "", nil
	}
	key, _, err = x.welcome(ctx, nil)
	return key, err
}

// Greeted is what a one-time link is for.
type Greeted struct {
	Name  string // empty: a name is to be chosen
	First bool
}

// Greet says what a one-time link is for, and leaves it as it is; the error wraps ErrWelcome.
func (x *People) Greet(ctx context.Context, key string) (Greeted, error) {
	w, p, err := x.greeted(ctx, key)
	return Greeted{p.Name, w.PersonID == nil}, err
}

func (x *People) greeted(ctx context.Context, key string) (w store.Welcome, p store.Person, err error) {
	w, err = x.o.Store.Welcome(ctx, keys.Mark(key))
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && !x.o.Now().Before(w.EndsAt):
		return w, p, ErrWelcome
	case err != nil:
		return w, p, err
	case w.PersonID == nil:
		if len(x.All()) > 0 {
			return w, p, ErrWelcome
		}
		return w, p, nil
	}
	x.mu.RLock()
	defer x.mu.RUnlock()
	p, is := x.people[*w.PersonID]
	if !is || p.EndedAt != nil {
		return w, p, ErrWelcome
	}
	return w, p, nil
}

// Accept uses a one-time link up: its person has a passphrase from now on; sessions and passkeys that
// they had end. The name is that of the first administrator, who is made by it.
func (x *People) Accept(ctx context.Context, key, name, fullName, phrase string) (Person, error) {
	x.change.Lock()
	defer x.change.Unlock()
	w, p, err := x.greeted(ctx, key)
	if err != nil {
		return Person{}, err
	}
	now := x.o.Now().UTC()
	first := w.PersonID == nil
	if first {
		name, fullName = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(fullName)
		if err := errors.Join(checkName(name), checkFullName(fullName)); err != nil {
			return Person{}, err
		}
		p = store.Person{ID: ident.New(), Name: name, FullName: fullName, Role: string(Administrator), CreatedAt: now, CreatedBy: "the first one-time link"}
	}
	if err := checkPhrase(phrase, p.Name); err != nil {
		return Person{}, err
	}
	was := p
	if p.Password, err = keys.Hash(phrase); err != nil {
		return Person{}, err
	}
	if err := x.o.Store.TakeWelcome(ctx, w.ID, p); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = ErrWelcome
		}
		return Person{}, err
	}
	x.put(p)
	ctx = With(ctx, Who{Name: p.Name, Address: Of(ctx).Address})
	if first {
		x.o.Notices.Changed(ctx, "person_added", p.Name, nil, told(p))
	} else {
		x.endSignInsOf(ctx, p.ID, ident.ID{})
		if err := x.endPasskeysOf(ctx, p.ID); err != nil {
			return Person{}, err
		}
		x.o.Notices.Changed(ctx, "passphrase_set", p.Name, told(was), told(p))
	}
	return personOf(p), nil
}

// endSignInsOf ends the sessions of a person but one.
func (x *People) endSignInsOf(ctx context.Context, id, but ident.ID) {
	x.mu.Lock()
	var ids []ident.ID
	for mark, s := range x.signIns {
		if s.PersonID != nil && *s.PersonID == id && s.ID != but {
			ids = append(ids, s.ID)
			delete(x.signIns, mark)
		}
	}
	x.tell()
	x.mu.Unlock()
	if err := x.o.Store.DeleteSignIns(ctx, ids...); err != nil {
		x.o.Log.Error("sessions that ended could not be removed", "error", err)
	}
}

// Passphrase sets another passphrase of who knows the one before; their other sessions end.
func (x *People) Passphrase(ctx context.Context, w Who, before, phrase string) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	p, is := x.people[w.Person]
	x.mu.RUnlock()
	if !is {
		return fmt.Errorf("%w: who came by the state folder's token has no passphrase", kind.ErrInvalid)
	}
	if err := x.tried(p.Name); err != nil {
		return err
	}
	if !keys.Fits(p.Password, before) {
		x.failed(p.Name)
		return fmt.Errorf("%w: the passphrase before is another", kind.ErrInvalid)
	}
	if err := checkPhrase(phrase, p.Name); err != nil {
		return err
	}
	var err error
	if p.Password, err = keys.Hash(phrase); err != nil {
		return err
	}
	if err := x.o.Store.SavePerson(ctx, p); err != nil {
		return err
	}
	x.put(p)
	x.endSignInsOf(ctx, p.ID, w.SignIn)
	x.o.Notices.Changed(ctx, "passphrase_set", p.Name, nil, nil)
	return nil
}

// tried says that a name was tried too often.
func (x *People) tried(name string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	now := x.o.Now()
	list := slices.DeleteFunc(x.wrong[name], func(t time.Time) bool { return now.Sub(t) >= wrongFor })
	if len(list) == 0 {
		delete(x.wrong, name)
	} else {
		x.wrong[name] = list
	}
	if len(list) >= mostWrong {
		return ErrTooOften
	}
	return nil
}

func (x *People) failed(name string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.wrong) > 10_000 { // names that nobody has
		clear(x.wrong)
	}
	x.wrong[name] = append(x.wrong[name], x.o.Now())
}

// SignIn begins a session of who knows a passphrase, and returns what its cookie holds. It says the
// same, and takes as long, whoever does not come in. The error wraps ErrNotIn or ErrTooOften.
func (x *People) SignIn(ctx context.Context, name, phrase, address, browser string) (string, Who, error) {
	if name = strings.ToLower(strings.TrimSpace(name)); len(name) > 64 {
		name = name[:64]
	}
	if err := x.tried(name); err != nil {
		return "", Who{}, err
	}
	var p store.Person
	x.mu.RLock()
	for _, o := range x.people {
		if o.Name == name {
			p = o
		}
	}
	x.mu.RUnlock()
	if len(phrase) > mostPhrase {
		phrase = ""
	}
	if fits := keys.Fits(p.Password, phrase); !fits || p.EndedAt != nil {
		x.failed(name)
		x.o.Log.Warn("a passphrase was wrong", "name", name, "peer", address)
		return "", Who{}, ErrNotIn
	}
	return x.begin(ctx, &p, ByPassphrase, address, browser)
}

// SignInByMachine begins a session of who has the state folder's token.
func (x *People) SignInByMachine(ctx context.Context, address, browser string) (string, Who, error) {
	return x.begin(ctx, nil, ByMachine, address, browser)
}

// SignInWelcomed begins a session of who has just used a one-time link up.
func (x *People) SignInWelcomed(ctx context.Context, id ident.ID, address, browser string) (string, Who, error) {
	x.mu.RLock()
	p, is := x.people[id]
	x.mu.RUnlock()
	if !is || p.EndedAt != nil {
		return "", Who{}, ErrWelcome
	}
	return x.begin(ctx, &p, ByWelcome, address, browser)
}

func (x *People) begin(ctx context.Context, p *store.Person, way Way, address, browser string) (string, Who, error) {
	key, now := keys.New("wls"), x.o.Now().UTC()
	s := store.SignIn{ID: ident.New(), Mark: keys.Mark(key), Way: string(way), BeganAt: now, EndsAt: now.Add(SignInFor), SeenAt: now, Address: address, Browser: strings.ToValidUTF8(browser, "")}
	if p != nil {
		s.PersonID = &p.ID
	}
	defer x.move()()
	x.mu.Lock()
	if p == nil {
		s.KeyMark = keys.Mark(x.machine)
	} else if !x.seen(p.ID, now) { // they may have been ended since it was found that they come in
		x.mu.Unlock()
		return "", Who{}, ErrNotIn
	}
	var gone []ident.ID
	for mark, o := range x.signIns {
		if !now.Before(o.EndsAt) {
			delete(x.signIns, mark)
		}
	}
	if len(x.signIns) >= mostSignIns { // the one that ends first goes
		var first [32]byte
		for mark, o := range x.signIns {
			if had, is := x.signIns[first]; !is || o.EndsAt.Before(had.EndsAt) {
				first = mark
			}
		}
		gone = append(gone, x.signIns[first].ID)
		delete(x.signIns, first)
	}
	x.signIns[[32]byte(s.Mark)] = s
	if gone != nil {
		x.tell()
	}
	x.mu.Unlock()
	err := x.saveSignIn(ctx, s)
	err = errors.Join(err, x.o.Store.DeleteSignIns(ctx, gone...))
	if p != nil {
		err = errors.Join(err, x.o.Store.SeenPerson(ctx, p.ID, now))
	}
	if err != nil { // they are in all the same: this program knows
		x.o.Log.Error("a session could not be written down; it ends with this program", "error", err)
	}
	return key, x.whoOf(s, address), nil
}

// saveSignIn keeps a session, unless it was ended before it was kept: whoever ends one first has it
// forgotten here, and then by the database.
func (x *People) saveSignIn(ctx context.Context, s store.SignIn) error {
	err := x.o.Store.SaveSignIn(ctx, s)
	x.mu.Lock()
	_, still := x.signIns[[32]byte(s.Mark)]
	if still && err != nil {
		if x.unsaved == nil {
			x.unsaved = map[[32]byte]bool{}
		}
		x.unsaved[[32]byte(s.Mark)] = true
	}
	x.mu.Unlock()
	if !still {
		err = errors.Join(err, x.o.Store.DeleteSignIns(context.WithoutCancel(ctx), s.ID))
	}
	return err
}

// seen notes that a person was there; false when they may not come in any more. x.mu is held.
func (x *People) seen(id ident.ID, now time.Time) bool {
	p, is := x.people[id]
	if !is || p.EndedAt != nil {
		return false
	}
	p.SeenAt = &now
	x.people[id] = p
	return true
}

// whoOf is who has a session; nobody when their person may not come in any more.
func (x *People) whoOf(s store.SignIn, address string) Who {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.whoHas(s, address)
}

// whoHas is whoOf; x.mu is held.
func (x *People) whoHas(s store.SignIn, address string) Who {
	w := Who{Way: Way(s.Way), SignIn: s.ID, EndsAt: &s.EndsAt, Address: address}
	if s.PersonID == nil {
		if !x.isMachine(s.KeyMark) {
			return Who{}
		}
		w.Name, w.Role = "administrator", Administrator
		return w
	}
	p, is := x.people[*s.PersonID]
	if !is || p.EndedAt != nil {
		return Who{}
	}
	w.Person, w.Name, w.Role, w.Scopes = p.ID, p.Name, Role(p.Role), scopesOf(p.Scope)
	return w
}

// BySession is who has a cookie; false for nobody.
func (x *People) BySession(ctx context.Context, key, address string) (Who, bool) {
	now := x.o.Now().UTC()
	mark := [32]byte(keys.Mark(key))
	x.mu.RLock()
	s, is := x.signIns[mark]
	x.mu.RUnlock()
	if !is || !now.Before(s.EndsAt) {
		return Who{}, false
	}
	w := x.whoOf(s, address)
	if w.Role == "" {
		return Who{}, false
	}
	if now.Sub(s.SeenAt) >= seenEvery {
		s.SeenAt, s.Address = now, address
		x.mu.Lock()
		_, still := x.signIns[mark]
		if still {
			x.signIns[mark] = s
		}
		x.mu.Unlock()
		if still {
			x.later(ctx, "a session", func(ctx context.Context) error { return x.o.Store.SeenSignIn(ctx, s.ID, now, address) })
		}
	}
	return w, true
}

// later writes down what nobody waits for.
func (x *People) later(ctx context.Context, what string, write func(context.Context) error) {
	go func() { // ends with the write, which the store bounds
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if err := write(ctx); err != nil && !errors.Is(err, store.ErrAway) {
			x.o.Log.Error("it could not be noted that "+what+" was used", "error", err)
		}
	}()
}

// SignedIn is a session.
type SignedIn struct {
	ID              ident.ID
	Name            string
	Person          ident.ID
	Way             Way
	BeganAt, EndsAt time.Time
	SeenAt          time.Time
	Address         string
	Browser         string
}

// SignIns are the sessions of all, or of one person; the newest first.
func (x *People) SignIns(of *ident.ID) (list []SignedIn) {
	now := x.o.Now()
	x.mu.RLock()
	var rows []store.SignIn
	for _, s := range x.signIns {
		if now.Before(s.EndsAt) && (of == nil || s.PersonID != nil && *s.PersonID == *of) {
			rows = append(rows, s)
		}
	}
	x.mu.RUnlock()
	for _, s := range rows {
		if w := x.whoOf(s, s.Address); w.Role != "" {
			list = append(list, SignedIn{s.ID, w.Name, w.Person, w.Way, s.BeganAt, s.EndsAt, s.SeenAt, s.Address, s.Browser})
		}
	}
	slices.SortFunc(list, func(a, b SignedIn) int { return b.BeganAt.Compare(a.BeganAt) })
	return list
}

// SignOut ends the session of a cookie.
func (x *People) SignOut(ctx context.Context, key string) error {
	mark := [32]byte(keys.Mark(key))
	defer x.move()()
	x.mu.Lock()
	s, is := x.signIns[mark]
	delete(x.signIns, mark)
	x.tell()
	x.mu.Unlock()
	if !is {
		return nil
	}
	return x.o.Store.DeleteSignIns(ctx, s.ID)
}

// EndSignIn ends a session; the error wraps store.ErrNotFound.
func (x *People) EndSignIn(ctx context.Context, id ident.ID) error {
	for _, s := range x.SignIns(nil) {
		if s.ID != id {
			continue
		}
		defer x.move()()
		x.mu.Lock()
		for mark, o := range x.signIns {
			if o.ID == id {
				delete(x.signIns, mark)
			}
		}
		x.tell()
		x.mu.Unlock()
		err := x.o.Store.DeleteSignIns(ctx, id)
		x.o.Notices.Changed(ctx, "session_ended", s.Name, map[string]any{"session": id.String(), "address": s.Address, "began_at": s.BeganAt}, nil)
		return err
	}
	return fmt.Errorf("there is no such session: %w", store.ErrNotFound)
}
