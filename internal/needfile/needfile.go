// Package needfile reads what a service asks of a place: the name of a need that is ready-made, or
// the text of a file.
package needfile

import (
	"fmt"
	"strings"

	"woodlark.example/core/readiness"
	"woodlark.example/internal/yamlfile"
)

// Most is how long the text of a need may be, in bytes.
const Most = 1 << 18

// Read reads a text strictly.
func Read(b []byte) (n readiness.Need, err error) {
	if len(b) > Most {
		return n, fmt.Errorf("a need of %d bytes: %d at most are possible", len(b), Most)
	}
	err = yamlfile.Decode(b, &n)
	return n, err
}

// ReadyMade reports whether a name is that of a need that is ready-made.
func ReadyMade(name string) bool {
	_, err := readiness.Find(name)
	return err == nil
}

// NameOrText is the need of a name, or of a text.
func NameOrText(text string) (readiness.Need, error) {
	name := strings.TrimSpace(text)
	if ReadyMade(name) || !strings.ContainsAny(text, ":\n") {
		return readiness.Find(name)
	}
	return Read([]byte(text))
}
