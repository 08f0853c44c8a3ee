// Package dossiers puts evidence together for somebody else: what was measured of some paths in
// a time, the report of it, routes both ways, runs, captures, and under which conditions.
//
//	err := x.Write(ctx, file, dossiers.Spec{From: began, To: now, Selection: s})
package dossiers

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/route"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/annotations"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Options of Dossiers; all are needed.
type Options struct {
	Store       *store.Store
	Fleet       *fleet.Fleet
	Paths       *paths.Paths
	Watches     *watches.Watches
	Reports     *reports.Reports
	Annotations *annotations.Annotations
	Owners      func() route.Owners
	Zone        *time.Location
	// Settings are what the service goes by, in words, by name.
	Settings map[string]string
}

// Dossiers makes dossiers. It is safe for concurrent use.
type Dossiers struct{ Options }

// New makes none yet.
func New(o Options) *Dossiers { return &Dossiers{o} }

// Spec says what a dossier is of.
type Spec struct {
	From, To  time.Time
	Paths     []ident.ID // these; those of the selection when none
	Objective string
	Title     string
	Version   string // of the program
	// Mask has addresses of one's own replaced, each by another everywhere alike.
	Mask bool
	selection.Selection
}

const (
	mostPaths    = 200
	mostPathDays = 2000
	mostRuns     = 5000
	keyName      = "dossiers"
)

// Key is the key that dossiers are signed with.
func (x *Dossiers) Key(ctx context.Context) (ed25519.PrivateKey, error) {
	seed, err := x.Store.SigningSeed(ctx, keyName)
	if err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// making is a dossier as it comes about.
type making struct {
	*Dossiers
	Spec
	now   time.Time
	paths []*paths.Path
	mask  *mask
	left  []string // what is not in it, and why
	// routes and owners are of the time and the last before.
	routes []routed
	owners []owned
	to     *dossier.Writer
}

// Write writes a dossier; the error wraps kind.ErrInvalid or store.ErrNotFound when it cannot be.
func (x *Dossiers) Write(ctx context.Context, w io.Writer, s Spec) error {
	now := time.Now()
	if s.To.IsZero() || s.To.After(now) {
		s.To = now
	}
	m := &making{Dossiers: x, Spec: s, now: now, left: []string{}, owners: []owned{}}
	if err := m.choose(); err != nil {
		return err
	}
	for _, p := range m.paths {
		m.Spec.Paths = append(m.Spec.Paths, p.ID)
	}
	report, err := x.Reports.Make(ctx, reports.Spec{From: s.From, To: s.To, Objective: s.Objective, Title: s.Title, Paths: m.Spec.Paths})
	if err != nil {
		return err
	}
	key, err := x.Key(ctx)
	if err != nil {
		return err
	}
	if m.mask = newMask(s.Mask, x.own); s.Mask {
		for _, a := range x.Fleet.Agents() {
			m.mask.agent(a)
		}
	}
	if err := m.findRoutes(ctx); err != nil {
		return err
	}
	m.to = dossier.New(w, key, now)
	for _, write := range []func(context.Context) error{
		func(context.Context) error { return m.report(report) }, m.readings, func(context.Context) error { return m.json("routes.json", m.routes) }, m.runs,
		func(context.Context) error { return m.conditions(key, report) },
		func(context.Context) error { return m.readme(report) },
	} {
		if err := write(ctx); err != nil {
			return err
		}
	}
	return m.to.Close()
}

// choose finds the paths that it is of.
func (m *making) choose() error {
	if err := m.Selection.Check(); err != nil {
		return err
	}
	if len(m.Spec.Paths) == 0 && m.Selection.All() {
		return fmt.Errorf("%w: say of which paths: sites, agents, targets or tags", kind.ErrInvalid)
	}
	if !m.From.Before(m.To) {
		return fmt.Errorf("%w: from_at %s is not before to_at %s", kind.ErrInvalid, m.From.UTC().Format(time.RFC3339), m.To.UTC().Format(time.RFC3339))
	}
	chosen := m.Spec.Paths
	m.Spec.Paths = nil
	for _, id := range chosen {
		p := m.Dossiers.Paths.ByID(id)
		if p == nil {
			return fmt.Errorf("path %s: %w", id, store.ErrNotFound)
		}
		m.paths = append(m.paths, p)
	}
	if len(chosen) == 0 {
		of := selection.New(m.Dossiers.Paths, m.Fleet, m.Watches)
		for _, p := range m.Dossiers.Paths.All() {
			if m.Selection.Takes(of.Path(p)) {
				m.paths = append(m.paths, p)
			}
		}
	}
	slices.SortFunc(m.paths, func(a, b *paths.Path) int { return slices.Compare(a.ID[:], b.ID[:]) })
	m.paths = slices.Compact(m.paths)
	days := m.To.Sub(m.From).Hours() / 24 * float64(len(m.paths))
	switch {
	case len(m.paths) == 0:
		return fmt.Errorf("%w: no path is meant by %s", kind.ErrInvalid, m.Selection)
	case len(m.paths) > mostPaths:
		return fmt.Errorf("%w: a dossier is of up to %d paths, and these are %d", kind.ErrInvalid, mostPaths, len(m.paths))
	case days > mostPathDays:
		return fmt.Errorf("%w: a dossier is of up to %d days of one path, or so many fewer of more; these are %.0f", kind.ErrInvalid, mostPathDays, days)
	}
	return nil
}

// own reports whether an address is of ours: by the table of owners, or because nobody outside
// can have it.
func (x *Dossiers) own(a netip.Addr) bool {
	if o, known := x.Owners().Of(a); known {
		return o.Kind == route.Ours
	}
	return a.IsPrivate() || a.IsLinkLocalUnicast()
}

// json writes a value, masked.
func (m *making) json(name string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return m.file(name, m.mask.bytes(append(b, '\n')))
}

func (m *making) file(name string, data []byte) error {
	f, err := m.to.Create(name)
	if err == nil {
		_, err = f.Write(data)
	}
	return err
}
