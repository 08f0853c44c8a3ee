package cli

import (
	"flag"
	"fmt"
	"slices"
)

// once is an option that is given once: of two values one would be dropped in silence.
type once struct {
	flag.Value
	given *string
}

func (o *once) Set(text string) error {
	if o.given != nil && *o.given != text {
		return fmt.Errorf("it is given twice, and one of the two would be dropped; where it takes several, they stand in one, with commas between")
	}
	o.given = &text
	return o.Value.Set(text)
}

// IsBoolFlag has the flag package take it without a value where it could be before.
func (o *once) IsBoolFlag() bool {
	b, is := o.Value.(interface{ IsBoolFlag() bool })
	return is && b.IsBoolFlag()
}

// eachOnce has all options be given once at most, but for some, until what it returns is called.
func eachOnce(f *flag.FlagSet, again ...string) (undo func()) {
	f.VisitAll(func(o *flag.Flag) {
		if !slices.Contains(again, o.Name) {
			o.Value = &once{Value: o.Value}
		}
	})
	return func() {
		f.VisitAll(func(o *flag.Flag) {
			if w, is := o.Value.(*once); is {
				o.Value = w.Value
			}
		})
	}
}
