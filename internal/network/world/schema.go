package world

import _ "embed"

// Schema is the JSON Schema (draft 2020-12) of world files, for editors.
//
//go:embed schema.json
var Schema []byte
