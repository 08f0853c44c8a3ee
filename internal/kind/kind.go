package kind

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/report/document"
)

// Spec says how to measure; it is a pointer to a struct whose fields are Fields. From where
// and to where stands beside it.
type Spec interface {
	// Check says what is wrong with it, field by field; see Checks.
	Check() error
}

// Occasion is what a spec is made for; what it says when nothing is said may differ by it.
type Occasion int

const (
	// ByHand is a measurement that somebody waits for at a command line.
	ByHand Occasion = iota
	// Standing is a watch, or a measurement that is left to the service.
	Standing
)

// Kind is a kind of measurement.
type Kind struct {
	Name    string
	Version int    // of its spec and its result
	Summary string // what it measures, in a line
	Rank    int    // in lists of kinds
	// Usage names the targets on a command line, Example are calls and Help is what is to be
	// said beside the options.
	Usage, Example, Help string
	// New is a spec that says what is usual.
	New func(Occasion) Spec
	// Lanes says how targets come to be lanes.
	Lanes func(Spec) Rule
	// Target says what is wrong with a target; the usual is a name or an address.
	Target func(Spec, string) error
	// Noun is what its targets are called; target when empty.
	Noun string
	// NoTarget reports whether it needs none; nil when it always does.
	NoTarget func(Spec) bool
	// One says that it has one target.
	One bool
	// Earlier is where calls of earlier releases find its runs, and News what listeners hear
	// beside that a run is over, as in those.
	Earlier, News string
	// Counts is what its progress counts, such as probes; a time when it is empty.
	Counts string
	// Here says that 'woodlark here' goes it towards a target, too.
	Here bool
	// Remembers says that a run looks at the last of the same before it.
	Remembers bool
	// Load says that it fills the path, so that no other may go on beside it.
	Load bool
	// TwoEnds says that a far end takes part: an agent, or a responder that is asked with a key.
	TwoEnds bool
	// Guest is what the far end has to allow.
	Guest func(Spec) Guest
	// Paths says that its results are readings of paths, which have baselines.
	Paths bool
	// Continuous says that a watch of it may go on without end.
	Continuous bool
	// Least is the least time between the runs of a watch.
	Least time.Duration
	// Limit is how long a run may take before it is given up.
	Limit func(Spec, int) time.Duration
	// Size is how many things of so many targets it asks: addresses; nil where that is not known.
	Size func(Spec, []string) int64
	// Cost is what a run sends to so many targets; 0 where it is not known beforehand.
	Cost func(Spec, []string) Cost
	// Agent says what an agent cannot do of it that this machine can; nil when it can do all.
	Agent func(Spec, []string) error
	// Watch says what of it makes no standing measurement; nil when all does. The time between
	// runs is 0 when it is continuous.
	Watch func(Spec, []string, time.Duration) error
	// Disturbs says why it is not made on a path that a watch measures, and what to do; empty
	// where it may be. Nil when it always may be.
	Disturbs func(Spec) string
	// Resumes says that a run may go on with an earlier one of the same that was cut.
	Resumes bool
	// Estimate is what it takes, before anything is sent; nil when nobody asks. Document and JSON
	// read it, too.
	Estimate func(Spec) (any, error)
	// Schema is the JSON Schema of the kind's files; nil when it has none.
	Schema func() []byte
	Run    Runner
	// More is an empty More of the kind's progress, a pointer; nil when it has none.
	More func() any
	// Result is an empty result, a pointer, to read one into.
	Result func() any
	// Formats are those that its results can be written in beside text, json and csv.
	Formats []string
	// FormatsSay says what those are for.
	FormatsSay string
	// Draw is how it is drawn as it goes, and Took how long it measures.
	Draw Drawing
	Took func(Spec) time.Duration
	// Says writes how far it is, on one line; nil for a bar.
	Says func(Progress) string
	// Line writes a progress as a line of JSON, for the format ndjson; nil where there is none.
	Line func(io.Writer, Lane, Progress) error
	// Same tells measurements of this kind apart that can be compared with the last of the
	// same; nil where none can.
	Same func(Spec, []string, Lane) []string
	// Announce says what it will take when that is more than so many packets.
	Announce func(s Spec, targets []string, above int) []string
	// Document is how results read.
	Document func(results []any, zone *time.Location) document.Document
	// JSON is what results are in JSON; as they are when nil.
	JSON func(results []any) any
	// Write writes results in one of the kind's Formats, or in another way in JSON; it reports
	// whether it did. Nil writes none.
	Write func(w io.Writer, format string, results []any) (bool, error)
	// Good reports whether results are good: measured, and nothing wrong was found.
	Good func([]any) bool
}

// Drawing is how a measurement is drawn at a terminal as it goes.
type Drawing int

// The ways.
const (
	DrawNothing Drawing = iota
	DrawProbes          // probes by their round-trip times
	DrawRoute           // hops
)

// Cost is what a run sends, both ways, at the IP layer.
type Cost struct{ Packets, Bytes float64 }

// ErrUnknown is wrapped when there is no such kind, field or version.
var ErrUnknown = errors.New("unknown")

var kinds = map[string]*Kind{}

// Register makes a kind known. It is called as the program begins.
func Register(k *Kind) *Kind {
	if _, is := kinds[k.Name]; is {
		panic("kind: " + k.Name + " is there twice")
	}
	kinds[k.Name] = k
	return k
}

// All are all kinds.
func All() []*Kind {
	return slices.SortedFunc(maps.Values(kinds), func(a, b *Kind) int { return cmp.Or(cmp.Compare(a.Rank, b.Rank), cmp.Compare(a.Name, b.Name)) })
}

// Or is a name, or that of the kind that is meant when none is named.
func Or(name string) string {
	if name == "" {
		return All()[0].Name
	}
	return name
}

// In is the kind whose runs calls of earlier releases find in a place, the first by rank.
func In(place string) *Kind {
	i := slices.IndexFunc(All(), func(k *Kind) bool { return k.Earlier == place })
	if i < 0 {
		panic("kind: no runs are in " + place)
	}
	return All()[i]
}

// Names are the names of all kinds.
func Names() []string {
	var list []string
	for _, k := range All() {
		list = append(list, k.Name)
	}
	return list
}

// Find finds a kind by its name. The error wraps ErrUnknown and ErrInvalid.
func Find(name string) (*Kind, error) {
	if k := kinds[name]; k != nil {
		return k, nil
	}
	return nil, fmt.Errorf("%w: %w kind of measurement %q: there are %s", ErrInvalid, ErrUnknown, short(name), strings.Join(Names(), ", "))
}

// Decode reads a spec from an object of JSON, strictly: what it does not have, or not in this
// form, is an error that names the field. What is left out is as usual on the occasion.
func (k *Kind) Decode(o Occasion, data []byte) (Spec, error) {
	given := map[string]json.RawMessage{}
	if len(bytes.TrimSpace(data)) > 0 {
		if err := json.Unmarshal(data, &given); err != nil {
			return nil, fmt.Errorf("%w: the spec of a %s is an object of JSON", ErrInvalid, k.Name)
		}
	}
	return k.Take(o, given)
}

// Take is Decode of an object's values by their keys.
func (k *Kind) Take(o Occasion, given map[string]json.RawMessage) (Spec, error) {
	spec := k.New(o)
	return spec, Fill("a "+k.Name, spec, given)
}

// Fill fills a struct of fields from values by their keys, strictly; whose says of what it is,
// for people. Fields that are not given stay as they are.
func Fill(whose string, spec any, given map[string]json.RawMessage) error {
	fields := FieldsOf(spec)
	var c Checks
	names := map[string]bool{}
	for _, f := range fields {
		names[f.Name] = true
		raw, is := given[f.Name]
		if !is {
			continue
		}
		if err := f.decode(raw); err != nil {
			c.Wrong(f.Name, "%v", err)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(given)) {
		if !names[key] {
			c.list = append(c.list, fmt.Errorf("%w: %w field %q of %s, which has %s", ErrInvalid, ErrUnknown, short(key), whose, strings.Join(slices.Sorted(maps.Keys(names)), ", ")))
		}
	}
	settle(spec, &c, func(f Field) bool {
		raw, is := given[f.Name]
		return is && string(raw) != "null" && string(raw) != `""`
	})
	return c.Err()
}

// Encode writes a spec so that Decode reads the same: what says nothing is left out where
// that is usual.
func (k *Kind) Encode(spec Spec) ([]byte, error) {
	list, err := k.Give(spec)
	if err != nil {
		return nil, err
	}
	return json.Marshal(list)
}

// Give is Encode by key.
func (k *Kind) Give(spec Spec) (map[string]json.RawMessage, error) {
	usual := map[string]bool{} // those that say something when they are left out
	for _, o := range []Occasion{ByHand, Standing} {
		for _, f := range FieldsOf(k.New(o)) {
			usual[f.Name] = usual[f.Name] || !f.IsZero()
		}
	}
	return written(spec, usual)
}

// written writes fields, of those that say nothing only some.
func written(spec any, some map[string]bool) (map[string]json.RawMessage, error) {
	list := map[string]json.RawMessage{}
	for _, f := range FieldsOf(spec) {
		if f.IsZero() && !some[f.Name] {
			continue
		}
		raw, err := json.Marshal(f.value.Interface())
		if err != nil {
			return nil, fmt.Errorf("write %s: %w", f.Name, err)
		}
		list[f.Name] = raw
	}
	return list, nil
}

// Written are the fields of a struct that say something, by their names, as Fill reads them.
func Written(spec any) (map[string]json.RawMessage, error) {
	return written(spec, nil)
}

// Settle lets a field stand in the place of another that it excludes, as 'for' does for
// 'probes': both cannot be given.
func Settle(spec any, given func(Field) bool) error {
	var c Checks
	settle(spec, &c, given)
	return c.Err()
}

func settle(spec any, c *Checks, given func(Field) bool) {
	fields := FieldsOf(spec)
	for _, f := range fields {
		if f.Instead == "" || !given(f) {
			continue
		}
		if f.IsZero() {
			c.Wrong(f.Name, "0 is not above zero")
			continue
		}
		i := slices.IndexFunc(fields, func(x Field) bool { return x.Name == f.Instead })
		other := fields[i]
		if given(other) && !other.IsZero() {
			c.Wrong(f.Name, "and %s exclude each other", other.Name)
			continue
		}
		other.value.SetZero()
	}
}

// ReadMore reads the More of a progress that came as JSON: a value, as a run tells it.
func (k *Kind) ReadMore(raw json.RawMessage) (any, error) {
	if k.More == nil || len(raw) == 0 {
		return nil, nil
	}
	into := k.More()
	if err := json.Unmarshal(raw, into); err != nil {
		return nil, err
	}
	return reflect.ValueOf(into).Elem().Interface(), nil
}

// ReadResult reads a result of this kind as it was written by this release or an earlier one.
// The error wraps ErrUnknown for one of a later.
func (k *Kind) ReadResult(version int, body json.RawMessage) (any, error) {
	if version > k.Version {
		return nil, fmt.Errorf("%w version %d of the results of %s: this release knows %d", ErrUnknown, version, k.Name, k.Version)
	}
	into := k.Result()
	if err := json.Unmarshal(body, into); err != nil {
		return nil, fmt.Errorf("read a result of %s: %w", k.Name, err)
	}
	return into, nil
}

// Loads are the names of the kinds that fill a path.
func Loads() (list []string) {
	for _, k := range All() {
		if k.Load {
			list = append(list, k.Name)
		}
	}
	return list
}
