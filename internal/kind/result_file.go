package kind

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
)

// ErrNoResult is wrapped where a text is no result of any kind.
var ErrNoResult = errors.New("it is no result of a measurement, as -format json writes them")

// OfResult is the kind of a result by itself, such as a file holds, and the result: of the kind that
// knows all of its keys. Of a list it is the only one.
func OfResult(raw []byte) (*Kind, any, error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) > 0 && raw[0] == '[' {
		var list []json.RawMessage
		if err := json.Unmarshal(raw, &list); err != nil {
			return nil, nil, fmt.Errorf("%w: %w", ErrNoResult, err)
		}
		if len(list) != 1 {
			return nil, nil, fmt.Errorf("%w of one target: it has %d", ErrNoResult, len(list))
		}
		raw = list[0]
	}
	var keys map[string]json.RawMessage
	if err := json.Unmarshal(raw, &keys); err != nil || len(keys) < 3 {
		return nil, nil, ErrNoResult
	}
	for _, k := range All() {
		into := k.Result()
		d := json.NewDecoder(bytes.NewReader(raw))
		d.DisallowUnknownFields()
		if d.Decode(into) == nil {
			return k, into, nil
		}
	}
	return nil, nil, ErrNoResult
}
