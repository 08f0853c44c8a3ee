package world

import (
	"reflect"
	"strings"
)

// Keys are the keys that the reader knows of a part of a file.
func Keys(part string) []string {
	return keysOf(reflect.TypeOf(map[string]any{"world": fileWorld{}, "node": fileNode{}, "link": fileLink{}, "change": fileChange{}}[part]))
}

func keysOf(t reflect.Type) []string {
	var keys []string
	for i := range t.NumField() {
		name, option, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if option == "inline" {
			keys = append(keys, keysOf(t.Field(i).Type)...)
			continue
		}
		keys = append(keys, name)
	}
	return keys
}
