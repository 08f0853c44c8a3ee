// Package dscp has the code points by which packets ask for a treatment on their way: the upper
// six bits of the field that IPv4 calls type of service and IPv6 traffic class (RFC 2474 §3).
//
//	p, err := dscp.Parse("EF") // 46
package dscp

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Point is a code point, 0 to 63. The zero value asks for nothing.
type Point uint8

// Most is the highest code point.
const Most = 63

// ErrUnknown is wrapped by what says that a text is no code point.
var ErrUnknown = errors.New("neither a name such as EF, AF41 or CS5 nor a number from 0 to 63")

// names of the points: class selectors (RFC 2474 §4.2.2), assured forwarding (RFC 2597 §6),
// expedited forwarding (RFC 3246 §2.7), voice admit (RFC 5865 §4) and lower effort (RFC 8622 §4).
// What has no name is written as its number.
var names = map[Point]string{0: "DF", 1: "LE", 8: "CS1", 10: "AF11", 12: "AF12", 14: "AF13", 16: "CS2", 18: "AF21", 20: "AF22", 22: "AF23",
	24: "CS3", 26: "AF31", 28: "AF32", 30: "AF33", 32: "CS4", 34: "AF41", 36: "AF42", 38: "AF43", 40: "CS5", 44: "VA", 46: "EF", 48: "CS6", 56: "CS7"}

var points = func() map[string]Point {
	list := map[string]Point{"": 0, "CS0": 0}
	for p, name := range names {
		list[name] = p
	}
	return list
}()

// Parse reads a code point by its name, in whatever case, or by its number; nothing is 0.
func Parse(text string) (Point, error) {
	if p, ok := points[strings.ToUpper(text)]; ok {
		return p, nil
	}
	v, err := strconv.ParseUint(text, 10, 8)
	if err != nil || v > Most {
		return 0, fmt.Errorf("DSCP %q is %w", short(text), ErrUnknown)
	}
	return Point(v), nil
}

// String is the name of the point, or its number where it has none.
func (p Point) String() string {
	if name, ok := names[p]; ok {
		return name
	}
	return strconv.Itoa(int(p))
}

// MarshalText writes the point as String does.
func (p Point) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what Parse reads.
func (p *Point) UnmarshalText(text []byte) (err error) {
	*p, err = Parse(string(text))
	return err
}

func short(s string) string {
	const most = 60
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}
