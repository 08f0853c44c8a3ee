package api

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// marshalCSV writes an answer as a table (RFC 4180): a list with a row for each thing in
// it, a series with a row for each time, anything else with one row. The columns are named
// as the keys of the JSON are, those within others with a dot; what is a list within a row
// is JSON.
func marshalCSV(w io.Writer, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	root, err := ordered(json.NewDecoder(bytes.NewReader(data)))
	if err != nil {
		return err
	}
	var header []string
	seen := map[string]bool{}
	var rows []map[string]string
	for _, item := range rowsOf(root) {
		row := map[string]string{}
		for _, c := range cellsOf("", item) {
			if !seen[c.key] {
				seen[c.key] = true
				header = append(header, c.key)
			}
			row[c.key] = c.text
		}
		rows = append(rows, row)
	}
	out := csv.NewWriter(w)
	out.UseCRLF = true
	if len(header) > 0 {
		_ = out.Write(header)
	}
	for _, row := range rows {
		line := make([]string, len(header))
		for i, k := range header {
			line[i] = row[k]
		}
		_ = out.Write(line)
	}
	out.Flush()
	return out.Error()
}

func noCSV([]byte, any) error { return errors.New("bodies are JSON here") }

// pair is a key of an object and its value, in the order in which they came.
type pair struct {
	key   string
	value any // []pair, []any, json.Number, string, bool or nil
}

// ordered decodes a value and keeps the order of keys.
func ordered(d *json.Decoder) (any, error) {
	d.UseNumber()
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t {
	case json.Delim('{'):
		pairs := []pair{}
		for d.More() {
			key, err := d.Token()
			if err != nil {
				return nil, err
			}
			value, err := ordered(d)
			if err != nil {
				return nil, err
			}
			pairs = append(pairs, pair{fmt.Sprint(key), value})
		}
		_, err := d.Token()
		return pairs, err
	case json.Delim('['):
		list := []any{}
		for d.More() {
			value, err := ordered(d)
			if err != nil {
				return nil, err
			}
			list = append(list, value)
		}
		_, err := d.Token()
		return list, err
	}
	return t, nil
}

// rowsOf finds what the rows of an answer are.
func rowsOf(root any) []any {
	if list, is := root.([]any); is {
		return list
	}
	object, is := root.([]pair)
	if !is {
		return []any{root}
	}
	if rows, is := asRows(object); is {
		return rows
	}
	var found []any
	lists := 0
	for _, p := range object {
		list, is := p.value.([]any)
		if !is {
			continue
		}
		if len(list) == 0 {
			lists++
		} else if _, objects := list[0].([]pair); objects {
			found, lists = list, lists+1
		}
	}
	if lists == 1 {
		return found
	}
	return []any{root}
}

// asRows turns columns of equal length beside a column "at" into rows.
func asRows(object []pair) ([]any, bool) {
	n := -1
	for _, p := range object {
		if list, is := p.value.([]any); is && p.key == "at" {
			n = len(list)
		}
	}
	if n < 0 {
		return nil, false
	}
	rows := make([]any, n)
	for i := range rows {
		rows[i] = []pair{}
	}
	for _, p := range object {
		list, is := p.value.([]any)
		if !is || len(list) != n {
			continue
		}
		if n > 0 {
			if _, objects := list[0].([]pair); objects {
				continue
			}
		}
		for i := range rows {
			rows[i] = append(rows[i].([]pair), pair{p.key, list[i]})
		}
	}
	return rows, true
}

type cell struct{ key, text string }

// cellsOf flattens a row.
func cellsOf(before string, v any) (cells []cell) {
	switch x := v.(type) {
	case []pair:
		for _, p := range x {
			key := p.key
			if before != "" {
				key = before + "." + key
			}
			cells = append(cells, cellsOf(key, p.value)...)
		}
	case []any:
		words := make([]string, len(x))
		for i, item := range x {
			if s, is := item.(string); is && !strings.ContainsAny(s, ";") {
				words[i] = s
				continue
			}
			return []cell{{before, plain(x)}}
		}
		return []cell{{before, strings.Join(words, ";")}}
	case nil:
		return []cell{{before, ""}}
	default:
		return []cell{{before, fmt.Sprint(x)}}
	}
	return cells
}

// plain is a value as JSON again.
func plain(v any) string {
	switch x := v.(type) {
	case []pair:
		parts := make([]string, len(x))
		for i, p := range x {
			key, _ := json.Marshal(p.key)
			parts[i] = string(key) + ":" + plain(p.value)
		}
		return "{" + strings.Join(parts, ",") + "}"
	case []any:
		parts := make([]string, len(x))
		for i, item := range x {
			parts[i] = plain(item)
		}
		return "[" + strings.Join(parts, ",") + "]"
	}
	data, _ := json.Marshal(v)
	return string(data)
}
