package remote_test

import (
	"compress/gzip"
	"encoding/json"
	"net/http"
)

// unpacked reads a packed body.
func unpacked(r *http.Request, into any) error {
	b, err := gzip.NewReader(r.Body)
	if err != nil {
		return err
	}
	return json.NewDecoder(b).Decode(into)
}
