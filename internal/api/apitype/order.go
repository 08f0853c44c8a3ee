package apitype

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
)

// Values are what a spec says, by its fields' names: beside what a body says of every kind
// they stand in the same object.
type Values map[string]json.RawMessage

// WatchSpec is what a watch measures: from where, to where, how often, and the spec of its
// kind.
type WatchSpec struct {
	Name      string     `json:"name" yaml:"name" doc:"Unique"`
	Kind      string     `json:"kind,omitempty" yaml:"kind" doc:"What is measured; the first of the list of kinds when left out"`
	From      []string   `json:"from" yaml:"from" doc:"Names of agents; site:NAME all of a site, label:WORD all that have it, those too that join later"`
	To        []string   `json:"to" yaml:"to" doc:"Names or addresses; names of agents, or site:NAME and label:WORD as in from; of a sweep prefixes, ranges and addresses"`
	Back      bool       `json:"and_back,omitempty" yaml:"and_back" doc:"Those that are measured to and are agents measure back, too"`
	Repeat    string     `json:"repeat,omitempty" yaml:"repeat" doc:"Time between runs, such as 5m; continuous when left out"`
	Every     string     `json:"every,omitempty" yaml:"every" doc:"As repeat, its older name"`
	Spread    string     `json:"spread,omitempty" yaml:"spread" enum:"even,poisson" doc:"How runs lie about the interval: at its multiples, or at random (RFC 2330, 11.1.1). Default even"`
	Cron      string     `json:"cron,omitempty" yaml:"cron" doc:"Cron expression of five fields instead of repeat, such as 0 9-17 * * MON-FRI"`
	Zone      string     `json:"zone,omitempty" yaml:"zone" doc:"Whose hours cron and hours go by, such as Europe/Dublin. Default UTC"`
	StartAt   *time.Time `json:"start_at,omitempty" yaml:"start" doc:"It begins then"`
	EndAt     *time.Time `json:"end_at,omitempty" yaml:"end" doc:"It ends then"`
	Hours     string     `json:"hours,omitempty" yaml:"hours" doc:"That are allowed, such as mon-fri 08:00-18:00, sat 09:00-12:00"`
	Paused    bool       `json:"paused,omitempty" yaml:"paused"`
	Tags      []string   `json:"tags,omitempty" yaml:"tags" doc:"Words to find the paths by"`
	DayBytes  int64      `json:"bytes_per_day_most,omitempty" yaml:"bytes_per_day" doc:"Of load runs: that they may send a day. Default 5 GiB"`
	Suspicion int64      `json:"suspicion_packets_per_day_most,omitempty" yaml:"suspicion_most" doc:"That may be sent to a path a day because it looks wrong, and as evidence. Default 20000; -1 for none"`
	// Also is what else is measured between the same ends.
	Also []WatchPart `json:"also,omitempty" yaml:"also" doc:"What else is measured between the same ends, side by side"`
	How  Values      `json:"-" yaml:"-"`
}

// WatchFields is what a watch says of every kind.
type WatchFields WatchSpec

// MarshalJSON writes it as one object.
func (w WatchSpec) MarshalJSON() ([]byte, error) { return flat(WatchFields(w), w.How) }

// UnmarshalJSON reads it; what is not of every watch is of its kind.
func (w *WatchSpec) UnmarshalJSON(b []byte) (err error) {
	var own WatchFields
	if own.How, err = apart(b, &own); err != nil {
		return err
	}
	*w = WatchSpec(own)
	return nil
}

// UnknownKey is a key of a file that a watch of its kind does not have.
type UnknownKey struct{ Key, Kind string }

// Error names the key.
func (u UnknownKey) Error() string { return fmt.Sprintf("a watch of kind %s has no %q", u.Kind, u.Key) }

// WatchOf reads a watch from a file, whose keys are named as the options are, with _ for -.
func WatchOf(all map[string]any) (w WatchSpec, err error) {
	name, _ := all["kind"].(string)
	k, err := kind.Find(kind.Or(name))
	if err != nil {
		return w, err
	}
	names := map[string]string{}
	for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
		for _, word := range append([]string{f.Flag}, f.Old...) {
			names[strings.ReplaceAll(word, "-", "_")] = f.Name
		}
		names[f.Name] = f.Name
	}
	for _, f := range ownKeys() {
		names[f.file] = f.json
	}
	out := map[string]any{}
	for _, key := range slices.Sorted(maps.Keys(all)) {
		to, known := names[key]
		if !known {
			return w, UnknownKey{key, k.Name}
		}
		out[to] = all[key]
	}
	if list, is := out["also"].([]any); is {
		if out["also"], err = partsOf(list); err != nil {
			return w, err
		}
	}
	for _, key := range []string{"from", "to", "tags"} { // one alone, or several with commas
		if text, is := out[key].(string); is {
			var l kind.List
			_ = l.Set(text)
			out[key] = []string(l)
		}
	}
	b, err := json.Marshal(out)
	if err != nil {
		return w, err
	}
	return w, w.UnmarshalJSON(b)
}

// Times are when it is made, beside how often.
func (w WatchSpec) Times() (t schedule.Times, err error) {
	t = schedule.Times{Cron: w.Cron, Zone: w.Zone, Hours: w.Hours, Poisson: w.Spread == "poisson"}
	if w.Spread != "" && w.Spread != "even" && w.Spread != "poisson" {
		err = fmt.Errorf("%w: spread %q is none of even, poisson", kind.ErrInvalid, cut(w.Spread))
	}
	if w.StartAt != nil {
		t.StartAt = w.StartAt.UTC()
	}
	if w.EndAt != nil {
		t.EndAt = w.EndAt.UTC()
	}
	return t, err
}

// At are the times at which it is made, as it says them.
func (w *WatchSpec) At(t schedule.Times) {
	w.Cron, w.Zone, w.Hours = t.Cron, t.Zone, t.Hours
	if t.Poisson {
		w.Spread = "poisson"
	}
	if !t.StartAt.IsZero() {
		w.StartAt = &t.StartAt
	}
	if !t.EndAt.IsZero() {
		w.EndAt = &t.EndAt
	}
}

type ownKey struct{ json, file string }

// ownKeys are what the fields of every watch are called in JSON and in files.
func ownKeys() (list []ownKey) {
	t := reflect.TypeOf(WatchFields{})
	for i := range t.NumField() {
		if key := t.Field(i).Tag.Get("yaml"); key != "-" {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			list = append(list, ownKey{name, key})
		}
	}
	return list
}

// Between is the time between the runs of a watch; 0 when it is continuous.
func (w WatchSpec) Between() (time.Duration, error) {
	text := w.Repeat
	switch {
	case w.Repeat != "" && w.Every != "" && w.Repeat != w.Every:
		return 0, fmt.Errorf("%w: repeat %q and every %q are the same and differ: leave every out", kind.ErrInvalid, cut(w.Repeat), cut(w.Every))
	case text == "":
		text = w.Every
	}
	if text == "" || text == "continuous" {
		return 0, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%w: repeat %q is not a span of time above zero, such as 5m or 1s", kind.ErrInvalid, cut(text))
	}
	return d, nil
}

func cut(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// Watch is a watch and what it costs.
type Watch struct {
	ID string `json:"id"`
	WatchSpec
	WatchState
}

// WatchState is how a watch stands.
type WatchState struct {
	Paths        int        `json:"paths"`
	ProbesPerDay float64    `json:"probes_per_day,omitzero" doc:"Over all its paths; left out when it is not known beforehand"`
	BytesPerDay  float64    `json:"bytes_per_day,omitzero" doc:"Both ways, IP layer; left out when it is not known beforehand, as for what TCP moves"`
	RowsPerDay   float64    `json:"rows_per_day,omitzero" doc:"That it keeps in the database"`
	LoadPerDay   float64    `json:"load_s_per_day,omitzero" doc:"Seconds a day for which it fills its paths"`
	NextDueAt    *time.Time `json:"next_due_at" doc:"null when continuous, paused or over"`
	Says         string     `json:"says,omitempty" doc:"Why it does not measure now, if it does not: paused, its hours, its begin, its end"`
	Hindered     []string   `json:"hindered,omitempty" doc:"What keeps it from being carried out, in whole or in part"`
	LastRun      *Run       `json:"last_run,omitempty" doc:"The last failed or missed one, or of a periodic watch the last"`
}

type watch struct {
	ID string `json:"id"`
	WatchFields
	WatchState
}

// MarshalJSON writes it as one object.
func (w Watch) MarshalJSON() ([]byte, error) {
	return flat(watch{w.ID, WatchFields(w.WatchSpec), w.WatchState}, w.How)
}

// UnmarshalJSON reads it.
func (w *Watch) UnmarshalJSON(b []byte) error {
	var own watch
	how, err := apart(b, &own)
	if err != nil {
		return err
	}
	own.How = how
	*w = Watch{own.ID, WatchSpec(own.WatchFields), own.WatchState}
	return nil
}

// Resume asks for a run that was cut to go on.
type Resume struct {
	Key string `json:"key,omitempty" doc:"Of a responder without a service"`
}

// Measurement asks for a measurement of any kind, now.
type Measurement struct {
	Kind string   `json:"kind,omitempty" doc:"What is measured; the first of the list of kinds when left out"`
	From string   `json:"from" doc:"Name of the agent"`
	To   []string `json:"to" doc:"Names or addresses; of a sweep prefixes, ranges and addresses; of a kind with two ends an agent, or ADDRESS:PORT of a responder or a reflector"`
	Key  string   `json:"key,omitempty" doc:"Of a responder without a service"`
	How  Values   `json:"-"`
}

type measurement Measurement

// MarshalJSON writes it as one object.
func (o Measurement) MarshalJSON() ([]byte, error) { return flat(measurement(o), o.How) }

// UnmarshalJSON reads it.
func (o *Measurement) UnmarshalJSON(b []byte) (err error) {
	var own measurement
	if own.How, err = apart(b, &own); err != nil {
		return err
	}
	*o = Measurement(own)
	return nil
}

// EndOrder asks for a measurement towards one target, now.
type EndOrder struct {
	Kind string `json:"kind,omitempty"`
	From string `json:"from" doc:"Name of the agent"`
	To   string `json:"to" doc:"Name or address; of a measurement with two ends an agent, or ADDRESS:PORT of a responder or a reflector"`
	Key  string `json:"key,omitempty" doc:"Of a responder without a service, or of a reflector's authenticated mode"`
	// Request is how an earlier release said what else there is to say.
	Request map[string]any `json:"request,omitempty" doc:"What else there is to say; better beside the rest"`
	How     Values         `json:"-"`
}

type endOrder EndOrder

// MarshalJSON writes it as one object.
func (o EndOrder) MarshalJSON() ([]byte, error) { return flat(endOrder(o), o.How) }

// UnmarshalJSON reads it.
func (o *EndOrder) UnmarshalJSON(b []byte) (err error) {
	var own endOrder
	if own.How, err = apart(b, &own); err != nil {
		return err
	}
	*o = EndOrder(own)
	return nil
}

// TransformSchema describes it with the fields of all kinds.
func (EndOrder) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema { return withFields(s) }

// flat writes a struct and values beside it as one object.
func flat(own any, how Values) ([]byte, error) {
	b, err := json.Marshal(own)
	if err != nil || len(how) == 0 {
		return b, err
	}
	all := Values{}
	if err := json.Unmarshal(b, &all); err != nil {
		return nil, err
	}
	for key, v := range how {
		if _, is := all[key]; is {
			return nil, fmt.Errorf("%q is of all kinds", key)
		}
		all[key] = v
	}
	return json.Marshal(all)
}

// apart reads a struct, and returns what of the object is none of its fields.
func apart(b []byte, own any) (Values, error) {
	var all Values
	if err := json.Unmarshal(b, &all); err != nil {
		return nil, errors.New("an object is expected")
	}
	if err := json.Unmarshal(b, own); err != nil {
		return nil, err
	}
	for _, name := range namesOf(reflect.TypeOf(own).Elem()) {
		delete(all, name)
	}
	if len(all) == 0 {
		return nil, nil
	}
	return all, nil
}

func namesOf(t reflect.Type) (list []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			list = append(list, namesOf(f.Type)...)
			continue
		}
		if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); name != "-" {
			list = append(list, name)
		}
	}
	return list
}

// TransformSchema describes it with the fields of all kinds.
func (WatchSpec) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema { return withFields(s) }

// TransformSchema describes it with the fields of all kinds.
func (Watch) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema { return withFields(s) }

// TransformSchema describes it with the fields of all kinds.
func (Measurement) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema {
	return withFields(s)
}

// withFields adds the fields of all kinds to a schema.
func withFields(s *huma.Schema) *huma.Schema {
	says := map[string][]string{}
	for _, k := range kind.All() {
		for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
			p := fieldSchema(f)
			if was := s.Properties[f.Name]; was != nil {
				if says[f.Name] == nil {
					continue // of every kind
				}
				p.Enum = eachOnce(was.Enum, p.Enum)
			}
			if d := f.Text(); d != "" && d != "false" && d != "0" {
				says[f.Name] = append(says[f.Name], fmt.Sprintf("of %s: %s; default %s", k.Name, f.Help, d))
			} else {
				says[f.Name] = append(says[f.Name], fmt.Sprintf("of %s: %s", k.Name, f.Help))
			}
			p.Description = strings.Join(says[f.Name], ". ")
			s.Properties[f.Name] = p
		}
	}
	if p := s.Properties["kind"]; p != nil {
		for _, name := range kind.Names() {
			p.Enum = append(p.Enum, name)
		}
	}
	s.PrecomputeMessages()
	return s
}

// eachOnce are the values of two lists, when both limit what may be said.
func eachOnce(a, b []any) []any {
	if len(a) == 0 || len(b) == 0 {
		return nil
	}
	for _, v := range b {
		if !slices.Contains(a, v) {
			a = append(a, v)
		}
	}
	return a
}

func fieldSchema(f kind.Field) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString}
	switch f.Type() {
	case "bool":
		s.Type = huma.TypeBoolean
	case "int":
		s.Type, s.Format = huma.TypeInteger, "int64"
	case "number", "rate":
		s.Type, s.Format = huma.TypeNumber, "double"
	case "packets":
		s.OneOf, s.Type = []*huma.Schema{{Type: huma.TypeNumber, Format: "double"}, {Type: huma.TypeString, Enum: []any{kind.Unlimited.String()}}}, ""
	case "object", "need":
		s.OneOf, s.Type = []*huma.Schema{{Type: huma.TypeObject, AdditionalProperties: true}, {Type: huma.TypeString}}, ""
	case "list":
		s.Type, s.Items = huma.TypeArray, &huma.Schema{Type: huma.TypeString}
	}
	for _, x := range f.Enum {
		s.Enum = append(s.Enum, x)
	}
	return s
}
