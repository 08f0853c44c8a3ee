package people

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/store"
)

// Token is a key of a person's programs.
type Token struct {
	ID        ident.ID
	Person    ident.ID
	Name      string // of the person
	Title     string
	Role      Role
	Scope     Scope
	CreatedAt time.Time
	EndsAt    *time.Time
	EndedAt   *time.Time
	UsedAt    *time.Time
	UsedFrom  string
}

// State is open, ended or over.
func (t Token) State(now time.Time) string {
	switch {
	case t.EndedAt != nil:
		return "ended"
	case t.EndsAt != nil && !now.Before(*t.EndsAt):
		return "over"
	}
	return "open"
}

func (x *People) tokenOf(t store.PersonToken) Token {
	return Token{t.ID, t.PersonID, x.people[t.PersonID].Name, t.Title, Role(t.Role), scopeOf(t.Scope), t.CreatedAt, t.EndsAt, t.EndedAt, t.UsedAt, t.UsedFrom}
}

// Tokens are those of all, or of one person; the newest first.
func (x *People) Tokens(of *ident.ID) (list []Token) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, t := range x.tokens {
		if of == nil || t.PersonID == *of {
			list = append(list, x.tokenOf(t))
		}
	}
	slices.SortFunc(list, func(a, b Token) int { return b.CreatedAt.Compare(a.CreatedAt) })
	return list
}

// AddToken makes a token of a person, with a role that is no more than theirs and for what is in its
// scope and theirs, until a time or until it is ended. It is told once, and not kept.
func (x *People) AddToken(ctx context.Context, of ident.ID, title string, role Role, scope Scope, ends *time.Time) (Token, string, error) {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	p, is := x.people[of]
	x.mu.RUnlock()
	now := x.o.Now().UTC()
	title = strings.TrimSpace(title)
	switch {
	case !is:
		return Token{}, "", fmt.Errorf("there is no such person: %w", store.ErrNotFound)
	case p.EndedAt != nil:
		return Token{}, "", fmt.Errorf("%w: %s may not come in", kind.ErrInvalid, p.Name)
	case title == "" || len(title) > mostTitle || checkFullName(title) != nil:
		return Token{}, "", fmt.Errorf("%w: a token needs a title of up to %d bytes in one line: what it is for", kind.ErrInvalid, mostTitle)
	case role.rank() > Role(p.Role).rank():
		return Token{}, "", fmt.Errorf("%w: %s is %s; a token of theirs may be no more", kind.ErrInvalid, p.Name, p.Role)
	case checkScope(role, scope) != nil:
		return Token{}, "", checkScope(role, scope)
	case ends != nil && !ends.After(now):
		return Token{}, "", fmt.Errorf("%w: a token ends after now", kind.ErrInvalid)
	case len(x.Tokens(nil)) >= mostTokens:
		return Token{}, "", fmt.Errorf("%w: there are %d tokens, as many as may be", kind.ErrInvalid, mostTokens)
	}
	key := keys.New("wlk")
	row := store.PersonToken{ID: ident.New(), Mark: keys.Mark(key), PersonID: of, Title: title, Role: string(role), Scope: scope.kept(), CreatedAt: now}
	if ends != nil {
		at := ends.UTC()
		row.EndsAt = &at
	}
	if err := x.o.Store.SavePersonToken(ctx, row); err != nil {
		return Token{}, "", err
	}
	x.mu.Lock()
	x.tokens[[32]byte(row.Mark)] = row
	t := x.tokenOf(row)
	x.mu.Unlock()
	x.o.Notices.Changed(ctx, "token_added", title, nil, map[string]any{"token": row.ID.String(), "person": p.Name, "role": role, "scope": scope.String(), "ends_at": row.EndsAt})
	return t, key, nil
}

// EndToken ends a token; the error wraps store.ErrNotFound.
func (x *People) EndToken(ctx context.Context, id ident.ID) error {
	x.change.Lock()
	defer x.change.Unlock()
	now := x.o.Now().UTC()
	x.mu.Lock()
	var row store.PersonToken
	for mark, t := range x.tokens {
		if t.ID != id {
			continue
		}
		if row = t; t.EndedAt == nil {
			row.EndedAt = &now
			x.tokens[mark] = row
		}
	}
	x.tell()
	name := x.people[row.PersonID].Name
	x.mu.Unlock()
	if row.ID == (ident.ID{}) {
		return fmt.Errorf("there is no such token: %w", store.ErrNotFound)
	}
	if err := x.o.Store.SavePersonToken(ctx, row); err != nil {
		return err
	}
	x.o.Notices.Changed(ctx, "token_ended", row.Title, map[string]any{"token": id.String(), "person": name}, nil)
	return nil
}

// ByToken is who has a key of a program; false for nobody. A token may do no more than its person.
func (x *People) ByToken(ctx context.Context, key, address string) (Who, bool) {
	x.mu.RLock()
	if x.isMachine(keys.Mark(key)) {
		x.mu.RUnlock()
		return Who{Name: "administrator", Role: Administrator, Way: ByMachine, Address: address}, true
	}
	mark := [32]byte(keys.Mark(key))
	t, is := x.tokens[mark]
	w, may := x.whoUses(t, address)
	x.mu.RUnlock()
	now := x.o.Now().UTC()
	if !is || !may {
		return Who{}, false
	}
	if t.UsedAt == nil || now.Sub(*t.UsedAt) >= seenEvery || t.UsedFrom != address {
		t.UsedAt, t.UsedFrom = &now, address
		x.mu.Lock()
		if o, still := x.tokens[mark]; still && o.EndedAt == nil {
			x.tokens[mark] = t
		}
		x.mu.Unlock()
		x.later(ctx, "a token", func(ctx context.Context) error { return x.o.Store.UsedPersonToken(ctx, t.ID, now, address) })
	}
	return w, true
}

// whoUses is who has a token, as they are now; false for nobody. x.mu is held.
func (x *People) whoUses(t store.PersonToken, address string) (Who, bool) {
	p, known := x.people[t.PersonID]
	if !known || p.EndedAt != nil || x.open(t, x.o.Now().UTC()) != nil {
		return Who{}, false
	}
	role := Role(t.Role)
	if role.rank() > Role(p.Role).rank() {
		role = Role(p.Role)
	}
	return Who{Person: p.ID, Name: p.Name, Role: role, Scopes: scopesOf(p.Scope, t.Scope), Way: ByToken, Token: t.ID, EndsAt: t.EndsAt, Address: address}, true
}

// open says why a token is good no more.
func (x *People) open(t store.PersonToken, now time.Time) error {
	if t.EndedAt != nil || t.EndsAt != nil && !now.Before(*t.EndsAt) {
		return ErrNotIn
	}
	return nil
}
