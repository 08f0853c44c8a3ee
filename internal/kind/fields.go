package kind

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// Field is one of the things that a spec says. It comes from the struct's tags:
//
//	Interval Span `json:"interval" flag:"every" help:"time between probes"`
//
// A field's old tag has spellings of its option that are still taken, with commas between.
type Field struct {
	Name string   // in JSON, in files
	Flag string   // on a command line; - when there is no option that is only for it
	Old  []string // how it was spelt there before
	Help string
	Enum []string // the texts that it may be; any when empty
	// OfHand says that it is only of a measurement that somebody waits for: a watch has no
	// use for it.
	OfHand bool
	// Instead is the field in whose place it stands; both cannot be given.
	Instead string

	value reflect.Value
}

// FieldsOf are the fields of a spec, in their order. The spec is a pointer to a struct.
func FieldsOf(spec any) []Field {
	return fieldsOf(reflect.ValueOf(spec).Elem(), nil)
}

func fieldsOf(v reflect.Value, list []Field) []Field {
	for i := range v.NumField() {
		t := v.Type().Field(i)
		if t.Anonymous && t.Type.Kind() == reflect.Struct && t.Tag.Get("json") == "" {
			list = fieldsOf(v.Field(i), list)
			continue
		}
		name, _, _ := strings.Cut(t.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		f := Field{Name: name, Flag: t.Tag.Get("flag"), Help: t.Tag.Get("help"), OfHand: t.Tag.Get("of") == "hand", Instead: t.Tag.Get("instead"), value: v.Field(i)}
		if f.Flag == "" {
			f.Flag = strings.ReplaceAll(name, "_", "-")
		}
		f.Old = split(t.Tag.Get("old"))
		f.Enum = split(t.Tag.Get("enum"))
		list = append(list, f)
	}
	return list
}

func split(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

// IsZero reports whether it says nothing.
func (f Field) IsZero() bool { return f.value.IsZero() }

// SetTo gives it the value of the same field of another spec.
func (f Field) SetTo(other Field) { f.value.Set(other.value) }

// setter is what reads a text.
type setter interface{ Set(string) error }

// Set reads the text of a value.
func (f Field) Set(text string) error {
	if err := f.set(text); err != nil {
		return err
	}
	return f.among()
}

func (f Field) set(text string) error {
	p := f.value.Addr().Interface()
	if s, ok := p.(setter); ok {
		return s.Set(text)
	}
	switch f.value.Kind() {
	case reflect.String:
		f.value.SetString(text)
		return nil
	case reflect.Bool:
		v, err := strconv.ParseBool(text)
		if err != nil {
			return fmt.Errorf("%q is neither true nor false", short(text))
		}
		f.value.SetBool(v)
		return nil
	case reflect.Int, reflect.Int64:
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Errorf("%q is not a whole number", short(text))
		}
		f.value.SetInt(v)
		return nil
	case reflect.Uint, reflect.Uint64, reflect.Uint16:
		v, err := strconv.ParseUint(text, 10, f.value.Type().Bits())
		if err != nil {
			return fmt.Errorf("%q is not a whole number from 0 to %d", short(text), uint64(1)<<(f.value.Type().Bits()-1)*2-1)
		}
		f.value.SetUint(v)
		return nil
	case reflect.Float64:
		v, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return fmt.Errorf("%q is not a number", short(text))
		}
		f.value.SetFloat(v)
		return nil
	}
	panic(fmt.Sprintf("kind: a spec cannot have a field of type %s", f.value.Type()))
}

// among says when a value is none of those that it may be.
func (f Field) among() error {
	if text := f.Text(); len(f.Enum) > 0 && text != "" && !slices.Contains(f.Enum, text) {
		return fmt.Errorf("%q is none of %s", short(text), strings.Join(f.Enum, ", "))
	}
	return nil
}

// Text is the value's text.
func (f Field) Text() string {
	if s, ok := f.value.Addr().Interface().(fmt.Stringer); ok {
		return s.String()
	}
	return fmt.Sprint(f.value.Interface())
}

// Type is what a form needs to know of it: bool, int, number, text, span, list, via, rate …
func (f Field) Type() string {
	if t, is := f.value.Addr().Interface().(interface{ FieldType() string }); is {
		return t.FieldType()
	}
	switch f.value.Interface().(type) {
	case Span, MaybeSpan:
		return "span"
	case Rate:
		return "rate"
	case Packets:
		return "packets"
	case Vias:
		return "via"
	case Family:
		return "family"
	case Class:
		return "class"
	case Addr:
		return "address"
	case List:
		return "list"
	}
	switch f.value.Kind() {
	case reflect.Bool:
		return "bool"
	case reflect.Int, reflect.Int64, reflect.Uint, reflect.Uint64, reflect.Uint16:
		return "int"
	case reflect.Float64:
		return "number"
	}
	return "text"
}

// decode reads a value from JSON.
func (f Field) decode(raw json.RawMessage) error {
	if string(raw) == "null" {
		return nil // as it is when nothing is said
	}
	err := json.Unmarshal(raw, f.value.Addr().Interface())
	var wrong *json.UnmarshalTypeError
	if errors.As(err, &wrong) {
		return fmt.Errorf("cannot be a %s", wrong.Value)
	}
	if err != nil {
		return err
	}
	return f.among()
}

// Options makes an option of each field. old is told of a spelling that will go, with the one
// that takes its place.
func Options(f *flag.FlagSet, spec any, old func(was, is string)) {
	for _, field := range FieldsOf(spec) {
		if field.Flag == "-" {
			continue // another option of the command sets it
		}
		f.Var(option{field, nil}, field.Flag, field.Help)
		for _, was := range field.Old {
			f.Var(option{field, func() { old(was, field.Flag) }}, was, OldSpelling+"-"+field.Flag)
		}
	}
}

// OldSpelling begins what is said of an option that will go.
const OldSpelling = "old spelling of "

// option is a field as an option.
type option struct {
	Field
	note func()
}

// String is the text of what it is without being given.
func (o option) String() string {
	if !o.value.IsValid() || o.IsZero() {
		return ""
	}
	return o.Text()
}

// Set reads it.
func (o option) Set(text string) error {
	if o.note != nil {
		o.note()
	}
	return o.Field.Set(text)
}

// IsBoolFlag reports whether it may be given without a value.
func (o option) IsBoolFlag() bool { return o.value.IsValid() && o.value.Kind() == reflect.Bool }

// List is the value of a field that is a list.
func (f Field) List() (*List, bool) {
	l, is := f.value.Addr().Interface().(*List)
	return l, is
}
