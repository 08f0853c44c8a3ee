// Package backup is the form of a backup: all that a service knows, in one file. The file is a
// tar archive, packed by gzip, of
//
//	woodlark-backup.json   what it is: Head
//	tables/NAME/head.json  the columns of a table: Table
//	tables/NAME/000001     its rows, a line each: a JSON array with a value for each column
//	state/NAME             a file of the state folder
//	manifest.json          last: Manifest, with how much there is of each, and its SHA-256 (of a
//	                       table with its head before its rows); a file that was cut off has none
//
// Nothing here speaks to a database.
//
//	w, err := backup.NewWriter(file, backup.Head{Version: "0.1.0", Schema: 20, MadeAt: now})
//	err = w.Table(backup.Table{Name: "agents", Columns: columns})
//	err = w.Row(values)
//	err = w.File("token", token)
//	manifest, err := w.Close()
//
//	head, manifest, err := backup.Check(file)
//	err = backup.Read(file, into)
package backup

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"
)

// Form is that of the files that are written; one that is newer is refused.
const Form = 1

// ErrDamaged is wrapped when a file is no backup, or not whole, or not what was written.
var ErrDamaged = errors.New("the backup is damaged")

// Head says what a backup is.
type Head struct {
	Form    int       `json:"form"`
	Version string    `json:"version"` // of the program that made it
	Schema  int       `json:"schema"`  // of the database
	MadeAt  time.Time `json:"made_at"`
}

// Kind is what the values of a column are.
type Kind string

// The kinds. In a row bytes are in base64, and times are in UTC, with six digits behind the second.
const (
	Whole Kind = "int"
	Float Kind = "float"
	Text  Kind = "text"
	Bytes Kind = "bytes"
	Time  Kind = "time"
)

// Column of a table.
type Column struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
}

// Table is the head of a table.
type Table struct {
	Name    string   `json:"name"`
	Columns []Column `json:"columns"`
	Days    []string `json:"days,omitempty"` // that have partitions, as 20261130
}

// Part is how much there is of a table or a file.
type Part struct {
	Name   string `json:"name"`
	Rows   int64  `json:"rows,omitempty"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Manifest is all that a backup holds.
type Manifest struct {
	Head   Head   `json:"head"`
	Tables []Part `json:"tables"`
	Files  []Part `json:"files"`
}

// Rows are those of all tables.
func (m Manifest) Rows() (n int64) {
	for _, t := range m.Tables {
		n += t.Rows
	}
	return n
}

var (
	nameShape = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)
	fileShape = regexp.MustCompile(`^[a-z][a-z0-9_.-]{0,63}$`)
	dayShape  = regexp.MustCompile(`^20[0-9]{6}$`)
	kinds     = []Kind{Whole, Float, Text, Bytes, Time}
)

func (t Table) check() error {
	if !nameShape.MatchString(t.Name) {
		return fmt.Errorf("%w: %q is no name of a table", ErrDamaged, t.Name)
	}
	if len(t.Columns) == 0 {
		return fmt.Errorf("%w: the table %s has no columns", ErrDamaged, t.Name)
	}
	for _, c := range t.Columns {
		if !nameShape.MatchString(c.Name) || !slices.Contains(kinds, c.Kind) {
			return fmt.Errorf("%w: the table %s has a column %q of kind %q", ErrDamaged, t.Name, c.Name, c.Kind)
		}
	}
	for _, d := range t.Days {
		if !dayShape.MatchString(d) {
			return fmt.Errorf("%w: the table %s has a day %q", ErrDamaged, t.Name, d)
		}
	}
	return nil
}

const timeForm = "2006-01-02 15:04:05.000000"

// appendRow writes a row as a line.
func appendRow(line []byte, t Table, values []any) ([]byte, error) {
	if len(values) != len(t.Columns) {
		return nil, fmt.Errorf("a row of %s has %d values for %d columns", t.Name, len(values), len(t.Columns))
	}
	line = append(line, '[')
	for i, v := range values {
		if i > 0 {
			line = append(line, ',')
		}
		switch v := v.(type) {
		case nil:
			line = append(line, "null"...)
		case int64:
			line = strconv.AppendInt(line, v, 10)
		case uint64:
			line = strconv.AppendUint(line, v, 10)
		case float64:
			line = strconv.AppendFloat(line, v, 'g', -1, 64)
		case float32:
			line = strconv.AppendFloat(line, float64(v), 'g', -1, 32)
		case time.Time:
			line = append(line, '"')
			line = v.UTC().AppendFormat(line, timeForm)
			line = append(line, '"')
		case string:
			line = appendText(line, v)
		case []byte:
			if t.Columns[i].Kind != Bytes {
				line = appendText(line, string(v))
				break
			}
			line = append(line, '"')
			line = base64.StdEncoding.AppendEncode(line, v)
			line = append(line, '"')
		default:
			return nil, fmt.Errorf("a row of %s has a %T as %s", t.Name, v, t.Columns[i].Name)
		}
	}
	return append(line, ']', '\n'), nil
}

func appendText(line []byte, text string) []byte {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(text) // a string always is
	return append(line, bytes.TrimSuffix(b.Bytes(), []byte("\n"))...)
}

// parseRow reads a line: nil, int64, uint64, float64, string, []byte or time.Time for each column.
func parseRow(t Table, line []byte) ([]any, error) {
	values := make([]any, len(t.Columns))
	rest := line
	for i, c := range t.Columns {
		before := byte(',')
		if i == 0 {
			before = '['
		}
		if len(rest) == 0 || rest[0] != before {
			return nil, fmt.Errorf("%w: a row of %s cannot be read", ErrDamaged, t.Name)
		}
		word := nextWord(rest[1:])
		rest = rest[1+len(word):]
		v, err := parseValue(c.Kind, word)
		if err != nil {
			return nil, fmt.Errorf("%w: a row of %s has %s as %s: %w", ErrDamaged, t.Name, word[:min(len(word), 60)], c.Name, err)
		}
		values[i] = v
	}
	if string(rest) != "]" {
		return nil, fmt.Errorf("%w: a row of %s has more values than columns", ErrDamaged, t.Name)
	}
	return values, nil
}

// nextWord is a value at the beginning of a text: up to its closing quote, or up to the comma or
// bracket behind it.
func nextWord(b []byte) []byte {
	if len(b) == 0 || b[0] != '"' {
		if end := bytes.IndexAny(b, ",]"); end >= 0 {
			return b[:end]
		}
		return b
	}
	for i := 1; i < len(b); i++ {
		switch b[i] {
		case '\\':
			i++
		case '"':
			return b[:i+1]
		}
	}
	return b
}

var errOtherKind = errors.New("it is of another kind")

func parseValue(k Kind, word []byte) (any, error) {
	if string(word) == "null" {
		return nil, nil
	}
	switch k {
	case Whole:
		if n, err := strconv.ParseInt(string(word), 10, 64); err == nil {
			return n, nil
		}
		return strconv.ParseUint(string(word), 10, 64)
	case Float:
		return strconv.ParseFloat(string(word), 64)
	}
	if len(word) < 2 || word[0] != '"' || word[len(word)-1] != '"' {
		return nil, errOtherKind
	}
	inner := word[1 : len(word)-1]
	switch {
	case k == Bytes:
		return base64.StdEncoding.AppendDecode(make([]byte, 0, base64.StdEncoding.DecodedLen(len(inner))), inner)
	case k == Time:
		return time.Parse(timeForm, string(inner))
	case bytes.IndexByte(inner, '\\') < 0:
		return string(inner), nil
	}
	var text string
	err := json.Unmarshal(word, &text)
	return text, err
}
