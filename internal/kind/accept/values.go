package accept

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/yamlfile"
)

// Ways are rates of both directions.
type Ways struct{ acceptance.Ways }

// FieldType is how forms take them.
func (w *Ways) FieldType() string { return "amount" }

// Set reads them.
func (w *Ways) Set(text string) error { return w.UnmarshalText([]byte(text)) }

// UnmarshalJSON reads a text, or a number of bits a second.
func (w *Ways) UnmarshalJSON(b []byte) error { return textOf(b, w.Set) }

// Share is a part.
type Share struct{ acceptance.Share }

// FieldType is how forms take it.
func (s *Share) FieldType() string { return "share" }

// Set reads it.
func (s *Share) Set(text string) error { return s.UnmarshalText([]byte(text)) }

// UnmarshalJSON reads a text or a number.
func (s *Share) UnmarshalJSON(b []byte) error { return textOf(b, s.Set) }

func textOf(b []byte, set func(string) error) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		return set(text)
	}
	if len(b) > 0 && (b[0] >= '0' && b[0] <= '9') {
		return set(string(b))
	}
	return errors.New("is neither a text nor a number")
}

// Plan is a plan, as a field of a spec: an object in JSON, or its text in YAML; a file's name on a
// command line.
type Plan struct {
	acceptance.Plan
	text []byte // that it was read from, to name lines
}

// FieldType is how forms take it: an object in JSON, or its text.
func (p *Plan) FieldType() string { return "object" }

// mostPlan is how large a plan may be, in bytes.
const mostPlan = 1 << 20

// IsZero reports whether there is none.
func (p Plan) IsZero() bool { return p.Plan.By == nil && p.Plan.BySize == nil && p.Plan.Name == "" }

// String names it.
func (p Plan) String() string {
	switch {
	case p.IsZero():
		return ""
	case p.Name == "":
		return "a plan"
	}
	return p.Name
}

// Set reads a file.
func (p *Plan) Set(name string) error {
	if name == "" {
		*p = Plan{}
		return nil
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if err := p.read(b); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// read reads a plan's text.
func (p *Plan) read(b []byte) error {
	if len(b) > mostPlan {
		return fmt.Errorf("a plan of %d bytes: %d at most are possible", len(b), mostPlan)
	}
	var x acceptance.Plan
	if err := yamlfile.Decode(b, &x); err != nil {
		return err
	}
	*p = Plan{x, b}
	if p.IsZero() {
		return errors.New("is no plan: by_size and by_service are both missing")
	}
	return nil
}

// line is that of a place of the text; 0 when it is not known.
func (p Plan) line(place string) int {
	if p.text == nil {
		return 0
	}
	t, err := yamlfile.Parse(p.text)
	if err != nil {
		return 0
	}
	for place != "" {
		if n := t.Line("$." + place); n > 0 {
			return n
		}
		at := strings.LastIndexAny(place, ".[")
		if at < 0 {
			return 0
		}
		place = place[:at]
	}
	return 0
}

// copied is a plan that may be changed.
func (p Plan) copied() (x acceptance.Plan) {
	b, err := json.Marshal(p.Plan)
	if err == nil {
		err = json.Unmarshal(b, &x)
	}
	if err != nil { // a plan is written as it is read
		panic(err)
	}
	return x
}

// MarshalJSON writes the plan.
func (p Plan) MarshalJSON() ([]byte, error) { return json.Marshal(p.Plan) }

// UnmarshalJSON reads an object, strictly, or the text of a file.
func (p *Plan) UnmarshalJSON(b []byte) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		if text == "" {
			*p = Plan{}
			return nil
		}
		return p.read([]byte(text))
	}
	if len(b) > mostPlan {
		return fmt.Errorf("a plan of %d bytes: %d at most are possible", len(b), mostPlan)
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var x acceptance.Plan
	if err := d.Decode(&x); err != nil {
		return fmt.Errorf("is no plan: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	*p = Plan{Plan: x}
	return nil
}

// tagOf reads a VLAN with its priority: 100, 100/5, 802.1ad:100/5.
func tagOf(text string) (t acceptance.Tag, err error) {
	wrong := fmt.Errorf("%q is no VLAN such as 100, 100/5 (with its priority) or 802.1ad:100/5", text)
	id, priority, has := strings.Cut(text, "/")
	if kind, rest, is := strings.Cut(id, ":"); is {
		t.Type, id = kind, rest
	}
	if t.VLAN, err = strconv.Atoi(id); err != nil {
		return t, wrong
	}
	if has {
		if t.Priority, err = strconv.Atoi(priority); err != nil {
			return t, wrong
		}
	}
	return t, nil
}
