// Package guests knows the links by which somebody outside sees one board, incident, path, report
// or run, and nothing else, until a time.
//
//	link, secret, err := x.Add(ctx, guests.Spec{What: "path", Subject: id, EndsAt: friday})
//	page, err := x.Open(ctx, secret, "", address)
package guests

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/readiness"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/boards"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

// Options of Guests; all are needed.
type Options struct {
	Store     *store.Store
	Notices   *notices.Notices
	Fleet     *fleet.Fleet
	Paths     *paths.Paths
	Incidents *incidents.Incidents
	Reports   *reports.Reports
	// Boards are those that links can be of.
	Boards *boards.Boards
	Zone   *time.Location
}

// Guests are all links. It is safe for concurrent use.
type Guests struct {
	Options
	mu    sync.Mutex
	links map[[32]byte]store.GuestLink // by the hash of the secret
	pages map[ident.ID]page            // of live links, made a moment ago
	wrong map[ident.ID][]time.Time     // passphrases that were wrong lately
	// guess is held by who hashes a passphrase, and draw by who makes a page: each takes much of
	// the machine, which is not the guests'.
	guess, draw chan struct{}
}

type page struct {
	html []byte
	at   time.Time
}

// Subject is what a link shows.
type Subject struct {
	ID        string              `json:"id,omitempty"`   // of the board, incident, path or run
	Last      time.Duration       `json:"last,omitempty"` // of a path or report: how far back; live
	From      time.Time           `json:"from_at,omitzero"`
	To        time.Time           `json:"to_at,omitzero"`
	Objective string              `json:"objective,omitempty"`
	Of        selection.Selection `json:"of,omitzero"` // of a report
	// Need and Seats are what a place has to be fit for, of a readiness test by the visitor.
	Need  *readiness.Need `json:"need,omitempty"`
	Seats int             `json:"seats,omitempty"`
}

// Spec says what a link is.
type Spec struct {
	What       string // one of Kinds
	Subject    Subject
	Title      string
	Notes      string
	EndsAt     time.Time
	Passphrase string // none is asked for when empty
	Frozen     bool   // it shows what it showed when it was made
}

const (
	mostTitle      = 200
	mostNotes      = 4000
	longestLife    = 366 * 24 * time.Hour
	leastPhrase    = 8
	mostPhrase     = 200
	mostLinks      = 10_000
	shownFor       = 10 * time.Second // a live page, before it is made anew
	mostWrong      = 10               // passphrases of a link within wrongWithin
	wrongWithin    = 10 * time.Minute
	usualLast      = 24 * time.Hour
	mostLast       = 93 * 24 * time.Hour
	incidentBefore = 2 * time.Hour
)

// Errors of Open.
var (
	ErrNone       = errors.New("there is no such link")
	ErrOver       = errors.New("the link is over")
	ErrPassphrase = errors.New("a passphrase is asked for")
	ErrWrong      = errors.New("that is not the passphrase")
	ErrTooMany    = errors.New("there were too many wrong passphrases; try again in ten minutes")
)

// Kinds are what links can be of.
func Kinds() []string { return []string{"board", "incident", "path", "readiness", "report", "run"} }

// New knows no link.
func New(o Options) *Guests {
	return &Guests{Options: o, links: map[[32]byte]store.GuestLink{}, pages: map[ident.ID]page{}, wrong: map[ident.ID][]time.Time{}, guess: make(chan struct{}, 2), draw: make(chan struct{}, 1)}
}

// Load takes up the links that are kept.
func (x *Guests) Load(ctx context.Context) error {
	list, err := x.Store.GuestLinks(ctx)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.links = map[[32]byte]store.GuestLink{}
	for _, l := range list {
		x.links[[32]byte(l.SecretHash)] = l
	}
	return nil
}

// All are the links, newest first.
func (x *Guests) All() []store.GuestLink {
	x.mu.Lock()
	defer x.mu.Unlock()
	list := make([]store.GuestLink, 0, len(x.links))
	for _, l := range x.links {
		list = append(list, l)
	}
	slices.SortFunc(list, func(a, b store.GuestLink) int { return b.MadeAt.Compare(a.MadeAt) })
	return list
}

func (s Spec) check(now time.Time) error {
	switch {
	case !slices.Contains(Kinds(), s.What):
		return fmt.Errorf("%w: a link is of one of %s, not of %q", kind.ErrInvalid, strings.Join(Kinds(), ", "), kind.Shorten(s.What))
	case strings.TrimSpace(s.Title) == "" || len(s.Title) > mostTitle:
		return fmt.Errorf("%w: a link needs a title of up to %d bytes", kind.ErrInvalid, mostTitle)
	case len(s.Notes) > mostNotes:
		return fmt.Errorf("%w: the notes have %d bytes; %d at most are kept", kind.ErrInvalid, len(s.Notes), mostNotes)
	case !s.EndsAt.After(now):
		return fmt.Errorf("%w: it ends at %s, which is over", kind.ErrInvalid, s.EndsAt.UTC().Format(time.RFC3339))
	case s.EndsAt.Sub(now) > longestLife:
		return fmt.Errorf("%w: it ends at %s; a year is the longest", kind.ErrInvalid, s.EndsAt.UTC().Format(time.RFC3339))
	case s.Passphrase != "" && len(s.Passphrase) < leastPhrase || len(s.Passphrase) > mostPhrase:
		return fmt.Errorf("%w: a passphrase has %d to %d bytes", kind.ErrInvalid, leastPhrase, mostPhrase)
	case s.What == Readiness:
		return s.checkNeed()
	case s.Subject.Need != nil || s.Subject.Seats != 0:
		return fmt.Errorf("%w: need and seats are of a readiness test", kind.ErrInvalid)
	case s.What != "report" && s.Subject.ID == "":
		return fmt.Errorf("%w: say which %s", kind.ErrInvalid, s.What)
	case s.What == "report" && s.Subject.ID != "":
		return fmt.Errorf("%w: a report has no identifier", kind.ErrInvalid)
	case s.What != "report" && !s.Subject.Of.All():
		return fmt.Errorf("%w: paths are chosen for reports only", kind.ErrInvalid)
	case s.Subject.Last < 0 || s.Subject.Last > mostLast:
		return fmt.Errorf("%w: %v back is not within %d days", kind.ErrInvalid, s.Subject.Last, int(mostLast.Hours()/24))
	case s.Subject.Last > 0 && !s.Subject.From.IsZero():
		return fmt.Errorf("%w: say how far back or from when, not both", kind.ErrInvalid)
	case s.Subject.From.IsZero() != s.Subject.To.IsZero():
		return fmt.Errorf("%w: from when and to when belong together", kind.ErrInvalid)
	}
	return nil
}

// Readiness is the kind of link by which a visitor's browser measures.
const Readiness = "readiness"

// checkNeed says what is wrong of a link to measure by.
func (s Spec) checkNeed() error {
	x := s.Subject
	switch {
	case x.Need == nil || x.Need.Name == "":
		return fmt.Errorf("%w: need: say what the place has to be fit for, such as calls", kind.ErrInvalid)
	case x.Seats < 0 || x.Seats > readiness.MostSeats:
		return fmt.Errorf("%w: seats: %d is not from 1 to %d", kind.ErrInvalid, x.Seats, readiness.MostSeats)
	case s.Frozen:
		return fmt.Errorf("%w: frozen: what a visitor measures is measured then", kind.ErrInvalid)
	case x.ID != "" || x.Last != 0 || !x.From.IsZero() || !x.To.IsZero() || x.Objective != "" || !x.Of.All():
		return fmt.Errorf("%w: a readiness test takes a need and seats, and nothing else", kind.ErrInvalid)
	}
	for _, w := range x.Need.Check() {
		return fmt.Errorf("%w: need: %s", kind.ErrInvalid, w.Error())
	}
	return nil
}

// ByWhom is the link of a secret, for calls of a page that was opened; knows tells whether the
// passphrase was given. The errors are those of Open.
func (x *Guests) ByWhom(secret string, knows func(link ident.ID) bool) (l store.GuestLink, s Subject, err error) {
	if l, err = x.find(secret); err != nil {
		return l, s, err
	}
	switch {
	case l.EndedAt != nil || !time.Now().Before(l.EndsAt):
		return l, s, ErrOver
	case l.Passphrase != "" && !knows(l.ID):
		return l, s, ErrPassphrase
	}
	return l, s, json.Unmarshal([]byte(l.Subject), &s)
}

// Add makes a link. Its secret is told once, and not kept.
func (x *Guests) Add(ctx context.Context, s Spec) (l store.GuestLink, secret string, err error) {
	now := time.Now()
	if err := s.check(now); err != nil {
		return l, "", err
	}
	if len(x.All()) >= mostLinks {
		return l, "", fmt.Errorf("%w: there are %d links, as many as may be", kind.ErrInvalid, mostLinks)
	}
	if s.What == "board" { // which may come to have another name
		b, err := x.Boards.Find(s.Subject.ID)
		if err != nil {
			return l, "", err
		}
		s.Subject.ID = b.ID.String()
	}
	subject, err := json.Marshal(s.Subject)
	if err != nil {
		return l, "", err
	}
	var random [32]byte
	if _, err := rand.Read(random[:]); err != nil {
		return l, "", err
	}
	secret = base64.RawURLEncoding.EncodeToString(random[:])
	sum := sha256.Sum256([]byte(secret))
	l = store.GuestLink{ID: ident.New(), SecretHash: sum[:], Title: strings.TrimSpace(s.Title), Notes: strings.TrimSpace(s.Notes), What: s.What, Subject: string(subject), MadeBy: notices.Actor(ctx), MadeAt: now.UTC(), EndsAt: s.EndsAt.UTC()}
	// What cannot be shown is refused now, and not when somebody comes.
	var html []byte
	if s.What != Readiness {
		if html, err = x.make(ctx, l, now); err != nil {
			return l, "", err
		}
	}
	if s.Frozen {
		if l.Frozen, err = packed(html); err != nil {
			return l, "", err
		}
	}
	if s.Passphrase != "" {
		if l.Passphrase, err = keys.Hash(s.Passphrase); err != nil {
			return l, "", err
		}
	}
	if err := x.Store.SaveGuestLink(ctx, l); err != nil {
		return l, "", err
	}
	x.Notices.Changed(ctx, "guest_link_added", l.Title, nil, map[string]any{"what": l.What, "subject": s.Subject, "ends_at": l.EndsAt, "frozen": s.Frozen, "passphrase": s.Passphrase != ""})
	l.IsFrozen, l.Frozen = s.Frozen, nil
	x.mu.Lock()
	defer x.mu.Unlock()
	x.links[sum] = l
	return l, secret, nil
}

// End ends a link at once; the error wraps store.ErrNotFound.
func (x *Guests) End(ctx context.Context, id ident.ID) error {
	now := time.Now().UTC()
	x.mu.Lock()
	var sum [32]byte
	found := false
	for h, l := range x.links {
		if l.ID == id {
			sum, found = h, true
		}
	}
	x.mu.Unlock()
	if !found {
		return fmt.Errorf("guest link %s: %w", id, store.ErrNotFound)
	}
	if err := x.Store.EndGuestLink(ctx, id, now); err != nil {
		return err
	}
	x.mu.Lock()
	l := x.links[sum]
	if l.EndedAt == nil {
		l.EndedAt = &now
	}
	x.links[sum] = l
	delete(x.pages, id)
	x.mu.Unlock()
	x.Notices.Changed(ctx, "guest_link_ended", l.Title, nil, nil)
	return nil
}

// find is the link of a secret. What is compared are hashes of what was kept and what came:
// how alike they are takes no other time.
func (x *Guests) find(secret string) (store.GuestLink, error) {
	sum := sha256.Sum256([]byte(secret))
	x.mu.Lock()
	defer x.mu.Unlock()
	l, known := x.links[sum]
	if !known || subtle.ConstantTimeCompare(l.SecretHash, sum[:]) != 1 {
		return l, ErrNone
	}
	return l, nil
}

// Open is the page that a secret shows, none of a readiness test; phrase is the passphrase, if one was given, and knows
// tells whether it was given before. The errors are those above.
func (x *Guests) Open(ctx context.Context, secret, phrase string, knows func(link ident.ID) bool, address string) (html []byte, l store.GuestLink, err error) {
	if l, err = x.find(secret); err != nil {
		return nil, l, err
	}
	now := time.Now()
	outcome := "opened"
	cleared := l.Passphrase == "" || phrase == "" && knows(l.ID)
	switch {
	case l.EndedAt != nil || !now.Before(l.EndsAt):
		outcome, err = "over", ErrOver
	case !cleared && phrase == "":
		outcome, err = "asked", ErrPassphrase
	case !cleared:
		if err = x.try(ctx, l, phrase, now); err != nil {
			outcome = "wrong passphrase"
		}
	}
	if noted := x.Store.NoteGuest(ctx, store.GuestOpening{ID: ident.New(), LinkID: l.ID, At: now.UTC(), Address: address, Outcome: outcome}); noted != nil && err == nil {
		return nil, l, noted // nobody sees it unnoticed
	}
	if err != nil {
		return nil, l, err
	}
	if l.What == Readiness { // its page is the visitor's browser's own
		return nil, l, nil
	}
	html, err = x.shown(ctx, l, now)
	return html, l, err
}

// try holds a passphrase against that of a link.
func (x *Guests) try(ctx context.Context, l store.GuestLink, phrase string, now time.Time) error {
	x.mu.Lock()
	recent := slices.DeleteFunc(x.wrong[l.ID], func(t time.Time) bool { return now.Sub(t) > wrongWithin })
	x.wrong[l.ID] = recent
	x.mu.Unlock()
	if len(recent) >= mostWrong {
		return ErrTooMany
	}
	select {
	case x.guess <- struct{}{}:
		defer func() { <-x.guess }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if len(phrase) <= mostPhrase && keys.Fits(l.Passphrase, phrase) {
		return nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.wrong[l.ID] = append(x.wrong[l.ID], now)
	return ErrWrong
}

// shown is the page of a link: as it was frozen, or as it is now.
func (x *Guests) shown(ctx context.Context, l store.GuestLink, now time.Time) ([]byte, error) {
	if html := x.kept(l.ID, now); html != nil {
		return html, nil
	}
	select {
	case x.draw <- struct{}{}:
		defer func() { <-x.draw }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if html := x.kept(l.ID, now); html != nil { // made while it was waited
		return html, nil
	}
	whole, err := x.Store.GuestLink(ctx, l.ID)
	if err != nil {
		return nil, err
	}
	var html []byte
	if len(whole.Frozen) > 0 {
		html, err = unpacked(whole.Frozen)
	} else {
		html, err = x.make(ctx, l, now)
	}
	if err != nil {
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.pages) > 100 {
		x.pages = map[ident.ID]page{}
	}
	x.pages[l.ID] = page{html, now}
	return html, nil
}

// kept is the page of a link that was made a moment ago; nil when there is none.
func (x *Guests) kept(link ident.ID, now time.Time) []byte {
	x.mu.Lock()
	defer x.mu.Unlock()
	if p, known := x.pages[link]; known && now.Sub(p.at) < shownFor {
		return p.html
	}
	return nil
}

func packed(b []byte) ([]byte, error) {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(b)
	err = errors.Join(err, w.Close())
	return out.Bytes(), err
}

func unpacked(b []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}
