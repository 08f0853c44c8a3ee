package cli

import (
	"flag"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
)

// howOptions are the options of all kinds, as they were given: of which kind a watch is may be
// known only behind them.
type howOptions struct {
	given map[string][]string // what was given, by option
	ofAll map[string]bool     // every option there is
}

// withHow makes an option of each field of each kind.
func (c *call) withHow() *howOptions {
	o := &howOptions{map[string][]string{}, map[string]bool{}}
	of, help, flags := map[string][]string{}, map[string]string{}, map[string]bool{}
	for _, k := range kind.All() {
		for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
			if f.Flag == "-" {
				continue
			}
			of[f.Flag] = append(of[f.Flag], k.Name)
			if help[f.Flag] == "" {
				help[f.Flag] = f.Help
			}
			flags[f.Flag] = f.Type() == "bool"
			for _, was := range f.Old {
				if of[was] == nil {
					help[was], flags[was] = kind.OldSpelling+"-"+f.Flag, f.Type() == "bool"
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(help)) {
		if c.flags.Lookup(name) != nil {
			continue
		}
		o.ofAll[name] = true
		says := help[name]
		if of[name] != nil && len(of[name]) < len(kind.All()) {
			says = "of " + strings.Join(of[name], ", ") + ": " + says
		}
		c.flags.Var(rawOption{o, name, flags[name]}, name, says)
	}
	return o
}

// rawOption keeps what was given.
type rawOption struct {
	into *howOptions
	name string
	bool bool
}

// String is nothing: what is usual differs by the kind.
func (r rawOption) String() string { return "" }

// Set keeps a value.
func (r rawOption) Set(text string) error {
	r.into.given[r.name] = append(r.into.given[r.name], text)
	return nil
}

// IsBoolFlag reports whether it may be given without a value.
func (r rawOption) IsBoolFlag() bool { return r.bool }

var _ flag.Value = rawOption{}

// into sets what was given in the spec of a watch, over what stands there.
func (o *howOptions) into(c *call, w *apitype.WatchSpec) error {
	k, err := kind.Find(kind.Or(w.Kind))
	if err != nil {
		return exit{exitWrongCall, plainly(err)}
	}
	if err := o.settleEvery(c, k, w); err != nil {
		return err
	}
	spec, err := k.Take(kind.Standing, w.How)
	if err != nil {
		return exit{exitWrongCall, plainly(err)}
	}
	set := map[string]bool{}
	for _, f := range kind.FieldsOf(spec) {
		for _, name := range append([]string{f.Flag}, f.Old...) {
			values, given := o.given[name]
			if !given {
				continue
			}
			if name != f.Flag {
				c.oldSpelling(name, f.Flag)
			}
			if l, is := f.List(); is {
				*l = nil // what is given takes the place of what was there
			}
			for _, v := range values {
				if err := f.Set(v); err != nil {
					return wrongCall("-%s: %v", name, err)
				}
			}
			set[name], set[f.Flag] = true, true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(o.given)) {
		if !set[name] {
			return wrongCall("-%s is not of a %s; 'woodlark help %s' shows its options", name, k.Name, k.Name)
		}
	}
	if err := kind.Settle(spec, func(f kind.Field) bool { return set[f.Flag] }); err != nil {
		return exit{exitWrongCall, kind.ByFlag(spec, err)}
	}
	if err := spec.Check(); err != nil {
		return exit{exitWrongCall, kind.ByFlag(spec, err)}
	}
	w.How, err = k.Give(spec)
	return err
}

// settleEvery tells apart what -every means: the time between probes, as in all commands, or
// by its older meaning that between the runs of a watch, which is -repeat now.
func (o *howOptions) settleEvery(c *call, k *kind.Kind, w *apitype.WatchSpec) error {
	values, given := o.given["every"]
	if !given || c.isSet("repeat") {
		return nil
	}
	text := values[len(values)-1]
	d, err := time.ParseDuration(text)
	_, both := o.given["interval"]
	_, counted := o.given["probes"] // what goes on without a pause counts none
	switch {
	case text == "continuous" && k.Continuous:
		delete(o.given, "every")
		return nil
	case err != nil:
		return wrongCall("-every: %q is not a span of time such as 10s or 20ms", short(text))
	case both, counted && w.Repeat == "", !k.Continuous, d > time.Minute, o.outlasts(d, w):
		delete(o.given, "every")
		w.Repeat, w.Every = text, ""
		c.oldSpelling("every", "repeat")
	case d >= k.Least:
		return wrongCall("-every %s can be the time between probes, or by its older meaning that between runs: write '-repeat %s' for the latter, or '-repeat continuous -every %s'", text, text, text)
	}
	return nil
}

// outlasts reports whether the probes of a run so far apart would go on for longer than it is
// until the next run: then it is not meant.
func (o *howOptions) outlasts(apart time.Duration, w *apitype.WatchSpec) bool {
	repeat, err := w.Between()
	if err != nil || repeat == 0 {
		return false
	}
	probes, err := strconv.Atoi(text(w.How["probes"]))
	if n := o.given["probes"]; n != nil {
		probes, err = strconv.Atoi(n[len(n)-1])
	}
	return err == nil && time.Duration(probes)*apart >= repeat
}
