// Package owners knows who has which prefixes: those of the settings' file, and those that people
// said, which count more.
//
//	err := x.Save(ctx, owner)
//	o, known := x.Table().Of(address)
package owners

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"woodlark.example/core/route"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

// Owners are all of them. It is safe for concurrent use.
type Owners struct {
	store   *store.Store
	notices *notices.Notices
	given   route.Owners // of the settings
	change  sync.Mutex   // held by who changes them, the database included
	mu      sync.RWMutex
	own     []route.Owner
	table   route.Owners
}

// Owner is who has a prefix.
type Owner struct {
	route.Owner
	Given bool // by the settings: it can be said otherwise, and not be removed
}

const (
	mostOwners = 20_000
	mostName   = 100
)

// New knows those that the settings give.
func New(s *store.Store, n *notices.Notices, given route.Owners) *Owners {
	return &Owners{store: s, notices: n, given: given, table: given}
}

// Load takes up those that people said.
func (x *Owners) Load(ctx context.Context) error {
	rows, err := x.store.Owners(ctx)
	if err != nil {
		return err
	}
	own := make([]route.Owner, len(rows))
	for i, r := range rows {
		if own[i], err = route.ParseOwner(r.Prefix, r.Name, r.Kind); err != nil {
			return fmt.Errorf("read the owner of %s: %w", r.Prefix, err)
		}
	}
	x.set(own)
	return nil
}

func (x *Owners) set(own []route.Owner) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.own, x.table = own, route.OwnersOf(append(slices.Clone(own), x.given.All()...)...)
}

// Table is what counts now.
func (x *Owners) Table() route.Owners {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.table
}

// All are all owners, by prefix.
func (x *Owners) All() []Owner {
	x.mu.RLock()
	own := map[netip.Prefix]bool{}
	for _, o := range x.own {
		own[o.Prefix] = true
	}
	table := x.table.All()
	x.mu.RUnlock()
	list := make([]Owner, len(table))
	for i, o := range table {
		list[i] = Owner{o, !own[o.Prefix]}
	}
	slices.SortFunc(list, func(a, b Owner) int {
		if d := a.Prefix.Addr().Compare(b.Prefix.Addr()); d != 0 {
			return d
		}
		return a.Prefix.Bits() - b.Prefix.Bits()
	})
	return list
}

// Save keeps owners, all or none; those that are there are replaced.
func (x *Owners) Save(ctx context.Context, list ...route.Owner) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	all := slices.Clone(x.own)
	x.mu.RUnlock()
	given := map[netip.Prefix]bool{}
	rows := make([]store.PrefixOwner, len(list))
	before := map[netip.Prefix]string{}
	for _, o := range all {
		before[o.Prefix] = o.Name + ", " + string(o.Kind)
	}
	for i, o := range list {
		switch {
		case given[o.Prefix]:
			return fmt.Errorf("%w: prefix %s is given twice", kind.ErrInvalid, o.Prefix)
		case len(o.Name) > mostName || !utf8.ValidString(o.Name):
			return fmt.Errorf("%w: the owner of %s has a name of more than %d bytes of UTF-8", kind.ErrInvalid, o.Prefix, mostName)
		}
		given[o.Prefix] = true
		rows[i] = store.PrefixOwner{Prefix: o.Prefix.String(), Name: o.Name, Kind: string(o.Kind), ChangedAt: time.Now().UTC()}
	}
	all = append(slices.DeleteFunc(all, func(o route.Owner) bool { return given[o.Prefix] }), list...)
	if len(all) > mostOwners {
		return fmt.Errorf("%w: that makes %d owners; %d at most are kept", kind.ErrInvalid, len(all), mostOwners)
	}
	if len(rows) == 0 {
		return nil
	}
	if err := x.store.SaveOwners(ctx, rows); err != nil {
		return err
	}
	x.set(all)
	for _, o := range list {
		x.notices.Changed(ctx, "owner_set", o.Prefix.String(), before[o.Prefix], o.Name+", "+string(o.Kind))
	}
	return nil
}

// Remove forgets what people said of a prefix; the error wraps store.ErrNotFound, or
// kind.ErrInvalid when the settings say it.
func (x *Owners) Remove(ctx context.Context, p netip.Prefix) error {
	x.change.Lock()
	defer x.change.Unlock()
	x.mu.RLock()
	all := slices.Clone(x.own)
	x.mu.RUnlock()
	i := slices.IndexFunc(all, func(o route.Owner) bool { return o.Prefix == p })
	if i < 0 {
		if slices.ContainsFunc(x.given.All(), func(o route.Owner) bool { return o.Prefix == p }) {
			return fmt.Errorf("%w: who has %s stands in the settings' file; change it there, or say otherwise here", kind.ErrInvalid, p)
		}
		return fmt.Errorf("an owner of %s: %w", p, store.ErrNotFound)
	}
	if err := x.store.DeleteOwner(ctx, p.String()); err != nil {
		return err
	}
	x.notices.Changed(ctx, "owner_removed", p.String(), all[i].Name+", "+string(all[i].Kind), nil)
	x.set(slices.Delete(all, i, i+1))
	return nil
}
