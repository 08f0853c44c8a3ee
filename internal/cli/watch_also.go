package cli

import (
	"flag"
	"io"
	"strings"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
)

// alsoOptions are what else a watch measures, each as its kind and options.
type alsoOptions []string

// String is what was given.
func (a *alsoOptions) String() string { return strings.Join(*a, "; ") }

// Set takes one more.
func (a *alsoOptions) Set(text string) error {
	*a = append(*a, text)
	return nil
}

// parts reads them.
func (a alsoOptions) parts(c *call) (list []apitype.WatchPart, err error) {
	for _, text := range a {
		words := strings.Fields(text)
		if len(words) == 0 {
			continue
		}
		var w apitype.WatchSpec
		w.Kind = words[0]
		if _, err := kind.Find(w.Kind); err != nil {
			return nil, wrongCall("-also %q: it begins with a kind: %v", short(text), plainly(err))
		}
		one := *c
		one.flags = flag.NewFlagSet("also", flag.ContinueOnError)
		one.flags.SetOutput(io.Discard)
		one.flags.StringVar(&w.Repeat, "repeat", "", "")
		one.flags.StringVar(&w.Spread, "spread", "", "")
		one.flags.StringVar(&w.Zone, "zone", "", "")
		how := one.withHow()
		undo := eachOnce(one.flags)
		err := one.flags.Parse(words[1:])
		undo()
		if err != nil {
			return nil, wrongCall("-also %q: %v", short(text), err)
		}
		if left := one.flags.Args(); len(left) > 0 {
			return nil, wrongCall("-also %q: no use for %q; cron expressions and hours of parts are for files", short(text), short(left[0]))
		}
		if err := how.into(&one, &w); err != nil {
			return nil, err
		}
		list = append(list, apitype.PartOf(w))
	}
	return list, nil
}
