package cli

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/route"
	"woodlark.example/internal/capture"
	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
)

// measuringCommands are those that measure: one of each kind.
func measuringCommands() (list []command) {
	for _, k := range kind.All() {
		usage := "[options] " + k.Usage
		if k.Estimate != nil {
			usage += "\nestimate [options]\nplans\nkeep NAME [options]\nforget NAME\nschema\nlist [options]\nshow ID\nreport ID -out FILE\nresume ID"
		}
		list = append(list, command{name: k.Name, summary: k.Summary, usage: usage, example: k.Example, more: k.Help, run: func(c *call) error { return runKind(c, k) }})
	}
	return list
}

// measuring is a call of a command that measures.
type measuring struct {
	*call
	kind *kind.Kind
	spec kind.Spec

	from, world, file        string
	moment                   string
	key, keyFile             string
	owners, compare, capture string
	resume, reportTo, kept   string
	live, apart              bool

	targets []string
	bad     []error // lines of the file that name no target
	table   route.Owners
	earlier any      // a result of a file, to compare with
	before  any      // a result of a file, to go on with
	made    []result // what was measured here
}

func runKind(c *call, k *kind.Kind) error {
	if len(c.args) > 0 && k.Estimate != nil && slices.Contains([]string{"list", "show", "follow", "stop", "resume", "report"}, c.args[0]) {
		return runsOfKind(c, k.Name)
	}
	if len(c.args) == 1 && k.Schema != nil && c.args[0] == "schema" {
		_, err := c.out.Write(k.Schema())
		return err
	}
	m := &measuring{call: c, kind: k, spec: k.New(kind.ByHand)}
	m.register()
	verb := "run"
	if len(c.args) > 0 && k.Estimate != nil && slices.Contains([]string{"estimate", "run", "plans", "keep", "forget"}, c.args[0]) {
		verb = c.args[0]
		c.args = c.args[1:]
	}
	if err := c.parse(); err != nil {
		return err
	}
	if m.kept != "" {
		if err := m.takeKept(); err != nil {
			return err
		}
	}
	switch verb {
	case "estimate":
		return m.estimate()
	case "plans", "keep", "forget":
		return m.plans(verb)
	}
	return m.run()
}

// estimate says what it will take, and sends nothing.
func (m *measuring) estimate() error {
	if err := m.settled(); err != nil {
		return err
	}
	if err := m.spec.Check(); err != nil {
		return exit{exitWrongCall, kind.ByFlag(m.spec, err)}
	}
	x, err := m.kind.Estimate(m.spec)
	if err != nil {
		return m.unmeasured(err)
	}
	return m.kind.Print(kind.Page{To: m.out, Format: m.format, Ink: m.ink, Zone: zone()}, []any{x})
}

// settled lets options stand in the place of others.
func (m *measuring) settled() error {
	given := map[string]bool{}
	m.flags.Visit(func(f *flag.Flag) { given[f.Name] = true })
	err := kind.Settle(m.spec, func(f kind.Field) bool {
		return given[f.Flag] || slices.ContainsFunc(f.Old, func(old string) bool { return given[old] })
	})
	if err != nil {
		return exit{exitWrongCall, kind.ByFlag(m.spec, err)}
	}
	return nil
}

// run checks and measures, here or there.
func (m *measuring) run() error {
	if err := m.check(); err != nil {
		return err
	}
	measure := m.here
	if m.from != "" && m.world == "" {
		measure = m.there
	}
	if err := measure(); err != nil && (len(m.bad) == 0 || err.Error() != "") {
		return err
	}
	if len(m.bad) > 0 {
		return exit{exitUnmeasured, fmt.Errorf("the rest was measured, but %w", errors.Join(m.bad...))}
	}
	return nil
}

// routed reports whether the results are routes, and so whether they can be compared, owned
// and captured.
func (m *measuring) routed() bool {
	_, is := m.kind.Result().(kind.Routed)
	return is
}

func (m *measuring) register() {
	m.withFormat()
	m.formats = m.kind.Formats
	if len(m.formats) > 0 {
		m.flags.Lookup("format").Usage = "text, json or csv; " + m.kind.FormatsSay
	}
	m.withService()
	f := m.flags
	f.StringVar(&m.from, "from", "", "agent of the service to measure from, or with -world the host; this machine when left out")
	f.StringVar(&m.world, "world", "", "file of a simulated network to measure in, or learn:NAME")
	f.StringVar(&m.moment, "moment", "", "with -world: as it is there at this time, such as 17:00 or 'day-1 14:30'")
	f.BoolVar(&m.apart, "background", false, "with -from: start it at the agent and do not wait")
	if !m.kind.One {
		f.StringVar(&m.file, "file", "", "file with more targets, one a line; - is standard input")
	}
	if m.kind.Draw != kind.DrawNothing {
		f.BoolVar(&m.live, "live", false, "draw it as it goes, also when it is short")
	}
	if m.kind.Estimate != nil {
		f.StringVar(&m.kept, "kept", "", "name of a plan that the service keeps; other options go over what it says")
		f.StringVar(&m.reportTo, "out", "", "file to write a report of it to, too, which ends in .html or .pdf")
	}
	if m.kind.Resumes {
		f.StringVar(&m.resume, "resume", "", "go on with what was cut, from a FILE that -format json wrote of it; at an agent: 'woodlark runs resume ID'")
	}
	if m.kind.TwoEnds {
		registerKey(f, &m.key, &m.keyFile)
	}
	if m.routed() {
		f.StringVar(&m.owners, "owners", "", "CSV file of prefixes and who has them")
		f.StringVar(&m.compare, "compare", "", "with last, baseline, or a FILE that -format json wrote")
		f.StringVar(&m.capture, "capture", "", "pcapng file to write the probes and their answers into")
	}
	kind.Options(f, m.spec, m.oldSpelling)
}

// oldSpelling says which word takes the place of another.
func (c *call) oldSpelling(was, is string) {
	fmt.Fprintf(c.err, "note: -%s is now -%s; the old word is still taken in this release\n", was, is)
}

func (m *measuring) check() error {
	if err := m.settled(); err != nil {
		return err
	}
	switch {
	case m.world != "" && m.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	case m.apart && (m.from == "" || m.world != ""):
		return wrongCall("-background leaves a measurement to a service: name its agent with -from")
	case m.compare == "baseline" && (m.from == "" || m.world != ""):
		return wrongCall("a baseline is kept by a service: name its agent with -from, or compare with last or a file")
	}
	if err := m.readFiles(); err != nil {
		return err
	}
	if err := m.spec.Check(); err != nil {
		return exit{exitWrongCall, kind.ByFlag(m.spec, err)}
	}
	if b, is := m.spec.(kind.Backward); is && m.from == "" {
		if _, both := b.Back(); both {
			return wrongCall("-both-ways needs somebody at the target who measures back: an agent (name the service's agent to measure from with -from), or a host of a -world")
		}
	}
	return m.readTargets()
}

// readFiles reads the files that options name.
func (m *measuring) readFiles() (err error) {
	if m.owners != "" {
		if m.table, err = readOwners(m.owners); err != nil {
			return err
		}
	}
	if m.compare != "" && m.compare != "last" && m.compare != "baseline" {
		b, err := os.ReadFile(m.compare)
		if err != nil {
			return wrongCall("-compare: %v", err)
		}
		if m.earlier, err = m.kind.ReadResult(m.kind.Version, b); err != nil || m.earlier.(kind.Routed).Trace().Hops == nil {
			return wrongCall("-compare %s: this is no %s that -format json wrote of one target", m.compare, m.kind.Name)
		}
	}
	if m.reportTo != "" && !strings.HasSuffix(m.reportTo, ".html") && !strings.HasSuffix(m.reportTo, ".pdf") {
		return wrongCall("-out %q ends in neither .html nor .pdf", short(m.reportTo))
	}
	if m.resume != "" && m.from != "" && m.world == "" {
		return wrongCall("-resume reads a file; what an agent measured goes on with 'woodlark runs resume ID'")
	}
	if m.resume != "" {
		b, err := os.ReadFile(m.resume)
		if err != nil {
			return wrongCall("-resume: %v", err)
		}
		if m.before, err = m.kind.ReadResult(m.kind.Version, b); err != nil {
			return wrongCall("-resume %s: this is no %s that -format json wrote: %v", m.resume, m.kind.Name, err)
		}
	}
	if m.capture != "" {
		if _, err := os.Lstat(m.capture); err == nil {
			return wrongCall("-capture %s is there already; name another file, or remove it", m.capture)
		}
	}
	return nil
}

// mostTargets is how many targets one measurement takes: each is a row of its own.
const mostTargets = 100_000

// readTargets reads those of the arguments and of a file.
func (m *measuring) readTargets() error {
	m.targets = slices.Clone(m.args)
	if m.file == "" {
		if err := m.kind.CheckTargets(m.spec, m.targets); err != nil {
			if len(m.targets) == 0 && !m.kind.One {
				err = fmt.Errorf("%w, or a -file of them", err)
			}
			return exit{exitWrongCall, plainly(err)}
		}
		return nil
	}
	check := func(t string) error { return plainly(m.kind.CheckTargets(m.spec, []string{t})) }
	for _, t := range m.targets {
		if err := check(t); err != nil {
			return exit{exitWrongCall, err}
		}
	}
	more, wrong, err := m.readLines(m.file, check)
	if err != nil {
		return exit{exitWrongCall, err}
	}
	if m.kind.Lanes(m.spec).Whole && len(wrong) > 0 {
		// Less than was asked for would be compared with the wrong one.
		return exit{exitWrongCall, errors.Join(wrong...)}
	}
	m.targets, m.bad = append(m.targets, more...), wrong
	switch {
	case len(m.targets) == 0 && len(m.bad) > 0:
		return exit{exitWrongCall, fmt.Errorf("no line is good: %w", errors.Join(m.bad...))}
	case len(m.targets) == 0:
		return wrongCall("%s names no target", m.file)
	case len(m.targets) > mostTargets:
		return wrongCall("%d targets are more than the %d that one measurement takes; 'woodlark sweep' finds out which of so many answer", len(m.targets), mostTargets)
	}
	return nil
}

// plainly leaves out the word that an error only is told by.
func plainly(err error) error {
	if err == nil {
		return nil
	}
	if text, found := strings.CutPrefix(err.Error(), kind.ErrInvalid.Error()+": "); found {
		return errors.New(text)
	}
	return err
}

func readOwners(name string) (route.Owners, error) {
	f, err := os.Open(name)
	if err != nil {
		return route.Owners{}, wrongCall("read the owners of prefixes: %v", err)
	}
	defer f.Close()
	table, err := route.ParseOwners(f)
	if err != nil {
		return table, wrongCall("%s: %v", name, err)
	}
	return table, nil
}

// result is what came of a lane.
type result struct {
	lane    kind.Lane
	state   kind.State
	reason  string
	outcome any // in the form of its kind; nil when there is none
}

// finish adds what this machine knows, writes the results, and returns the status to end with.
func (m *measuring) finish(list []result) error {
	var found []any
	var failed []error
	for _, r := range list {
		if r.outcome == nil {
			failed = append(failed, m.failed(r))
			continue
		}
		m.own(r)
		found = append(found, r.outcome)
		switch {
		case r.state == kind.Failed && !m.kind.Paths: // of a path it stands in its result
			failed = append(failed, m.failed(r))
		case r.state == kind.Failed:
			failed = append(failed, exit{exitUnmeasured, nil})
		case r.reason != "" && r.state == kind.Done && m.format == "text" && !m.kind.Paths:
			fmt.Fprintf(m.err, "note: %s\n", r.reason)
		}
	}
	if len(found) > 0 {
		if err := m.kind.Print(kind.Page{To: m.out, Format: m.format, Ink: m.ink, Zone: zone()}, found); err != nil {
			return err
		}
	}
	if m.reportTo != "" && len(found) == 1 {
		if err := m.writeReport(m.reportTo, m.kind, found[0]); err != nil {
			return err
		}
	}
	good := len(found) > 0 && m.kind.Good(found)
	status := exitGood
	switch {
	case len(found) > 0 && !good:
		status = exitNotGood
	case len(failed) > 0:
		status = exitUnmeasured
	}
	if status == exitGood {
		return nil
	}
	var says error
	if e := spoken(failed); len(e) > 0 {
		says = errors.Join(e...)
	}
	return exit{status, says}
}

// spoken are the errors that say something.
func spoken(list []error) []error {
	return slices.DeleteFunc(slices.Clone(list), func(err error) bool { return err.Error() == "" })
}

func (m *measuring) failed(r result) error {
	switch {
	case r.outcome != nil && r.state == kind.Failed:
		return fmt.Errorf("it broke off: %s", r.reason)
	case r.lane.Target == "" || m.kind.One:
		return errors.New(r.reason)
	}
	return fmt.Errorf("%s: %s", r.lane.Target, r.reason)
}

// own adds owners of prefixes, and what an earlier result of a file says beside it.
func (m *measuring) own(r result) {
	if x, is := r.outcome.(interface{ Own(route.Owners) }); is && !m.table.Empty() {
		x.Own(m.table)
	}
	if x, is := r.outcome.(compared); is && m.earlier != nil {
		x.Compare(m.earlier, m.compare, nil)
	}
}

// compared is a result that can be laid beside an earlier one of the same.
type compared interface {
	Compare(earlier any, when string, at *time.Time)
}

// captured writes packets into the file that -capture names.
func (m *measuring) captured() (file *capture.File, err error) {
	if m.capture == "" {
		return nil, nil
	}
	if file, err = capture.Create(m.capture); err != nil {
		return nil, exit{exitWrongCall, err}
	}
	return file, nil
}

func joined(list []string) string { return strings.Join(list, ", ") }

// plural writes a count of things.
func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
