// Package people knows who may come in, as what, and by which way: by name and passphrase, by a
// token of a program, by a session of the console. What it knows is in memory, so that who is in
// stays in while the database is away.
//
//	x := people.New(people.Options{Store: s, Notices: n, Log: log})
//	err := x.Load(ctx)
//	who, ok := x.ByToken(key, address)
//	if who.May(people.Engineer) { … }
package people

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

// Role is what somebody may do.
type Role string

// The roles; each may do what those before it may.
const (
	Viewer        Role = "viewer"        // sees everything that is no secret
	Engineer      Role = "engineer"      // measures, makes watches, boards, notes and links
	Administrator Role = "administrator" // people, agents, ways by which people are told, imports
)

// Roles are all, the least first.
var Roles = []Role{Viewer, Engineer, Administrator}

func (r Role) rank() int { return slices.Index(Roles, r) }

// ParseRole reads a role; the error wraps kind.ErrInvalid.
func ParseRole(text string) (Role, error) {
	r := Role(text)
	if r.rank() < 0 {
		return "", fmt.Errorf("%w: there is no role %q; there are viewer, engineer and administrator", kind.ErrInvalid, kind.Shorten(text))
	}
	return r, nil
}

// Person is somebody who may come in.
type Person struct {
	ID        ident.ID
	Name      string // by which they sign in
	FullName  string
	Role      Role
	Scope     Scope
	Asked     bool // a passphrase is set, that signing in asks for
	CreatedAt time.Time
	CreatedBy string
	SeenAt    *time.Time
	EndedAt   *time.Time // from when on they may not come in
}

// Way is how somebody came in.
type Way string

// The ways.
const (
	ByMachine    Way = "machine"    // the token in the state folder
	ByPassphrase Way = "passphrase" // name and passphrase
	ByToken      Way = "token"      // a person's
	ByWelcome    Way = "welcome"    // a one-time link
)

// Who is somebody who came in. The zero value is nobody, who may do nothing.
type Who struct {
	Person  ident.ID // zero for who has the state folder's token
	Name    string
	Role    Role
	Scopes  []Scope // each binds them; none: everything
	Way     Way
	SignIn  ident.ID // of a session
	Token   ident.ID // of a token
	EndsAt  *time.Time
	Address string
}

// May reports whether they may do what a role may.
func (w Who) May(r Role) bool { return w.Role.rank() >= 0 && w.Role.rank() >= r.rank() }

// Actor is who it is, in words, for what is written down.
func (w Who) Actor() string {
	if w.Address == "" {
		return w.Name
	}
	return w.Name + " from " + w.Address
}

type whoKey struct{}

// With puts who calls into a context.
func With(ctx context.Context, w Who) context.Context {
	return notices.WithActor(context.WithValue(ctx, whoKey{}, w), w.Actor())
}

// Of is who calls in a context; nobody where nobody does.
func Of(ctx context.Context) Who {
	w, _ := ctx.Value(whoKey{}).(Who)
	return w
}

// Options of People; all are needed.
type Options struct {
	Store   *store.Store
	Notices *notices.Notices
	Log     *slog.Logger
	Now     func() time.Time
}

// People are safe for concurrent use.
type People struct {
	o      Options
	change sync.Mutex // held by who changes them

	mu       sync.RWMutex
	people   map[ident.ID]store.Person
	tokens   map[[32]byte]store.PersonToken
	signIns  map[[32]byte]store.SignIn
	unsaved  map[[32]byte]bool // of those, what the database could not take
	moving   int               // sessions that begin or end at this moment
	moved    int               // those that did
	passkeys map[ident.ID]store.Passkey
	asked    map[string]asked // of devices, by what the answer is found
	machine  string           // the state folder's token
	machines [][]byte         // hashes of those of the other services on the database
	wrong    map[string][]time.Time
	changed  chan struct{} // closed at the next change; nil while nobody waits for it
}

// New knows nobody before Load.
func New(o Options) *People {
	return &People{o: o, people: map[ident.ID]store.Person{}, tokens: map[[32]byte]store.PersonToken{}, signIns: map[[32]byte]store.SignIn{}, passkeys: map[ident.ID]store.Passkey{}, asked: map[string]asked{}, wrong: map[string][]time.Time{}}
}

// Load reads all from the database.
func (x *People) Load(ctx context.Context) error {
	x.change.Lock()
	defer x.change.Unlock()
	people, err := x.o.Store.People(ctx)
	if err != nil {
		return err
	}
	tokens, err := x.o.Store.PersonTokens(ctx)
	if err != nil {
		return err
	}
	x.mu.RLock()
	moved, still := x.moved, x.moving == 0
	x.mu.RUnlock()
	signIns, err := x.o.Store.SignIns(ctx, x.o.Now())
	if err != nil {
		return err
	}
	passkeys, err := x.o.Store.Passkeys(ctx)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	clear(x.people)
	clear(x.tokens)
	clear(x.passkeys)
	for _, k := range passkeys {
		x.passkeys[k.ID] = k
	}
	for _, p := range people {
		x.people[p.ID] = p
	}
	for _, t := range tokens {
		x.tokens[[32]byte(t.Mark)] = t
	}
	if still && x.moving == 0 && moved == x.moved {
		x.read(signIns)
	} // else one began or ended meanwhile, or is about to: what was read may be older than what is known; it is read again soon
	x.tell()
	return nil
}

// read takes sessions as the database has them. x.mu is held.
func (x *People) read(list []store.SignIn) {
	had := x.signIns
	x.signIns = map[[32]byte]store.SignIn{}
	for mark := range x.unsaved {
		if s, is := had[mark]; is {
			x.signIns[mark] = s
		} else {
			delete(x.unsaved, mark)
		}
	}
	for _, s := range list {
		if now, is := had[[32]byte(s.Mark)]; is && now.SeenAt.After(s.SeenAt) {
			s.SeenAt = now.SeenAt
		}
		x.signIns[[32]byte(s.Mark)] = s
	}
}

// move says that sessions begin or end, until what it returns is called: behind what the database
// is told of it.
func (x *People) move() (done func()) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.moving++
	return func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.moving--
		x.moved++
	}
}

// refreshEvery is how soon what another service changed is known here.
const refreshEvery = 10 * time.Second

// Run keeps what is known up to date until ctx ends.
func (x *People) Run(ctx context.Context) {
	tick := time.NewTicker(refreshEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if err := x.Load(ctx); err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrAway) {
				x.o.Log.Error("who may come in cannot be read again", "error", err)
			}
		case <-ctx.Done():
			return
		}
	}
}

// Machine sets the token of the state folder: who can read that folder is an administrator.
func (x *People) Machine(token string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.machine = token
}

// Machines sets the hashes of the tokens in the state folders of other services on the same database.
func (x *People) Machines(marks [][]byte) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.machines = marks
}

// isMachine reports whether a hash is that of a state folder's token; x.mu is held.
func (x *People) isMachine(mark []byte) bool {
	if x.machine != "" && string(mark) == string(keys.Mark(x.machine)) {
		return true
	}
	return slices.ContainsFunc(x.machines, func(m []byte) bool { return len(m) > 0 && string(m) == string(mark) })
}

func personOf(p store.Person) Person {
	return Person{ID: p.ID, Name: p.Name, FullName: p.FullName, Role: Role(p.Role), Scope: scopeOf(p.Scope), Asked: p.Password != "", CreatedAt: p.CreatedAt, CreatedBy: p.CreatedBy, SeenAt: p.SeenAt, EndedAt: p.EndedAt}
}

// All are the people, by name.
func (x *People) All() (list []Person) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, p := range x.people {
		list = append(list, personOf(p))
	}
	slices.SortFunc(list, func(a, b Person) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Find is a person by identifier or name; the error wraps store.ErrNotFound.
func (x *People) Find(what string) (Person, error) {
	var names []string
	for _, p := range x.All() {
		if p.ID.String() == what || p.Name == strings.ToLower(what) {
			return p, nil
		}
		names = append(names, p.Name)
	}
	there := "; there are " + strings.Join(names, ", ")
	if len(names) == 0 {
		there = "; there is nobody yet"
	}
	return Person{}, fmt.Errorf("there is no person %q%s: %w", kind.Shorten(what), there, store.ErrNotFound)
}

var nameShape = regexp.MustCompile(`^[a-z0-9][a-z0-9._@-]{0,63}$`)

const (
	mostPeople   = 1000
	mostFullName = 200
	leastPhrase  = 10
	mostPhrase   = 200
)

// reserved are names that what is written down uses for others.
var reserved = []string{"administrator", "the service", "machine"}

func checkName(name string) error {
	switch {
	case !nameShape.MatchString(name):
		return fmt.Errorf("%w: a name by which somebody signs in is up to 64 of a to z, 0 to 9, and . _ @ - within it", kind.ErrInvalid)
	case slices.Contains(reserved, name):
		return fmt.Errorf("%w: %q is the name of who has the state folder's token; choose another", kind.ErrInvalid, name)
	}
	if _, err := ident.Parse(name); err == nil {
		return fmt.Errorf("%w: %q looks like an identifier; choose another name", kind.ErrInvalid, name)
	}
	return nil
}

func checkFullName(name string) error {
	if len(name) > mostFullName || !utf8.ValidString(name) || strings.ContainsAny(name, "\r\n\x00") {
		return fmt.Errorf("%w: a full name is one line of up to %d bytes", kind.ErrInvalid, mostFullName)
	}
	return nil
}

func checkPhrase(phrase, name string) error {
	switch {
	case utf8.RuneCountInString(phrase) < leastPhrase:
		return fmt.Errorf("%w: a passphrase needs at least %d characters", kind.ErrInvalid, leastPhrase)
	case len(phrase) > mostPhrase:
		return fmt.Errorf("%w: a passphrase has at most %d bytes", kind.ErrInvalid, mostPhrase)
	case name != "" && strings.Contains(strings.ToLower(phrase), name) && utf8.RuneCountInString(phrase) < leastPhrase+len(name):
		return fmt.Errorf("%w: that passphrase is little more than the name", kind.ErrInvalid)
	}
	return nil
}

// Add lets somebody in who says by a one-time link how they sign in. The error wraps
// kind.ErrInvalid, or store.ErrTaken when another has the name.
func (x *People) Add(ctx context.Context, name, fullName string, role Role, scope Scope) (Person, error) {
	x.change.Lock()
	defer x.change.Unlock()
	name, fullName = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(fullName)
	if err := errors.Join(checkName(name), checkFullName(fullName), checkScope(role, scope)); err != nil {
		return Person{}, err
	}
	all := x.All()
	for _, p := range all {
		if p.Name == name {
			return Person{}, fmt.Errorf("person %q is there already: the name %w", name, store.ErrTaken)
		}
	}
	if len(all) >= mostPeople {
		return Person{}, fmt.Errorf("%w: there are %d people, as many as may be", kind.ErrInvalid, mostPeople)
	}
	row := store.Person{ID: ident.New(), Name: name, FullName: fullName, Role: string(role), Scope: scope.kept(), CreatedAt: x.o.Now().UTC(), CreatedBy: notices.Actor(ctx)}
	if err := x.o.Store.SavePerson(ctx, row); err != nil {
		return Person{}, err
	}
	x.put(row)
	x.o.Notices.Changed(ctx, "person_added", name, nil, told(row))
	return personOf(row), nil
}

// put has a person as they are now.
func (x *People) put(p store.Person) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.people[p.ID] = p
	x.tell()
}

// told is what is written down of a person: not how they come in.
func told(p store.Person) map[string]any {
	return map[string]any{"id": p.ID.String(), "full_name": p.FullName, "role": p.Role, "scope": scopeOf(p.Scope).String(), "ended": p.EndedAt != nil, "passphrase": p.Password != ""}
}

// Change is what is to become of a person; nil for what stays.
type Change struct {
	FullName *string
	Role     *Role
	Scope    *Scope
	Ended    *bool // they may not come in any more; their sessions and tokens end
}

// Alter changes a person. The last administrator among people stays one.
func (x *People) Alter(ctx context.Context, id ident.ID, c Change) (Person, error) {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	row, is := x.people[id]
	x.mu.RUnlock()
	if !is {
		return Person{}, fmt.Errorf("there is no such person: %w", store.ErrNotFound)
	}
	was := row
	if c.FullName != nil {
		if row.FullName = strings.TrimSpace(*c.FullName); checkFullName(row.FullName) != nil {
			return Person{}, checkFullName(row.FullName)
		}
	}
	if c.Role != nil {
		row.Role = string(*c.Role)
	}
	if c.Scope != nil {
		row.Scope = c.Scope.kept()
	}
	if err := checkScope(Role(row.Role), scopeOf(row.Scope)); err != nil {
		return Person{}, err
	}
	if c.Ended != nil && *c.Ended != (row.EndedAt != nil) {
		row.EndedAt = nil
		if *c.Ended {
			now := x.o.Now().UTC()
			row.EndedAt = &now
		}
	}
	if x.last(was) && (Role(row.Role) != Administrator || row.EndedAt != nil) {
		return Person{}, fmt.Errorf("%w: %s is the last administrator; make another one first", kind.ErrInvalid, was.Name)
	}
	if err := x.o.Store.SavePerson(ctx, row); err != nil {
		return Person{}, err
	}
	x.put(row)
	if row.EndedAt != nil && was.EndedAt == nil {
		if err := x.endAll(ctx, id); err != nil {
			return Person{}, err
		}
	}
	x.o.Notices.Changed(ctx, "person_changed", row.Name, told(was), told(row))
	return personOf(row), nil
}

// last reports whether a person is the only administrator among people who can come in.
func (x *People) last(p store.Person) bool {
	is := func(p store.Person) bool {
		return Role(p.Role) == Administrator && p.EndedAt == nil && p.Password != ""
	}
	if !is(p) {
		return false
	}
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, o := range x.people {
		if o.ID != p.ID && is(o) {
			return false
		}
	}
	return true
}

// endAll ends the sessions and the tokens of a person; a token that was ended stays so when they
// are let in again.
func (x *People) endAll(ctx context.Context, id ident.ID) error {
	now := x.o.Now().UTC()
	x.mu.Lock()
	var sessions []ident.ID
	var tokens []store.PersonToken
	for mark, s := range x.signIns {
		if s.PersonID != nil && *s.PersonID == id {
			sessions = append(sessions, s.ID)
			delete(x.signIns, mark)
		}
	}
	for mark, t := range x.tokens {
		if t.PersonID == id && t.EndedAt == nil {
			t.EndedAt = &now
			x.tokens[mark] = t
			tokens = append(tokens, t)
		}
	}
	x.tell()
	x.mu.Unlock()
	err := x.o.Store.DeleteSignIns(ctx, sessions...)
	for _, t := range tokens {
		err = errors.Join(err, x.o.Store.SavePersonToken(ctx, t))
	}
	return err
}
