package document

import (
	"encoding/json"
	"io"
)

// JSON writes a value, indented.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
