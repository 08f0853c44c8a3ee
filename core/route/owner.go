package route

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
)

// Segment is whose part of the way an address belongs to.
type Segment string

// The segments.
const (
	Ours    Segment = "ours"
	Access  Segment = "access"
	Transit Segment = "transit"
	FarEnd  Segment = "far end"
)

// Owner is who has a prefix.
type Owner struct {
	Prefix netip.Prefix
	Name   string
	Kind   Segment
}

// Owners is a table of prefixes and who has them.
type Owners struct {
	list []Owner // the longest prefix first
}

// ParseOwners reads a table in CSV (RFC 4180): prefix, owner, kind, with or without
// that line of headings. Kind is ours, access, transit or far end. The error names
// each bad line; a prefix twice with different owners is one. A prefix within
// another is not: the longer one counts.
func ParseOwners(r io.Reader) (Owners, error) {
	reader := csv.NewReader(r)
	reader.FieldsPerRecord = -1
	reader.Comment = '#'
	reader.TrimLeadingSpace = true
	var o Owners
	var errs []error
	lines := map[netip.Prefix]int{}
	for first := true; ; first = false {
		fields, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			errs = append(errs, err)
			if len(errs) > 20 {
				break
			}
			continue
		}
		line, _ := reader.FieldPos(0)
		if first && strings.EqualFold(strings.TrimSpace(fields[0]), "prefix") {
			continue
		}
		owner, err := parseOwner(fields)
		if err == nil && lines[owner.Prefix] > 0 {
			err = fmt.Errorf("prefix %s is in line %d already; leave one of them out", owner.Prefix, lines[owner.Prefix])
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("line %d: %w", line, err))
			continue
		}
		lines[owner.Prefix] = line
		o.list = append(o.list, owner)
	}
	slices.SortStableFunc(o.list, func(a, b Owner) int { return b.Prefix.Bits() - a.Prefix.Bits() })
	return o, errors.Join(errs...)
}

func parseOwner(fields []string) (Owner, error) {
	for i := range fields {
		fields[i] = strings.TrimSpace(fields[i])
	}
	if len(fields) != 3 {
		return Owner{}, fmt.Errorf("%d fields instead of three: prefix, owner, kind", len(fields))
	}
	p, err := netip.ParsePrefix(fields[0])
	if a, bad := netip.ParseAddr(fields[0]); err != nil && bad == nil {
		p, err = netip.PrefixFrom(a, a.BitLen()), nil
	}
	switch {
	case err != nil:
		return Owner{}, fmt.Errorf("%q is no prefix, such as 203.0.113.0/24 or 2001:db8::/32", fields[0])
	case p.Addr().Is4In6():
		return Owner{}, fmt.Errorf("%s is an IPv4 prefix in IPv6's clothes; write it as that of IPv4", p)
	case p != p.Masked():
		return Owner{}, fmt.Errorf("%s has bits behind its length; %s is meant, or a longer one", p, p.Masked())
	case fields[1] == "":
		return Owner{}, fmt.Errorf("%s has no owner", p)
	}
	kind := Segment(strings.ToLower(fields[2]))
	if !slices.Contains([]Segment{Ours, Access, Transit, FarEnd}, kind) {
		return Owner{}, fmt.Errorf("kind %q is none of ours, access, transit, far end", fields[2])
	}
	return Owner{p, fields[1], kind}, nil
}

// OwnersOf is a table of owners that were read already; of a prefix that is there twice the first
// counts.
func OwnersOf(list ...Owner) (o Owners) {
	known := map[netip.Prefix]bool{}
	for _, x := range list {
		if !known[x.Prefix] {
			known[x.Prefix] = true
			o.list = append(o.list, x)
		}
	}
	slices.SortStableFunc(o.list, func(a, b Owner) int { return b.Prefix.Bits() - a.Prefix.Bits() })
	return o
}

// All are the owners, that of the longest prefix first.
func (o Owners) All() []Owner { return slices.Clone(o.list) }

// ParseOwner reads an owner from its parts.
func ParseOwner(prefix, name, kind string) (Owner, error) {
	return parseOwner([]string{prefix, name, kind})
}

// Of is who has an address; false when the table does not say.
func (o Owners) Of(a netip.Addr) (Owner, bool) {
	a = a.WithZone("").Unmap()
	for _, x := range o.list {
		if x.Prefix.Contains(a) {
			return x, true
		}
	}
	return Owner{}, false
}

// Empty reports whether the table has no lines.
func (o Owners) Empty() bool { return len(o.list) == 0 }
