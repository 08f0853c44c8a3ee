// Package figure holds values that may be absent. A figure that could not be
// computed is absent and renders as null; it is never 0.
//
//	sd := figure.Of(1.5)
//	if v, ok := sd.Get(); ok { … }
package figure

import (
	"encoding/json"
	"math"
	"time"
)

// Opt is a value of type T that may be absent. The zero value is absent.
type Opt[T any] struct {
	value T
	ok    bool
}

// Duration is a time span that may be absent.
type Duration = Opt[time.Duration]

// Number is a plain number (a ratio, a count as a mean) that may be absent.
type Number = Opt[float64]

// Of returns v as a present figure.
func Of[T any](v T) Opt[T] { return Opt[T]{v, true} }

// Get returns the value and whether it is there.
func (o Opt[T]) Get() (T, bool) { return o.value, o.ok }

// Or returns the value, or fallback when it is absent.
func (o Opt[T]) Or(fallback T) T {
	if o.ok {
		return o.value
	}
	return fallback
}

// IsSet reports whether the figure is there.
func (o Opt[T]) IsSet() bool { return o.ok }

// MarshalJSON writes the value, or null when it is absent.
func (o Opt[T]) MarshalJSON() ([]byte, error) {
	if !o.ok {
		return []byte("null"), nil
	}
	return json.Marshal(o.value)
}

// UnmarshalJSON reads a value or null.
func (o *Opt[T]) UnmarshalJSON(data []byte) error {
	if string(data) == "null" {
		*o = Opt[T]{}
		return nil
	}
	if err := json.Unmarshal(data, &o.value); err != nil {
		return err
	}
	o.ok = true
	return nil
}

// Ms returns d in milliseconds, rounded to the nanosecond, for keys that end
// in _ms; nil when d is absent.
func Ms(d Duration) *float64 {
	v, ok := d.Get()
	if !ok {
		return nil
	}
	ms := Millis(v)
	return &ms
}

// Millis returns d in milliseconds, exact to the nanosecond.
func Millis(d time.Duration) float64 { return float64(d.Nanoseconds()) / 1e6 }

// FromMillis is the inverse of Millis, rounded to the nanosecond.
func FromMillis(ms float64) time.Duration { return time.Duration(math.Round(ms * 1e6)) }
