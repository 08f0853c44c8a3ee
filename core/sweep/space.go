// Package sweep holds what a sweep goes over and how two sweeps differ.
//
//	s, err := sweep.Parse([]string{"192.0.2.0/24", "203.0.113.10-20"}, []string{"192.0.2.7"}, sweep.Options{})
//	for i := range s.Len() { fmt.Println(s.At(i)) }
package sweep

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Most is how many addresses one sweep goes over at most.
const Most = 1 << 24

// ErrSpace is wrapped by errors about what a sweep is to go over.
var ErrSpace = errors.New("cannot be swept")

// Space is a set of addresses, in order. It is not changed once made.
type Space struct {
	ranges   []span
	before   []uint64 // addresses before each range
	length   uint64
	entries  []string
	warnings []string
}

// span is a range of addresses of one family, both ends included.
type span struct{ first, last netip.Addr }

// Options of Parse.
type Options struct {
	// Low takes of an IPv6 prefix that is too large to be gone through the
	// addresses that are given by hand: the first 256, and those that spell a
	// well-known port.
	Low bool
}

// Parse reads prefixes, ranges ("192.0.2.10-192.0.2.20" or "192.0.2.10-20") and
// single addresses, and leaves out others. Its error wraps ErrSpace. What
// overlaps is gone over once, and Warnings says so.
func Parse(entries, exclude []string, o Options) (Space, error) {
	s := Space{entries: slices.Clone(entries)}
	var all []span
	for _, e := range entries {
		list, err := parse(e, o)
		if err != nil {
			return Space{}, err
		}
		all = append(all, list...)
	}
	if len(all) == 0 {
		return Space{}, fmt.Errorf("%w: name at least one prefix, range or address", ErrSpace)
	}
	var overlap string
	s.ranges, overlap = merge(all)
	if overlap != "" {
		s.warnings = append(s.warnings, "some of the prefixes overlap (at "+overlap+"): each address is asked once")
	}
	for _, e := range exclude {
		list, err := parse(e, Options{})
		if err != nil && !errors.Is(err, errMany) {
			return Space{}, fmt.Errorf("exclude: %w", err)
		}
		for _, x := range list {
			s.ranges = without(s.ranges, x)
		}
	}
	total := new(big.Int)
	for _, r := range s.ranges {
		s.before = append(s.before, total.Uint64())
		total.Add(total, size(r))
		if total.Cmp(big.NewInt(Most)) > 0 {
			return Space{}, tooMany(strings.Join(entries, ", "), count(s.ranges))
		}
	}
	s.length = total.Uint64()
	if s.length == 0 {
		return Space{}, fmt.Errorf("%w: nothing is left after the exclusions", ErrSpace)
	}
	return s, nil
}

// errMany marks an entry that is fine but too large to be gone through.
var errMany = errors.New("too many addresses")

func tooMany(what string, n *big.Int) error {
	return fmt.Errorf("%w: %s: %w: %s are more than %d; sweep a part of them at a time", ErrSpace, what, errMany, grouped(n), Most)
}

func count(list []span) *big.Int {
	n := new(big.Int)
	for _, r := range list {
		n.Add(n, size(r))
	}
	return n
}

// grouped writes a number so that it can be read.
func grouped(n *big.Int) string {
	text := n.String()
	var out []byte
	for i := range text {
		if i > 0 && (len(text)-i)%3 == 0 {
			out = append(out, ',')
		}
		out = append(out, text[i])
	}
	return string(out)
}

func parse(entry string, o Options) ([]span, error) {
	text := strings.TrimSpace(entry)
	if strings.Contains(text, "%") {
		return nil, fmt.Errorf("%w: %q names an interface; ping such addresses one by one", ErrSpace, cut(text))
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return ofPrefix(p, o)
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return []span{{a.Unmap(), a.Unmap()}}, nil
	}
	first, last, isRange := strings.Cut(text, "-")
	a, err := netip.ParseAddr(strings.TrimSpace(first))
	if !isRange || err != nil {
		return nil, fmt.Errorf("%w: %q is no prefix, range or address, such as 192.0.2.0/24, 192.0.2.10-20 or 192.0.2.7", ErrSpace, cut(text))
	}
	b, err := netip.ParseAddr(strings.TrimSpace(last))
	if err != nil { // the last part alone
		b, err = lastPart(a, strings.TrimSpace(last))
	}
	switch {
	case err != nil || a.Is4() != b.Is4():
		return nil, fmt.Errorf("%w: %q does not end with an address or its last part", ErrSpace, cut(text))
	case b.Less(a):
		return nil, fmt.Errorf("%w: %q ends before it begins", ErrSpace, cut(text))
	}
	r := span{a, b}
	if n := size(r); n.Cmp(big.NewInt(Most)) > 0 {
		return nil, tooMany(text, n)
	}
	return []span{r}, nil
}

func cut(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

func lastPart(a netip.Addr, text string) (netip.Addr, error) {
	if a.Is4() {
		n, err := strconv.ParseUint(text, 10, 8)
		if err != nil {
			return a, err
		}
		b := a.As4()
		b[3] = byte(n)
		return netip.AddrFrom4(b), nil
	}
	n, err := strconv.ParseUint(text, 16, 16)
	if err != nil {
		return a, err
	}
	b := a.As16()
	b[14], b[15] = byte(n>>8), byte(n)
	return netip.AddrFrom16(b), nil
}

// enough is how many address bits of an IPv6 prefix are gone through.
const enough = 16

func ofPrefix(p netip.Prefix, o Options) ([]span, error) {
	p = p.Masked()
	r := span{p.Addr(), lastOf(p)}
	bits := p.Addr().BitLen() - p.Bits()
	switch {
	case p.Addr().Is6() && bits > enough && o.Low:
		return low(p), nil
	case p.Addr().Is6() && bits > enough:
		return []span{r}, fmt.Errorf("%w: %s: %w: %s cannot be gone through; name its hosts, a /112 or smaller, or ask for those that are given by hand (-low) or that this link knows (-neighbours)",
			ErrSpace, p, errMany, grouped(size(r)))
	case bits > 24:
		return []span{r}, tooMany(p.String(), size(r))
	}
	return []span{r}, nil
}

// words are the last parts of addresses that spell a well-known port.
var words = []uint16{0x25, 0x53, 0x80, 0x110, 0x123, 0x143, 0x389, 0x443, 0x853, 0x993, 0x8080, 0x8443}

// low are the addresses of a prefix that people give by hand.
func low(p netip.Prefix) []span {
	first := p.Addr().As16()
	last := first
	last[15] = 0xff
	list := []span{{p.Addr(), netip.AddrFrom16(last)}}
	for _, w := range words {
		if w > 0xff {
			a := first
			a[14], a[15] = byte(w>>8), byte(w)
			list = append(list, span{netip.AddrFrom16(a), netip.AddrFrom16(a)})
		}
	}
	return list
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

func number(a netip.Addr) *big.Int { return new(big.Int).SetBytes(a.AsSlice()) }

func size(r span) *big.Int {
	n := new(big.Int).Sub(number(r.last), number(r.first))
	return n.Add(n, big.NewInt(1))
}

// merge sorts ranges, and joins those that touch; overlap is an address that two
// of them share.
func merge(list []span) (merged []span, overlap string) {
	slices.SortFunc(list, func(a, b span) int { return a.first.Compare(b.first) })
	for _, r := range list {
		if n := len(merged); n > 0 && merged[n-1].first.Is4() == r.first.Is4() {
			last := &merged[n-1]
			if !last.last.Less(r.first) {
				if overlap == "" {
					overlap = r.first.String()
				}
				if last.last.Less(r.last) {
					last.last = r.last
				}
				continue
			}
			if last.last.Next() == r.first {
				last.last = r.last
				continue
			}
		}
		merged = append(merged, r)
	}
	return merged, overlap
}

// without takes a range out of ranges.
func without(list []span, x span) []span {
	var out []span
	for _, r := range list {
		if r.first.Is4() != x.first.Is4() || r.last.Less(x.first) || x.last.Less(r.first) {
			out = append(out, r)
			continue
		}
		if r.first.Less(x.first) {
			out = append(out, span{r.first, x.first.Prev()})
		}
		if x.last.Less(r.last) {
			out = append(out, span{x.last.Next(), r.last})
		}
	}
	return out
}

// Len is the number of addresses.
func (s Space) Len() uint64 { return s.length }

// At is the i-th address, in order of their numbers; i is below Len.
func (s Space) At(i uint64) netip.Addr {
	n, exact := slices.BinarySearch(s.before, i)
	if !exact {
		n--
	}
	return plus(s.ranges[n].first, i-s.before[n])
}

func plus(a netip.Addr, n uint64) netip.Addr {
	if a.Is4() {
		b := a.As4()
		v := uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
		v += uint32(n)
		return netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)})
	}
	b := a.As16()
	for i := 15; n > 0 && i >= 0; i-- {
		n += uint64(b[i])
		b[i] = byte(n)
		n >>= 8
	}
	return netip.AddrFrom16(b)
}

// Find is the place of an address: At(place) is the address again.
func (s Space) Find(a netip.Addr) (place uint64, ok bool) {
	for i, r := range s.ranges {
		if r.first.Is4() == a.Is4() && !a.Less(r.first) && !r.last.Less(a) {
			n := new(big.Int).Sub(number(a), number(r.first))
			return s.before[i] + n.Uint64(), true
		}
	}
	return 0, false
}

// Contains reports whether an address is one of the space.
func (s Space) Contains(a netip.Addr) bool {
	_, ok := s.Find(a)
	return ok
}

// Within reports whether all addresses of the space are in some of the prefixes;
// else it names one that is not.
func (s Space) Within(prefixes []netip.Prefix) (bool, netip.Addr) {
	left := slices.Clone(s.ranges)
	for _, p := range prefixes {
		left = without(left, span{p.Masked().Addr(), lastOf(p.Masked())})
	}
	if len(left) > 0 {
		return false, left[0].first
	}
	return true, netip.Addr{}
}

// Families reports which families the space has addresses of.
func (s Space) Families() (four, six bool) {
	for _, r := range s.ranges {
		four, six = four || r.first.Is4(), six || r.first.Is6()
	}
	return four, six
}

// Entries are the prefixes, ranges and addresses as they were asked for.
func (s Space) Entries() []string { return s.entries }

// Warnings say what is odd about what was asked for.
func (s Space) Warnings() []string { return s.warnings }

// Scope is the same for spaces of the same addresses, however they were written.
func (s Space) Scope() [32]byte {
	h := sha256.New()
	for _, r := range s.ranges {
		fmt.Fprintf(h, "%s-%s\n", r.first, r.last)
	}
	return [32]byte(h.Sum(nil))
}

// Shuffle is a permutation of 0 to n−1 that a seed gives: a full cycle over the
// next power of two, with what is beyond n passed over.
type Shuffle struct{ n, mask, step, offset uint64 }

// NewShuffle makes one.
func NewShuffle(n, seed uint64) Shuffle {
	s := Shuffle{n: n, mask: 1}
	for s.mask < n {
		s.mask <<= 1
	}
	s.mask--
	s.step = (mix(seed)&s.mask)&^3 | 1 // 1 modulo 4 gives a full cycle
	s.offset = mix(seed+1)&s.mask | 1
	return s
}

// At is where i goes; i is below n.
func (s Shuffle) At(i uint64) uint64 {
	for {
		// An odd multiplier, an odd increment and the folding of high bits onto
		// low ones are each a permutation of the power of two.
		i = (i*s.step + s.offset) & s.mask
		i ^= i >> 7
		i = i * 0x9e3779b97f4a7c15 & s.mask
		i ^= i >> 5
		if i < s.n {
			return i
		}
	}
}

func mix(v uint64) uint64 {
	v += 0x9e3779b97f4a7c15
	v = (v ^ v>>30) * 0xbf58476d1ce4e5b9
	v = (v ^ v>>27) * 0x94d049bb133111eb
	return v ^ v>>31
}
