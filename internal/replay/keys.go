package replay

import (
	"reflect"
	"strings"

	"woodlark.example/core/reading"
)

// knownKeys are the keys that a reading may have: those that are judged, and those that
// readings are written with elsewhere.
var knownKeys = func() map[string]bool {
	known := map[string]bool{}
	for _, v := range []any{Line{}, reading.Figures{}} {
		t := reflect.TypeOf(v)
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			known[name] = true
		}
	}
	return known
}()
