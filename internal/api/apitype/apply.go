package apitype

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"woodlark.example/internal/kind"
)

// WatchOrder are watches as they are wanted.
type WatchOrder struct {
	Watches []WatchSpec `json:"watches"`
	Show    bool        `json:"show,omitempty" doc:"Only say what would become"`
}

// WatchChanges are what becomes of watches.
type WatchChanges struct {
	Changes []WatchChange `json:"changes"`
}

// WatchChange is what becomes of a watch.
type WatchChange struct {
	What        string            `json:"what" enum:"add,change,same"`
	Before      *Watch            `json:"before,omitempty"`
	After       Watch             `json:"after" doc:"With what it costs; without an identifier where one that is new is only shown"`
	Differences []WatchDifference `json:"differences"`
}

// WatchDifference is a field that is another.
type WatchDifference struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// DifferencesOf are the fields in which two watches differ.
func DifferencesOf(a, b WatchSpec) (list []WatchDifference, err error) {
	was, err := fieldsOf(a)
	if err != nil {
		return nil, err
	}
	is, err := fieldsOf(b)
	if err != nil {
		return nil, err
	}
	keys := maps.Clone(was)
	maps.Copy(keys, is)
	list = []WatchDifference{}
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		if before, after := plainly(was[key]), plainly(is[key]); before != after && key != "every" {
			list = append(list, WatchDifference{key, before, after})
		}
	}
	return list, nil
}

func fieldsOf(w WatchSpec) (all map[string]json.RawMessage, err error) {
	b, err := json.Marshal(w)
	if err != nil {
		return nil, err
	}
	return all, json.Unmarshal(b, &all)
}

// plainly is a value as people read it.
func plainly(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	var list []string
	if json.Unmarshal(raw, &list) == nil {
		return strings.Join(list, ", ")
	}
	return string(raw)
}

// File is a watch as WatchOf reads it from a file: its keys are named as the options are. What
// is as usual is left out.
func (w WatchSpec) File() (map[string]any, error) {
	k, err := kind.Find(kind.Or(w.Kind))
	if err != nil {
		return nil, err
	}
	usual, err := k.Give(k.New(kind.Standing))
	if err != nil {
		return nil, err
	}
	how := map[string]json.RawMessage{}
	names := map[string]string{}
	for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
		names[f.Name] = strings.ReplaceAll(f.Flag, "-", "_")
		if v, is := w.How[f.Name]; is && string(v) != string(usual[f.Name]) {
			how[f.Name] = v
		}
	}
	also, err := partsFile(w.Also)
	if err != nil {
		return nil, err
	}
	w.How, w.Every, w.Also = how, "", nil
	all, err := fieldsOf(w)
	if err != nil {
		return nil, err
	}
	for _, f := range ownKeys() {
		names[f.json] = f.file
	}
	out := map[string]any{}
	for key, raw := range all {
		name := names[key]
		if name == "" || name == "_" {
			name = key
		}
		if out[name], err = fileValue(raw); err != nil {
			return nil, err
		}
	}
	if len(also) > 0 {
		out["also"] = also
	}
	return out, nil
}

// fileValue is a value for a file: whole numbers stay whole.
func fileValue(raw json.RawMessage) (v any, err error) {
	var whole int64
	if json.Unmarshal(raw, &whole) == nil && string(raw) != "null" {
		return whole, nil
	}
	return v, json.Unmarshal(raw, &v)
}
