// Package sites knows where sites are, and which targets stand at them. A site is known by its
// name, from agents and targets, before anybody says where it is.
//
//	err := x.Save(ctx, sites.Site{Name: "Holm", At: &geo.Place{Lat: 60.15, Lon: -1.14}})
//	site := x.Of("terminal.holm.example")
package sites

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"woodlark.example/core/geo"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// Options of Sites; all but Elsewhere are needed.
type Options struct {
	Store   *store.Store
	Notices *notices.Notices
	Fleet   *fleet.Fleet
	Paths   *paths.Paths
	// Elsewhere names the site of a target that no site has; "" when nothing does.
	Elsewhere func(target string) string
}

// Site is a place and what stands at it.
type Site struct {
	Name    string
	At      *geo.Place // nil when it is not known where it is
	Targets []string   // names, addresses and prefixes that are there; one of a prefix is at the longest
	Note    string
	// Agents and Paths are how many there are at it; of Paths those whose target is there.
	Agents, Paths int
	Kept          bool // somebody said something of it
}

// Sites are all of them. It is safe for concurrent use.
type Sites struct {
	Options
	change   sync.Mutex // held by who changes them, the database included
	mu       sync.RWMutex
	list     []Site // by name
	names    map[string]string
	prefixes []prefix // the longest first
}

type prefix struct {
	netip.Prefix
	site string
}

const (
	mostSites   = 5000
	mostTargets = 2000
	mostName    = 100
	mostNote    = 500
)

// New knows no site.
func New(o Options) *Sites {
	if o.Elsewhere == nil {
		o.Elsewhere = func(string) string { return "" }
	}
	return &Sites{Options: o, names: map[string]string{}}
}

// Load takes up what is kept.
func (x *Sites) Load(ctx context.Context) error {
	rows, err := x.Store.Sites(ctx)
	if err != nil {
		return err
	}
	list := make([]Site, len(rows))
	for i, r := range rows {
		list[i] = Site{Name: r.Name, Note: r.Note, Kept: true}
		if r.Lat != nil && r.Lon != nil {
			list[i].At = &geo.Place{Lat: *r.Lat, Lon: *r.Lon}
		}
		if err := json.Unmarshal([]byte(r.Targets), &list[i].Targets); err != nil {
			return fmt.Errorf("read site %q: %w", r.Name, err)
		}
	}
	x.set(list)
	return nil
}

// set makes a list that which is known.
func (x *Sites) set(list []Site) {
	slices.SortFunc(list, func(a, b Site) int { return cmp.Compare(a.Name, b.Name) })
	names := map[string]string{}
	var prefixes []prefix
	for _, s := range list {
		for _, t := range s.Targets {
			if p, err := netip.ParsePrefix(t); err == nil {
				prefixes = append(prefixes, prefix{p, s.Name})
				continue
			}
			names[plain(t)] = s.Name
		}
	}
	slices.SortStableFunc(prefixes, func(a, b prefix) int { return b.Bits() - a.Bits() })
	x.mu.Lock()
	defer x.mu.Unlock()
	x.list, x.names, x.prefixes = list, names, prefixes
}

// plain is a name or an address as it is compared.
func plain(target string) string {
	if a, err := netip.ParseAddr(target); err == nil {
		return a.Unmap().String()
	}
	return strings.ToLower(strings.TrimSuffix(target, "."))
}

// Of is the site of a target, which may be an agent's name; "" when it is not known.
func (x *Sites) Of(target string) string {
	if a, err := x.Fleet.Named(target); err == nil && a.Site != "" {
		return a.Site
	}
	return x.OfTarget(target)
}

// OfTarget is the site of a target that is no agent's name.
func (x *Sites) OfTarget(target string) string {
	if site := x.said(target); site != "" {
		return site
	}
	return x.Elsewhere(target)
}

func (x *Sites) said(target string) string {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if site := x.names[plain(target)]; site != "" {
		return site
	}
	a, err := netip.ParseAddr(target)
	if err != nil {
		return ""
	}
	for _, p := range x.prefixes {
		if p.Contains(a.Unmap().WithZone("")) {
			return p.site
		}
	}
	return ""
}

// All are all sites by name: those that somebody said something of, and those that agents and
// targets are at.
func (x *Sites) All() []Site {
	known := map[string]*Site{}
	at := func(name string) *Site {
		if known[name] == nil {
			known[name] = &Site{Name: name}
		}
		return known[name]
	}
	x.mu.RLock()
	for _, s := range x.list {
		known[s.Name] = &s
	}
	x.mu.RUnlock()
	for _, a := range x.Fleet.All() {
		if a.Site != "" {
			at(a.Site).Agents++
		}
	}
	for _, p := range x.Paths.All() {
		if site := p.SiteNow(); site != "" {
			at(site).Paths++
		}
	}
	list := make([]Site, 0, len(known))
	for _, s := range known {
		list = append(list, *s)
	}
	slices.SortFunc(list, func(a, b Site) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// At is where a site is; nil when that is not known.
func (x *Sites) At(name string) *geo.Place {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if i := slices.IndexFunc(x.list, func(s Site) bool { return s.Name == name }); i >= 0 {
		return x.list[i].At
	}
	return nil
}

func (s *Site) check() error {
	s.Name, s.Note = strings.TrimSpace(s.Name), strings.TrimSpace(s.Note)
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: site %q: %s", kind.ErrInvalid, kind.Shorten(s.Name), fmt.Sprintf(format, args...))
	}
	switch {
	case s.Name == "":
		return fmt.Errorf("%w: a site needs a name", kind.ErrInvalid)
	case len(s.Name) > mostName || !utf8.ValidString(s.Name) || strings.ContainsFunc(s.Name, unicode.IsControl):
		return wrong("a name is of up to %d bytes of UTF-8 in one line", mostName)
	case len(s.Note) > mostNote || !utf8.ValidString(s.Note):
		return wrong("a note is of up to %d bytes of UTF-8", mostNote)
	case len(s.Targets) > mostTargets:
		return wrong("%d targets are more than %d; name a prefix", len(s.Targets), mostTargets)
	}
	if s.At != nil {
		if err := s.At.Check(); err != nil {
			return wrong("%v", err)
		}
	}
	for i, t := range s.Targets {
		t = strings.TrimSpace(t)
		if p, err := netip.ParsePrefix(t); err == nil {
			if p.Addr().Is4In6() {
				return wrong("%s is an IPv4 prefix in IPv6's clothes; write it as that of IPv4", t)
			}
			if p != p.Masked() {
				return wrong("%s has bits behind its length; %s is meant, or a longer one", t, p.Masked())
			}
		} else if t == "" || len(t) > 253 || strings.ContainsAny(t, " \t\n/,;") {
			return wrong("%q is no name, address or prefix", kind.Shorten(t))
		}
		s.Targets[i] = t
	}
	slices.Sort(s.Targets)
	s.Targets = slices.Compact(s.Targets)
	return nil
}

// Save keeps sites, all or none; those that are there are replaced. A target is at one site: what
// another site has is refused.
func (x *Sites) Save(ctx context.Context, list ...Site) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	was := slices.Clone(x.list)
	x.mu.RUnlock()
	all := slices.Clone(was)
	given := map[string]bool{}
	rows := make([]store.Site, len(list))
	for i := range list {
		s := list[i]
		s.Targets = slices.Clone(s.Targets)
		if err := s.check(); err != nil {
			return err
		}
		if given[s.Name] {
			return fmt.Errorf("%w: site %q is given twice", kind.ErrInvalid, s.Name)
		}
		given[s.Name], s.Kept, s.Agents, s.Paths = true, true, 0, 0
		all = append(slices.DeleteFunc(all, func(o Site) bool { return o.Name == s.Name }), s)
		targets, err := json.Marshal(append([]string{}, s.Targets...))
		if err != nil {
			return err
		}
		rows[i] = store.Site{Name: s.Name, Targets: string(targets), Note: s.Note, ChangedAt: time.Now().UTC()}
		if s.At != nil {
			rows[i].Lat, rows[i].Lon = &s.At.Lat, &s.At.Lon
		}
	}
	if len(all) > mostSites {
		return fmt.Errorf("%w: that makes %d sites; %d at most are kept", kind.ErrInvalid, len(all), mostSites)
	}
	has := map[string]string{}
	for _, s := range all {
		for _, t := range s.Targets {
			if other := has[plain(t)]; other != "" {
				return fmt.Errorf("%w: %s is at site %q already; it cannot be at %q, too", kind.ErrInvalid, t, other, s.Name)
			}
			has[plain(t)] = s.Name
		}
	}
	if len(rows) == 0 {
		return nil
	}
	if err := x.Store.SaveSites(ctx, rows); err != nil {
		return err
	}
	x.set(all)
	for _, s := range list {
		i := slices.IndexFunc(was, func(o Site) bool { return o.Name == s.Name })
		if i < 0 {
			x.Notices.Changed(ctx, "site_added", s.Name, nil, told(s))
		} else {
			x.Notices.Changed(ctx, "site_changed", s.Name, told(was[i]), told(s))
		}
	}
	return x.Paths.Move(ctx, x.Of)
}

func told(s Site) map[string]any {
	out := map[string]any{"targets": s.Targets, "note": s.Note}
	if s.At != nil {
		out["at"] = s.At.String()
	}
	return out
}

// Remove forgets what somebody said of a site; agents and targets that are at it stay there. The
// error wraps store.ErrNotFound.
func (x *Sites) Remove(ctx context.Context, name string) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	all := slices.Clone(x.list)
	x.mu.RUnlock()
	i := slices.IndexFunc(all, func(s Site) bool { return s.Name == name })
	if i < 0 {
		return fmt.Errorf("of site %q nothing was said: %w", kind.Shorten(name), store.ErrNotFound)
	}
	if err := x.Store.DeleteSite(ctx, name); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "site_removed", name, told(all[i]), nil)
	x.set(slices.Delete(all, i, i+1))
	return x.Paths.Move(ctx, x.Of)
}
