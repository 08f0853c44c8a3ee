package ready

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"woodlark.example/core/readiness"
	"woodlark.example/internal/needfile"
	"woodlark.example/internal/yamlfile"
)

// Need is what a service asks, as a field of a spec: the name of one that is ready-made, an object
// in JSON, or its text in YAML; on a command line a name or a file's name.
type Need struct {
	readiness.Need
	text []byte // that it was read from, to name lines
}

// FieldType is how forms take it: one that is ready-made, or its text.
func (n *Need) FieldType() string { return "need" }

// IsZero reports whether there is none.
func (n Need) IsZero() bool { return n.Name == "" }

// String names it.
func (n Need) String() string { return n.Name }

// Set reads a name, or a file.
func (n *Need) Set(text string) (err error) {
	if text == "" {
		*n = Need{}
		return nil
	}
	if needfile.ReadyMade(text) {
		*n = Need{}
		n.Need, err = readiness.Find(text)
		return err
	}
	b, err := os.ReadFile(text)
	if err != nil {
		if !strings.ContainsAny(text, "./") {
			_, err = readiness.Find(text)
		}
		return err
	}
	if err := n.read(b); err != nil {
		return fmt.Errorf("%s: %w", text, err)
	}
	return nil
}

// read reads a need's text.
func (n *Need) read(b []byte) error {
	x, err := needfile.Read(b)
	if err != nil {
		return err
	}
	*n = Need{x, b}
	return nil
}

// line is that of a place of the text; 0 when it is not known.
func (n Need) line(place string) int {
	if n.text == nil {
		return 0
	}
	t, err := yamlfile.Parse(n.text)
	if err != nil {
		return 0
	}
	for place != "" {
		if l := t.Line("$." + place); l > 0 {
			return l
		}
		at := strings.LastIndexAny(place, ".[")
		if at < 0 {
			return 0
		}
		place = place[:at]
	}
	return 0
}

// MarshalJSON writes the name of one that is ready-made, else all of it.
func (n Need) MarshalJSON() ([]byte, error) {
	if n.IsZero() {
		return []byte(`""`), nil
	}
	whole, err := json.Marshal(n.Need)
	if err != nil {
		return nil, err
	}
	if own, err := readiness.Find(n.Name); err == nil {
		if same, err := json.Marshal(own); err == nil && bytes.Equal(same, whole) {
			return json.Marshal(n.Name)
		}
	}
	return whole, nil
}

// UnmarshalJSON reads an object, strictly, or a name, or the text of a file.
func (n *Need) UnmarshalJSON(b []byte) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		switch {
		case strings.TrimSpace(text) == "":
			*n = Need{}
			return nil
		case needfile.ReadyMade(strings.TrimSpace(text)), !strings.ContainsAny(text, ":\n"):
			x, err := readiness.Find(strings.TrimSpace(text))
			*n = Need{Need: x}
			return err
		}
		return n.read([]byte(text))
	}
	if len(b) > needfile.Most {
		return fmt.Errorf("a need of %d bytes: %d at most are possible", len(b), needfile.Most)
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var x readiness.Need
	if err := d.Decode(&x); err != nil {
		return fmt.Errorf("is no need: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	*n = Need{Need: x}
	return nil
}
