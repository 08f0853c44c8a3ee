package kind

import (
	"errors"
	"fmt"
	"strings"
)

// ErrInvalid is wrapped by all that is said about a spec that cannot be carried out.
var ErrInvalid = errors.New("invalid")

// Wrong is what is wrong with one field of a spec, or with several together when it names none.
type Wrong struct {
	Field string // its name in JSON; "" when it is about several
	Says  string
	Named string // how it is named in Error; as in JSON when empty
}

// Error names the field and says what is wrong.
func (w *Wrong) Error() string {
	name := w.Named
	if name == "" {
		name = w.Field
	}
	return strings.TrimSpace(name + " " + w.Says)
}

// Unwrap is ErrInvalid.
func (w *Wrong) Unwrap() error { return ErrInvalid }

// Checks gathers what is wrong with a spec.
type Checks struct{ list []error }

// Wrong notes what is wrong with a field.
func (c *Checks) Wrong(field, format string, args ...any) {
	c.list = append(c.list, &Wrong{Field: field, Says: fmt.Sprintf(format, args...)})
}

// Must notes what is wrong with a field unless ok.
func (c *Checks) Must(ok bool, field, format string, args ...any) {
	if !ok {
		c.Wrong(field, format, args...)
	}
}

// Add notes an error of the whole.
func (c *Checks) Add(err error) {
	if err != nil {
		c.list = append(c.list, &Wrong{Says: err.Error()})
	}
}

// Err is all that is wrong; nil when nothing is.
func (c *Checks) Err() error { return errors.Join(c.list...) }

// ByFlag names the fields of a spec by their options, as they stand on a command line.
func ByFlag(spec any, err error) error {
	names := map[string]string{}
	for _, f := range FieldsOf(spec) {
		names[f.Name] = "-" + f.Flag
	}
	var all interface{ Unwrap() []error }
	if errors.As(err, &all) {
		for _, e := range all.Unwrap() {
			_ = ByFlag(spec, e)
		}
		return err
	}
	var w *Wrong
	if errors.As(err, &w) {
		w.Named = names[w.Field]
	}
	return err
}

// Shorten cuts what somebody gave to what an error can show of it.
func Shorten(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}
