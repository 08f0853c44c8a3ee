package people

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"woodlark.example/internal/kind"
)

// Scope is what somebody is let in for: agents and targets at sites, and agents with labels; any of
// them is enough, without regard to case. One of nothing is everything.
type Scope struct {
	Sites  []string `json:"sites,omitempty"`
	Labels []string `json:"labels,omitempty"`
}

const (
	mostScope = 200 // words
	mostWord  = 200 // bytes
)

// ReadScope is a scope of words as somebody wrote them: without those that are there twice. The
// error wraps kind.ErrInvalid.
func ReadScope(sites, labels []string) (s Scope, err error) {
	for _, x := range []struct {
		what string
		from []string
		into *[]string
	}{{"site", sites, &s.Sites}, {"label", labels, &s.Labels}} {
		if len(x.from) > mostScope {
			return s, fmt.Errorf("%w: %d %ss are more than %d", kind.ErrInvalid, len(x.from), x.what, mostScope)
		}
		for _, w := range x.from {
			w = strings.TrimSpace(w)
			if w == "" || len(w) > mostWord || !utf8.ValidString(w) || strings.ContainsAny(w, ",\r\n\x00") {
				return s, fmt.Errorf("%w: %q is no %s: one line of up to %d bytes without a comma", kind.ErrInvalid, kind.Shorten(w), x.what, mostWord)
			}
			if !within(*x.into, w) {
				*x.into = append(*x.into, w)
			}
		}
	}
	return s, nil
}

// All reports whether it is everything.
func (s Scope) All() bool { return len(s.Sites)+len(s.Labels) == 0 }

// Takes reports whether something is in it that stands at sites, or has labels.
func (s Scope) Takes(sites, labels []string) bool {
	return s.All() || slices.ContainsFunc(sites, func(w string) bool { return within(s.Sites, w) }) ||
		slices.ContainsFunc(labels, func(w string) bool { return within(s.Labels, w) })
}

func within(list []string, word string) bool {
	return slices.ContainsFunc(list, func(w string) bool { return strings.EqualFold(w, word) })
}

// String is the scope in words; empty for everything.
func (s Scope) String() string {
	var parts []string
	for _, x := range []struct {
		one, many string
		list      []string
	}{{"the site ", "the sites ", s.Sites}, {"the label ", "the labels ", s.Labels}} {
		switch len(x.list) {
		case 0:
		case 1:
			parts = append(parts, x.one+x.list[0])
		default:
			parts = append(parts, x.many+strings.Join(x.list, ", "))
		}
	}
	return strings.Join(parts, " and ")
}

// kept is the scope as it is kept.
func (s Scope) kept() string {
	if s.All() {
		return ""
	}
	b, _ := json.Marshal(s) // lists of words always are
	return string(b)
}

// nowhere is the scope of who is let in for what this program cannot read: nothing has a name such
// as this, so that nothing is seen by mistake.
var nowhere = Scope{Sites: []string{"(a scope that cannot be read)"}}

func scopeOf(kept string) Scope {
	if kept == "" {
		return Scope{}
	}
	var s Scope
	if json.Unmarshal([]byte(kept), &s) != nil || s.All() {
		return nowhere
	}
	return s
}

// scopesOf are those that bind somebody: all of them do.
func scopesOf(kept ...string) (list []Scope) {
	for _, k := range kept {
		if s := scopeOf(k); !s.All() {
			list = append(list, s)
		}
	}
	return list
}

// checkScope says whether somebody of a role may be let in for a part only: an administrator lets
// people in, and sees the secrets of all.
func checkScope(role Role, s Scope) error {
	if role == Administrator && !s.All() {
		return fmt.Errorf("%w: an administrator is one of everything; for %s there are viewers and engineers", kind.ErrInvalid, s)
	}
	return nil
}

// Scoped reports whether they are let in for a part only.
func (w Who) Scoped() bool { return len(w.Scopes) > 0 }

// Sees reports whether they are let in for what stands at sites, or has labels.
func (w Who) Sees(sites, labels []string) bool {
	return !slices.ContainsFunc(w.Scopes, func(s Scope) bool { return !s.Takes(sites, labels) })
}

// Scope is what they are let in for, in words; empty for everything.
func (w Who) Scope() string {
	var parts []string
	for _, s := range w.Scopes {
		parts = append(parts, s.String())
	}
	return strings.Join(parts, ", and of that ")
}

func sameScopes(a, b []Scope) bool {
	return slices.EqualFunc(a, b, func(a, b Scope) bool { return slices.Equal(a.Sites, b.Sites) && slices.Equal(a.Labels, b.Labels) })
}
