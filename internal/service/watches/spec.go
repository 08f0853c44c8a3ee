// Package watches knows what is measured again and again: it keeps watches, gives agents their
// plans, and begins what needs two ends at once.
//
//	w, err := x.Save(ctx, ident.ID{}, "Holm", watches.Spec{From: []string{"quay"}, To: []string{"gate.holm.example"}}, false)
package watches

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/fleet"
)

// Spec is what a watch measures: from which agents, to which targets, how often, and how.
type Spec struct {
	Kind  string // the first of the list of kinds when empty
	From  []string
	To    []string
	Back  bool          // those that are measured to and are agents measure back
	Every time.Duration // between runs; continuous, or at its times, when 0
	Times schedule.Times
	Tags  []string
	// Suspicion is how many packets a day may be sent to a path because it looks wrong;
	// UsualSuspicion when 0, none when below.
	Suspicion int64
	DayBytes  int64     // that its load runs may send a day; 5 GiB when 0
	How       kind.Spec // as usual for the kind when nil
	// Also is what else is measured between the same ends. Each is kept as a watch of its own, in
	// whose spec Of is the one that it is a part of.
	Also []Part
	Of   ident.ID
}

// Part is a measurement beside the first of a watch.
type Part struct {
	Kind  string
	Every time.Duration
	Times schedule.Times
	How   kind.Spec
}

// mostParts is how many measurements a watch may have beside its first.
const mostParts = 10

// part is the spec of one of the measurements beside the first.
func (s Spec) part(i int, of ident.ID) Spec {
	p := s.Also[i]
	s.Kind, s.Every, s.Times, s.How, s.Also, s.Of = p.Kind, p.Every, p.Times, p.How, nil, of
	return s
}

// namesOfParts are what the measurements beside the first are called.
func (s Spec) namesOfParts(name string) []string {
	names, seen := make([]string, len(s.Also)), map[string]int{s.Kind: 1}
	for i, p := range s.Also {
		names[i] = name + ", " + p.Kind
		if seen[p.Kind]++; seen[p.Kind] > 1 {
			names[i] += fmt.Sprintf(" %d", seen[p.Kind])
		}
	}
	return names
}

// UsualSuspicion is how many packets a day may be sent to a path because it looks wrong, where
// its watch says nothing.
const UsualSuspicion = 20_000

// The limits of a Spec.
const (
	mostPaths      = 20000
	mostNameLength = 100
)

// storedSpec is a spec as it is kept.
type storedSpec struct {
	Kind      string          `json:"kind"`
	Version   int             `json:"version"`
	From      []string        `json:"from"`
	To        []string        `json:"to"`
	Back      bool            `json:"back,omitempty"`
	Every     time.Duration   `json:"every"` // nanoseconds
	Times     schedule.Times  `json:"times,omitzero"`
	Tags      []string        `json:"tags,omitempty"`
	Suspicion int64           `json:"suspicion,omitempty"`
	DayBytes  int64           `json:"day_bytes,omitempty"`
	How       json.RawMessage `json:"how,omitempty"`
	Also      []storedPart    `json:"also,omitempty"`
	Of        ident.ID        `json:"of,omitzero"`
}

type storedPart struct {
	Kind    string          `json:"kind"`
	Version int             `json:"version"`
	Every   time.Duration   `json:"every"`
	Times   schedule.Times  `json:"times,omitzero"`
	How     json.RawMessage `json:"how"`
}

// MarshalJSON writes it as it is kept.
func (s Spec) MarshalJSON() ([]byte, error) {
	k, err := kind.Find(kind.Or(s.Kind))
	if err != nil {
		return nil, err
	}
	s = s.WithDefaults()
	how, err := k.Encode(s.How)
	if err != nil {
		return nil, err
	}
	out := storedSpec{k.Name, k.Version, s.From, s.To, s.Back, s.Every, s.Times, s.Tags, s.Suspicion, s.DayBytes, how, nil, s.Of}
	for _, p := range s.Also {
		k, err := kind.Find(p.Kind)
		if err != nil {
			return nil, err
		}
		how, err := k.Encode(p.How)
		if err != nil {
			return nil, err
		}
		out.Also = append(out.Also, storedPart{k.Name, k.Version, p.Every, p.Times, how})
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON wrote, and what earlier releases did.
func (s *Spec) UnmarshalJSON(b []byte) error {
	var x storedSpec
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	k, err := known(x.Kind, x.Version)
	if err != nil {
		return err
	}
	how := map[string]json.RawMessage{}
	if x.Version == 0 {
		how, err = earlier(k, b)
	} else if x.How != nil {
		err = json.Unmarshal(x.How, &how)
	}
	if err != nil {
		return err
	}
	*s = Spec{Kind: k.Name, From: x.From, To: x.To, Back: x.Back, Every: x.Every, Times: x.Times, Tags: x.Tags, Suspicion: x.Suspicion, DayBytes: x.DayBytes, Of: x.Of}
	if s.How, err = k.Take(kind.Standing, how); err != nil {
		return err
	}
	for _, p := range x.Also {
		k, err := known(p.Kind, p.Version)
		if err != nil {
			return err
		}
		part := Part{Kind: k.Name, Every: p.Every, Times: p.Times}
		if part.How, err = k.Decode(kind.Standing, p.How); err != nil {
			return err
		}
		s.Also = append(s.Also, part)
	}
	return nil
}

// known is a kind of a version that this release knows.
func known(name string, version int) (*kind.Kind, error) {
	k, err := kind.Find(kind.Or(name))
	if err == nil && version > k.Version {
		err = fmt.Errorf("%w version %d of %s: this release knows %d", kind.ErrUnknown, version, k.Name, k.Version)
	}
	return k, err
}

// earlier reads how a watch measures from what releases without versions kept: one object of
// all kinds, spans as nanoseconds, and what is of two ends in an object of its own.
func earlier(k *kind.Kind, b []byte) (map[string]json.RawMessage, error) {
	var old map[string]json.RawMessage
	if err := json.Unmarshal(b, &old); err != nil {
		return nil, err
	}
	if two := old["two"]; two != nil {
		var more map[string]json.RawMessage
		if err := json.Unmarshal(two, &more); err != nil {
			return nil, err
		}
		old = more
	} else if k.TwoEnds {
		old = nil
	}
	return FromEarlier(k, old, false)
}

// FromEarlier turns what earlier releases said of how to measure into the words of a spec. What
// the kind does not have is left out, or when strict left as it is, to be refused by name.
func FromEarlier(k *kind.Kind, old map[string]json.RawMessage, strict bool) (map[string]json.RawMessage, error) {
	old = maps.Clone(old)
	for was, is := range map[string]string{"payload": "payload_bytes", "rate": "packets_per_second", "path_mtu": "find_path_mtu"} {
		if v := old[was]; v != nil {
			old[is] = v
			delete(old, was)
		}
	}
	if v := old["no_explain"]; v != nil {
		delete(old, "no_explain")
		old["explain"] = json.RawMessage(map[bool]string{true: "false", false: "true"}[string(v) == "true"])
	}
	out := map[string]json.RawMessage{}
	for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
		v := old[f.Name]
		if v == nil || string(v) == "null" || string(v) == `""` || string(v) == "0" && f.Type() != "bool" {
			continue // as is usual
		}
		if f.Type() == "span" {
			var ns int64
			if json.Unmarshal(v, &ns) == nil {
				v, _ = json.Marshal(time.Duration(ns).String())
			}
		}
		if f.Instead != "" {
			delete(out, f.Instead)
		}
		out[f.Name] = v
	}
	if strict {
		names := map[string]bool{}
		for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
			names[f.Name] = true
		}
		for key, v := range old {
			if !names[key] {
				out[key] = v
			}
		}
	}
	return out, nil
}

// kindOf is the kind of a spec that was checked.
func (s Spec) kindOf() *kind.Kind {
	k, err := kind.Find(kind.Or(s.Kind))
	if err != nil {
		panic(err) // no spec of an unknown kind is taken
	}
	return k
}

// WithDefaults fills in what was left out.
func (s Spec) WithDefaults() Spec {
	s.Kind = kind.Or(s.Kind)
	if k, err := kind.Find(s.Kind); err == nil && s.How == nil {
		s.How = k.New(kind.Standing)
	}
	s.Also = slices.Clone(s.Also)
	for i := range s.Also {
		p := &s.Also[i]
		p.Kind = kind.Or(p.Kind)
		if k, err := kind.Find(p.Kind); err == nil && p.How == nil {
			p.How = k.New(kind.Standing)
		}
	}
	return s
}

// Check says what is wrong with a spec; the error wraps kind.ErrInvalid.
func (s Spec) Check() error { return s.check(func(string) bool { return false }) }

// check says what is wrong with a spec, some of whose targets are names of agents.
func (s Spec) check(isAgent func(string) bool) error {
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	k, err := kind.Find(s.Kind)
	if err != nil {
		return err
	}
	if len(s.From) == 0 {
		wrong("from: name at least one agent")
	}
	if len(s.To) == 0 && (k.NoTarget == nil || !k.NoTarget(s.How)) {
		wrong("to: name at least one target")
	}
	if len(s.From)*len(s.To) > mostPaths {
		wrong("%d agents to %d targets are more than %d paths; make several watches", len(s.From), len(s.To), mostPaths)
	}
	if len(s.Also) > mostParts {
		wrong("also: %d measurements are more than %d", len(s.Also), mostParts)
	}
	for i, p := range s.Also {
		if err := s.part(i, s.Of).check(isAgent); err != nil {
			wrong("also, number %d (%s): %s", i+1, p.Kind, strings.TrimPrefix(err.Error(), kind.ErrInvalid.Error()+": "))
		}
	}
	if s.DayBytes < 0 {
		wrong("%d bytes a day are below zero", s.DayBytes)
	}
	errs = append(errs, s.checkTimes(k)...)
	if len(errs) == 0 {
		errs = s.checkHow(k, isAgent)
	}
	if len(errs) > 0 {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, errors.Join(errs...))
	}
	return nil
}

// checkTimes says what is wrong with when it measures.
func (s Spec) checkTimes(k *kind.Kind) (errs []error) {
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	when, err := s.Schedule(ident.ID{})
	if err != nil {
		return []error{err}
	}
	switch {
	case s.Times.Cron != "":
		if gap := when.Shortest(time.Now(), timesLooked); gap > 0 && gap < k.Least {
			wrong("cron %q names times %v apart, less than %v", s.Times.Cron, gap, k.Least)
		}
	case s.Every == 0 && !k.Continuous:
		wrong("a %s is not continuous: say how often with repeat, %v or more", k.Name, k.Least)
	case s.Every != 0 && s.Every < k.Least && k.Continuous:
		wrong("repeat %v is less than %v; leave it out for a continuous watch", s.Every, k.Least)
	case s.Every != 0 && s.Every < k.Least:
		wrong("repeat %v is less than %v, and a %s is not continuous", s.Every, k.Least, k.Name)
	}
	return errs
}

// timesLooked is how many times of an expression are looked at.
const timesLooked = 200

// Continuous reports whether it goes on without a pause, as far as its hours allow.
func (s Spec) Continuous() bool { return s.Every == 0 && s.Times.Cron == "" }

// Schedule is when it measures; random times are those of its watch.
func (s Spec) Schedule(watch ident.ID) (*schedule.Schedule, error) {
	return s.Times.With(s.Every, 0, seedOf(watch))
}

// when is the schedule of a spec that was checked.
func (s Spec) when(watch ident.ID) *schedule.Schedule {
	when, err := s.Schedule(watch)
	if err != nil { // its end came, or zones are other ones
		when, _ = schedule.Times{}.With(s.Every, 0, 0)
	}
	return when
}

// seedOf is that of the random times of a watch.
func seedOf(watch ident.ID) uint64 { return uint64(watch.Phase(1 << 62)) }

// Between is the least time between its runs; 0 when it is continuous.
func (s Spec) Between() time.Duration {
	if s.Times.Cron == "" {
		return s.Every
	}
	return s.when(ident.ID{}).Shortest(time.Now(), timesLooked)
}

// checkHow says what is wrong with how it measures.
func (s Spec) checkHow(k *kind.Kind, isAgent func(string) bool) (errs []error) {
	add := func(err error) {
		if err != nil {
			errs = append(errs, err)
		}
	}
	add(s.How.Check())
	all := s.To
	for _, word := range s.talkWords() {
		_, err := protocol.ParseTalk(word)
		add(err)
		if k.TwoEnds {
			add(fmt.Errorf("%q: whom programs talk to is no far end of a %s", word, k.Name))
		}
	}
	s.To = slices.DeleteFunc(slices.Clone(s.To), protocol.IsTalk)
	if !k.TwoEnds { // what names agents is none of a kind's own targets
		s.To = slices.DeleteFunc(slices.Clone(s.To), func(t string) bool { return fleet.IsSelector(t) || isAgent(t) })
	} else {
		s.To = slices.DeleteFunc(slices.Clone(s.To), fleet.IsSelector)
	}
	if len(s.To) == 0 && len(all) > 0 {
		s.To = []string{"192.0.2.1"} // stands for an agent's address
	}
	if k.One { // each target is a measurement of its own
		for _, t := range s.To {
			add(k.CheckTargets(s.How, []string{t}))
		}
	} else if len(s.To) > 0 {
		add(k.CheckTargets(s.How, s.To))
	}
	if k.Agent != nil {
		add(k.Agent(s.How, s.To))
	}
	if k.Watch != nil {
		add(k.Watch(s.How, s.To, s.Between()))
	}
	for _, f := range kind.FieldsOf(s.How) {
		if f.OfHand && !f.IsZero() {
			add(&kind.Wrong{Field: f.Name, Says: "is of a measurement that somebody waits for, not of a watch"})
		}
	}
	return errs
}

// Values are how it measures, by the names of fields.
func (s Spec) Values() map[string]json.RawMessage {
	list, err := s.kindOf().Give(s.How)
	if err != nil {
		return nil
	}
	return maps.Clone(list)
}

// Patience is how long after its last reading a path of the watch is still measured: until two
// of its times have passed without one, or a while longer than its hours allow none.
func (w *Watch) Patience(now time.Time) time.Duration {
	const late = time.Minute
	when := w.Spec.when(w.ID)
	if !w.Spec.Continuous() {
		two := when.Last(when.Last(now.Add(-late)).Add(-1))
		if two.IsZero() {
			return 2*w.Spec.Every + late
		}
		return now.Sub(two) + late
	}
	patience := 3 * late
	if !when.Open(now) {
		patience += now.Sub(when.Since(now))
	}
	return patience
}
