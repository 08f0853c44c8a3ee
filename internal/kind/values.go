package kind

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/dscp"
	"woodlark.example/core/reading"
	"woodlark.example/wire"
)

// The values of specs have one text form, which is the same on a command line, in JSON and in
// a file. Set reads it; what JSON writes as a number or a boolean is read as its text.

// Span is a length of time, written as 1s or 20ms.
type Span time.Duration

// String writes it as time.Duration does; nothing when it is 0.
func (s Span) String() string {
	if s == 0 {
		return ""
	}
	return time.Duration(s).String()
}

// Set reads a span.
func (s *Span) Set(text string) error {
	if text == "" || text == "0" {
		*s = 0
		return nil
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("%q is not a span of time such as 10s or 20ms", short(text))
	}
	*s = Span(d)
	return nil
}

// MarshalText writes it.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalJSON reads it.
func (s *Span) UnmarshalJSON(b []byte) error { return setJSON(s, b) }

// MaybeSpan is a span that may be left open, which is something else than 0.
type MaybeSpan struct {
	Span  Span
	Given bool
}

// String writes it; nothing when it is open.
func (s MaybeSpan) String() string {
	switch {
	case !s.Given:
		return ""
	case s.Span == 0:
		return "0s"
	}
	return s.Span.String()
}

// Set reads it.
func (s *MaybeSpan) Set(text string) error {
	s.Given = text != ""
	return s.Span.Set(text)
}

// MarshalText writes it.
func (s MaybeSpan) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalJSON reads it.
func (s *MaybeSpan) UnmarshalJSON(b []byte) error { return setJSON(s, b) }

// Family is by which families of addresses a target that is a name is measured.
type Family string

// String writes it.
func (f Family) String() string { return string(f) }

// Set reads it.
func (f *Family) Set(text string) error {
	switch text {
	case "", "4", "6", "both":
		*f = Family(text)
		return nil
	}
	return fmt.Errorf("%q is none of 4, 6, both", short(text))
}

// MarshalText writes it.
func (f Family) MarshalText() ([]byte, error) { return []byte(f), nil }

// UnmarshalJSON reads it.
func (f *Family) UnmarshalJSON(b []byte) error { return setJSON(f, b) }

// One is the family when there is only one that is meant, else 0.
func (f Family) One() wire.Family {
	switch f {
	case "4":
		return wire.IPv4
	case "6":
		return wire.IPv6
	}
	return 0
}

// Vias are the kinds of probes by which targets are asked, written with commas between.
type Vias []reading.Via

// String writes them.
func (v Vias) String() string {
	list := make([]string, len(v))
	for i, x := range v {
		list[i] = x.String()
	}
	return strings.Join(list, ",")
}

// Set reads them.
func (v *Vias) Set(text string) error {
	list, err := reading.ParseVias(text)
	if err == nil {
		*v = list
	}
	return err
}

// MarshalText writes them.
func (v Vias) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalJSON reads them.
func (v *Vias) UnmarshalJSON(b []byte) error { return setJSON(v, b) }

// Rate is a number of bits a second: in JSON a number, else such as 20M. 0 is none.
type Rate capacity.Rate

// String writes it so that Set reads the same again.
func (r Rate) String() string {
	if r == 0 {
		return ""
	}
	return strconv.FormatFloat(float64(r), 'g', -1, 64)
}

// Set reads it.
func (r *Rate) Set(text string) error {
	if text == "" || text == "0" {
		*r = 0
		return nil
	}
	v, err := capacity.ParseRate(text)
	if err != nil {
		return err
	}
	*r = Rate(v)
	return nil
}

// MarshalJSON writes it as a number.
func (r Rate) MarshalJSON() ([]byte, error) { return json.Marshal(float64(r)) }

// UnmarshalJSON reads a number, or a text such as 20M.
func (r *Rate) UnmarshalJSON(b []byte) error { return setJSON(r, b) }

// Packets is a number of packets a second; infinite is as fast as it goes.
type Packets float64

// Unlimited is as fast as it goes.
var Unlimited = Packets(math.Inf(1))

// MostPackets is the highest rate of packets that can be asked for.
const MostPackets = 10_000_000

// String writes it.
func (p Packets) String() string {
	if p == Unlimited {
		return "unlimited"
	}
	return strconv.FormatFloat(float64(p), 'f', -1, 64)
}

// Set reads it.
func (p *Packets) Set(text string) error {
	if text == "unlimited" {
		*p = Unlimited
		return nil
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || !(v >= 1) || v > MostPackets {
		return fmt.Errorf("%q is neither a number of packets a second from 1 to 10,000,000 nor unlimited", short(text))
	}
	*p = Packets(v)
	return nil
}

// MarshalJSON writes it as a number, or as "unlimited".
func (p Packets) MarshalJSON() ([]byte, error) {
	if p == Unlimited {
		return json.Marshal(p.String())
	}
	return json.Marshal(float64(p))
}

// UnmarshalJSON reads it.
func (p *Packets) UnmarshalJSON(b []byte) error { return setJSON(p, b) }

// Class is a service class, by its name or its number.
type Class dscp.Point

// String writes it; nothing when it asks for nothing.
func (c Class) String() string {
	if c == 0 {
		return ""
	}
	return dscp.Point(c).String()
}

// Set reads it.
func (c *Class) Set(text string) error {
	p, err := dscp.Parse(text)
	if err == nil {
		*c = Class(p)
	}
	return err
}

// MarshalText writes it.
func (c Class) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// UnmarshalJSON reads it.
func (c *Class) UnmarshalJSON(b []byte) error { return setJSON(c, b) }

// Addr is an address; the zero value is none.
type Addr struct{ netip.Addr }

// String writes it.
func (a Addr) String() string {
	if !a.IsValid() {
		return ""
	}
	return a.Addr.String()
}

// Set reads it.
func (a *Addr) Set(text string) (err error) {
	if text == "" {
		a.Addr = netip.Addr{}
		return nil
	}
	if a.Addr, err = netip.ParseAddr(text); err != nil {
		return fmt.Errorf("%q is not an IP address", short(text))
	}
	return nil
}

// MarshalText writes it.
func (a Addr) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalJSON reads it.
func (a *Addr) UnmarshalJSON(b []byte) error { return setJSON(a, b) }

// List is a list of words, written with commas between; on a command line it may be given
// several times.
type List []string

// String writes it.
func (l List) String() string { return strings.Join(l, ",") }

// Set adds to it.
func (l *List) Set(text string) error {
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			*l = append(*l, part)
		}
	}
	return nil
}

// UnmarshalJSON reads a list, or a text with commas.
func (l *List) UnmarshalJSON(b []byte) error {
	*l = nil
	var list []string
	if json.Unmarshal(b, &list) == nil {
		*l = list
		return nil
	}
	return setJSON(l, b)
}

// setJSON reads what JSON writes as a text, a number or a boolean by the text of it.
func setJSON(into interface{ Set(string) error }, b []byte) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		return into.Set(text)
	}
	switch c := b[0]; {
	case c == '-' || c >= '0' && c <= '9':
		return into.Set(string(b))
	}
	return errors.New("is neither a text nor a number")
}

func short(s string) string {
	const most = 60
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}
