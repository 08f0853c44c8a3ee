package acceptance

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
)

// Amount is a rate as people give it: bits a second of the plan's layer (20M), frames a second
// (1488fps), or a part of the line's rate (95%). The zero value is none.
type Amount struct {
	Value float64
	Unit  Unit
}

// Unit is what an amount counts.
type Unit string

// The units.
const (
	Bits          Unit = ""    // a second, of the plan's layer
	FramesASecond Unit = "fps" // frames a second
	Percent       Unit = "%"   // percent of the line's rate
)

// IsZero reports whether nothing is said.
func (a Amount) IsZero() bool { return a.Value == 0 }

// String writes it so that ParseAmount reads the same.
func (a Amount) String() string {
	if a.IsZero() {
		return ""
	}
	if a.Unit == Bits {
		return number(a.Value)
	}
	return strconv.FormatFloat(a.Value, 'f', -1, 64) + string(a.Unit)
}

func number(v float64) string {
	for _, u := range []struct {
		by     float64
		letter string
	}{{1e9, "G"}, {1e6, "M"}, {1e3, "k"}} {
		// What is written has to read the same again, to the last bit.
		if v >= u.by && math.Abs(v/u.by*1000-math.Round(v/u.by*1000)) < 1e-9 {
			text := strconv.FormatFloat(v/u.by, 'f', -1, 64) + u.letter
			if r, err := capacity.ParseRate(text); err == nil && float64(r) == v {
				return text
			}
		}
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

// ParseAmount reads one.
func ParseAmount(text string) (Amount, error) {
	text = strings.TrimSpace(text)
	wrong := fmt.Errorf("%q is no rate: such as 20M (bits a second), 1488fps (frames a second) or 95%% (of the line)", clip(text))
	for _, u := range []Unit{FramesASecond, Percent} {
		if before, is := strings.CutSuffix(text, string(u)); is {
			v, err := strconv.ParseFloat(strings.TrimSpace(before), 64)
			if u == FramesASecond && err != nil {
				var r capacity.Rate
				r, err = capacity.ParseRate(strings.TrimSpace(before))
				v = float64(r)
			}
			if err != nil || !(v > 0) || math.IsInf(v, 0) || u == Percent && v > 100 {
				return Amount{}, wrong
			}
			return Amount{v, u}, nil
		}
	}
	r, err := capacity.ParseRate(text)
	if err != nil || !(r > 0) || math.IsInf(float64(r), 0) {
		return Amount{}, wrong
	}
	return Amount{float64(r), Bits}, nil
}

// Ways are the amounts of the two directions. As a text it is one for both (20M), or
// "there 100M back 20M".
type Ways struct{ There, Back Amount }

// Same is one amount for both ways.
func Same(a Amount) Ways { return Ways{a, a} }

// IsZero reports whether nothing is said.
func (w Ways) IsZero() bool { return w.There.IsZero() && w.Back.IsZero() }

// Of is the amount of a direction.
func (w Ways) Of(there bool) Amount {
	if there {
		return w.There
	}
	return w.Back
}

// String writes it as text.
func (w Ways) String() string {
	switch {
	case w.There == w.Back:
		return w.There.String()
	case w.Back.IsZero():
		return "there " + w.There.String()
	case w.There.IsZero():
		return "back " + w.Back.String()
	}
	return "there " + w.There.String() + " back " + w.Back.String()
}

// MarshalText writes it.
func (w Ways) MarshalText() ([]byte, error) { return []byte(w.String()), nil }

// UnmarshalText reads it.
func (w *Ways) UnmarshalText(b []byte) error {
	*w = Ways{}
	words := strings.Fields(string(b))
	if len(words) == 0 {
		return nil
	}
	if words[0] != "there" && words[0] != "back" {
		a, err := ParseAmount(string(b))
		*w = Same(a)
		return err
	}
	if len(words)%2 != 0 || len(words) > 4 || len(words) == 4 && words[0] == words[2] {
		return fmt.Errorf("%q is not one rate for both ways, nor \"there RATE back RATE\"", clip(string(b)))
	}
	for i := 0; i < len(words); i += 2 {
		a, err := ParseAmount(words[i+1])
		switch {
		case err != nil:
			return err
		case words[i] == "there":
			w.There = a
		case words[i] == "back":
			w.Back = a
		default:
			return fmt.Errorf("%q is neither there nor back", clip(words[i]))
		}
	}
	return nil
}

// Share is a part of something, 0 to 1; as a text 0.1% or 0.001. That it is 0 can be said.
type Share struct {
	Value float64
	Given bool
}

// ShareOf is a part that is given.
func ShareOf(v float64) Share { return Share{v, true} }

// IsZero reports whether nothing is said.
func (s Share) IsZero() bool { return !s.Given }

// Or is the part, or another when nothing is said.
func (s Share) Or(v float64) float64 {
	if s.Given {
		return s.Value
	}
	return v
}

// String writes it in percent.
func (s Share) String() string {
	if !s.Given {
		return ""
	}
	return strconv.FormatFloat(math.Round(s.Value*1e12)/1e10, 'f', -1, 64) + "%"
}

// MarshalText writes it.
func (s Share) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads it.
func (s *Share) UnmarshalText(b []byte) error {
	text := strings.TrimSpace(string(b))
	*s = Share{}
	if text == "" {
		return nil
	}
	by := 1.0
	if before, is := strings.CutSuffix(text, "%"); is {
		text, by = strings.TrimSpace(before), 100
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || !(v >= 0) || v/by > 1 {
		return fmt.Errorf("%q is not a part such as 0.1%% or 0.001", clip(string(b)))
	}
	*s = ShareOf(math.Round(v/by*1e12) / 1e12) // so that what is written in percent reads the same
	return nil
}

// UnmarshalJSON also reads a number.
func (s *Share) UnmarshalJSON(b []byte) error { return s.UnmarshalText(unquoted(b)) }

// Span is a length of time, as a text 10s or 2ms. Zero is none.
type Span time.Duration

// D is the span as a duration.
func (s Span) D() time.Duration { return time.Duration(s) }

// Or is the span, or another when nothing is said.
func (s Span) Or(d time.Duration) time.Duration {
	if s == 0 {
		return d
	}
	return time.Duration(s)
}

// String writes it.
func (s Span) String() string {
	if s == 0 {
		return ""
	}
	text := time.Duration(s).String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// MarshalText writes it.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads it.
func (s *Span) UnmarshalText(b []byte) error {
	text := strings.TrimSpace(string(b))
	if text == "" {
		*s = 0
		return nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return fmt.Errorf("%q is not a span of time such as 10s or 20ms", clip(text))
	}
	*s = Span(d)
	return nil
}

// unquoted is a JSON value's text.
func unquoted(b []byte) []byte {
	if len(b) >= 2 && b[0] == '"' {
		return b[1 : len(b)-1]
	}
	if string(b) == "null" {
		return nil
	}
	return b
}

func clip(s string) string {
	const most = 60
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}
