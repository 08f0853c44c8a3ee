package acceptance

import (
	"encoding"
	"encoding/json"
	"maps"
	"reflect"
	"strings"
)

// Schema is the JSON Schema (draft 2020-12) of plans, for editors: it is made from Plan itself, so
// that it says what is read.
func Schema() []byte {
	return SchemaOf[Plan]("Plan of an acceptance test", map[string]any{"anyOf": []any{map[string]any{"required": []string{"by_size"}}, map[string]any{"required": []string{"by_service"}}}})
}

// SchemaOf is the JSON Schema of a file that is read into a struct whose fields have docs, with what
// more is to be said of it.
func SchemaOf[T any](title string, more map[string]any) []byte {
	s := schemaOf(reflect.TypeFor[T]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = title
	maps.Copy(s, more)
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil { // it is made of maps and texts
		panic(err)
	}
	return append(b, '\n')
}

// enums are the words that some texts may be.
var enums = map[reflect.Type][]string{
	reflect.TypeFor[Over]():  {string(IP), string(Frame)},
	reflect.TypeFor[Way]():   {string(Both), string(Each), string(There), string(Back)},
	reflect.TypeFor[Ends]():  {string(AtBoth), string(Returned)},
	reflect.TypeFor[Layer](): {"payload", "ip", "frame", "line"},
}

func schemaOf(t reflect.Type) map[string]any {
	if t.Kind() == reflect.Pointer {
		return schemaOf(t.Elem())
	}
	if words := enums[t]; words != nil {
		return map[string]any{"type": "string", "enum": words}
	}
	if reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]()) {
		return map[string]any{"type": []string{"string", "number"}}
	}
	switch t.Kind() {
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Uint32:
		return map[string]any{"type": "integer", "minimum": 0}
	case reflect.Float64:
		return map[string]any{"type": "number", "minimum": 0}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	}
	fields := map[string]any{}
	var needed []string
	for i := range t.NumField() {
		f := t.Field(i)
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		x := schemaOf(f.Type)
		if doc := f.Tag.Get("doc"); doc != "" {
			x["description"] = doc
		}
		fields[name] = x
		if !strings.Contains(rest, "omit") {
			needed = append(needed, name)
		}
	}
	s := map[string]any{"type": "object", "properties": fields, "additionalProperties": false}
	if needed != nil {
		s["required"] = needed
	}
	return s
}
