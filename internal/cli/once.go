package cli

import (
	"errors"
	"flag"
	"slices"
	"strings"
)

// once is an option that takes several values in one: given twice, those of one would be dropped in
// silence. Of an option that takes a single value the later counts, as is usual.
type once struct {
	flag.Value
	given *string
}

func (o *once) Set(text string) error {
	if o.given != nil && *o.given != text {
		return errors.New("it is given twice, and one of the two would be dropped; its values stand in one, with commas between")
	}
	o.given = &text
	return o.Value.Set(text)
}

// takesSeveral reports whether an option takes several values, which is in its help.
func takesSeveral(o *flag.Flag) bool { return strings.Contains(o.Usage, "commas between") }

// eachOnce has options that take several values be given once at most, but for some, until what it
// returns is called.
func eachOnce(f *flag.FlagSet, again ...string) (undo func()) {
	f.VisitAll(func(o *flag.Flag) {
		if takesSeveral(o) && !slices.Contains(again, o.Name) {
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
