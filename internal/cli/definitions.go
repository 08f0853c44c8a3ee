package cli

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strings"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
)

// definition is something that somebody said, as it is exported: a line of NDJSON, or of CSV with
// the same columns.
type definition struct {
	What string          `json:"definition"` // site, owner, objective, watch, maintenance, board, channel, rule
	Name string          `json:"name"`
	Body json.RawMessage `json:"body"` // as the interface takes it
}

// definitionsEnd is the last line of NDJSON.
type definitionsEnd struct {
	End         bool `json:"end"`
	Definitions int  `json:"definitions"`
}

// definitionBegin is how a file of definitions begins; one of CSV begins with the first two columns.
const definitionBegin = `{"definition":"`

var definitionColumns = []string{"definition", "name", "body"}

// defined is a kind of definitions: how they are read off a service and given to one.
type defined struct {
	what string
	// read are those that the service has; it says what of one cannot be exported.
	read func(c *call, api *client.Client) (list []definition, left []string, err error)
	// give takes one in, over the one of its name if there is one.
	give func(c *call, api *client.Client, d definition, there bool) error
}

// definitions are those that go by export and import, in the order in which one needs the other.
var definitions = []defined{
	{"site", readSites, func(c *call, api *client.Client, d definition, _ bool) error {
		return api.Do(c.ctx, http.MethodPut, "/sites", map[string]any{"sites": []json.RawMessage{d.Body}}, nil)
	}},
	{"owner", readOwnersSaid, func(c *call, api *client.Client, d definition, _ bool) error {
		return api.Do(c.ctx, http.MethodPut, "/owners", map[string]any{"owners": []json.RawMessage{d.Body}}, nil)
	}},
	{"objective", readObjectives, give("/objectives")},
	{"watch", readWatchesKept, func(c *call, api *client.Client, d definition, _ bool) error {
		return api.Do(c.ctx, http.MethodPost, "/watches/apply", map[string]any{"watches": []json.RawMessage{d.Body}}, nil)
	}},
	{"maintenance", readMaintenance, func(c *call, api *client.Client, d definition, there bool) error {
		if there {
			if err := api.Do(c.ctx, http.MethodDelete, "/maintenance/"+client.Segment(d.Name), nil, nil); err != nil {
				return err
			}
		}
		return api.Do(c.ctx, http.MethodPost, "/maintenance", d.Body, nil)
	}},
	{"board", readBoards, giveBoard},
	{"channel", readChannels, give("/channels")},
	{"rule", readRules, give("/rules")},
}

func give(path string) func(*call, *client.Client, definition, bool) error {
	return func(c *call, api *client.Client, d definition, _ bool) error {
		return api.Do(c.ctx, http.MethodPost, path, d.Body, nil)
	}
}

func defining[T any](what string, list []T, name func(T) string) ([]definition, error) {
	out := make([]definition, len(list))
	for i, x := range list {
		body, err := json.Marshal(x)
		if err != nil {
			return nil, err
		}
		out[i] = definition{what, name(x), body}
	}
	return out, nil
}

// readAll reads a list off the service, of each of which keep is what is exported.
func readAll[In, Out any](c *call, api *client.Client, path, what string, keep func(In) (Out, bool), name func(Out) string) ([]definition, error) {
	var list []In
	if err := api.Get(c.ctx, path, nil, &list); err != nil {
		return nil, err
	}
	var kept []Out
	for _, x := range list {
		if y, is := keep(x); is {
			kept = append(kept, y)
		}
	}
	return defining(what, kept, name)
}

func readSites(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/sites", "site", func(s apitype.Site) (apitype.SiteSpec, bool) { return s.SiteSpec, s.Said }, func(s apitype.SiteSpec) string { return s.Name })
	return list, nil, err
}

func readOwnersSaid(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/owners", "owner", func(o apitype.Owner) (apitype.Owner, bool) { return o, !o.Given }, func(o apitype.Owner) string { return o.Prefix })
	return list, nil, err
}

func readObjectives(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/objectives", "objective", func(o apitype.Objective) (apitype.Objective, bool) { return o, !o.Ready }, func(o apitype.Objective) string { return o.Name })
	return list, nil, err
}

func readWatchesKept(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/watches", "watch", func(w apitype.Watch) (apitype.WatchSpec, bool) { return w.WatchSpec, true }, func(w apitype.WatchSpec) string { return w.Name })
	return list, nil, err
}

func readMaintenance(c *call, api *client.Client) ([]definition, []string, error) {
	var left []string
	list, err := readAll(c, api, "/maintenance", "maintenance", func(m apitype.Maintenance) (apitype.MaintenanceSpec, bool) {
		if m.CalendarBytes > 0 && m.Address == "" {
			left = append(left, fmt.Sprintf("maintenance %q is of a calendar, whose text the service does not give back: add it again from its file", m.Name))
			return m.MaintenanceSpec, false
		}
		return m.MaintenanceSpec, true
	}, func(m apitype.MaintenanceSpec) string { return m.Name })
	return list, left, err
}

func readBoards(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/boards", "board", func(b apitype.Board) (apitype.BoardSpec, bool) { return b.BoardSpec, true }, func(b apitype.BoardSpec) string { return b.Name })
	return list, nil, err
}

func giveBoard(c *call, api *client.Client, d definition, there bool) error {
	if !there {
		return api.Do(c.ctx, http.MethodPost, "/boards", d.Body, nil)
	}
	var was apitype.Board
	if err := api.Get(c.ctx, "/boards/"+client.Segment(d.Name), nil, &was); err != nil {
		return err
	}
	var spec apitype.BoardSpec
	if err := json.Unmarshal(d.Body, &spec); err != nil {
		return err
	}
	return api.Do(c.ctx, http.MethodPut, "/boards/"+client.Segment(was.ID), apitype.BoardChange{BoardSpec: spec, Revision: was.Revision}, nil)
}

func readChannels(c *call, api *client.Client) ([]definition, []string, error) {
	var left []string
	list, err := readAll(c, api, "/channels", "channel", func(x apitype.Channel) (apitype.ChannelSpec, bool) {
		if len(x.Hidden) > 0 {
			left = append(left, fmt.Sprintf("channel %q has secrets (%s), which the service does not give back: add it again, and then import what leads to it", x.Name, strings.Join(x.Hidden, ", ")))
			return x.ChannelSpec, false
		}
		return x.ChannelSpec, true
	}, func(x apitype.ChannelSpec) string { return x.Name })
	return list, left, err
}

func readRules(c *call, api *client.Client) ([]definition, []string, error) {
	list, err := readAll(c, api, "/rules", "rule", func(r apitype.Rule) (apitype.RuleSpec, bool) { return r.RuleSpec, true }, func(r apitype.RuleSpec) string { return r.Name })
	return list, nil, err
}

// exportDefinitions writes all that somebody said to a file.
func (c *call) exportDefinitions(api *client.Client, w io.Writer) (n int, left []string, err error) {
	sheet := csv.NewWriter(w)
	lines := json.NewEncoder(w)
	lines.SetEscapeHTML(false)
	if c.format == "csv" {
		_ = sheet.Write(definitionColumns)
	}
	for _, kind := range definitions {
		list, some, err := kind.read(c, api)
		if err != nil {
			return n, left, err
		}
		left = append(left, some...)
		for _, d := range list {
			if n++; c.format == "csv" {
				_ = sheet.Write([]string{d.What, d.Name, string(d.Body)})
			} else if err := lines.Encode(d); err != nil {
				return n, left, err
			}
		}
	}
	sheet.Flush()
	if c.format != "csv" {
		err = lines.Encode(definitionsEnd{true, n})
	}
	return n, left, errors.Join(err, sheet.Error())
}

func (c *call) runExportDefinitions(out string) error {
	api, err := c.client()
	if err != nil {
		return err
	}
	file, err := newFile(out)
	if err != nil {
		return err
	}
	to := bufio.NewWriter(file)
	n, left, err := c.exportDefinitions(api, to)
	if err = errors.Join(err, to.Flush(), file.Close()); err != nil {
		_ = os.Remove(out)
		return err
	}
	fmt.Fprintf(c.out, "%s written, %s.\n", out, plural(n, "definition"))
	for _, l := range left {
		fmt.Fprintln(c.err, "note: "+l)
	}
	return nil
}

// readDefinitions reads an export of definitions, whole or not at all.
func readDefinitions(in io.Reader, first byte) (list []definition, err error) {
	if first != '{' {
		rows, err := csv.NewReader(in).ReadAll()
		if err != nil {
			return nil, err
		}
		if len(rows) == 0 || !slices.Equal(rows[0], definitionColumns) {
			return nil, fmt.Errorf("its columns are not %s", strings.Join(definitionColumns, ", "))
		}
		for i, row := range rows[1:] {
			if !json.Valid([]byte(row[2])) {
				return nil, fmt.Errorf("line %d: its body is no JSON", i+2)
			}
			list = append(list, definition{row[0], row[1], json.RawMessage(row[2])})
		}
	} else {
		lines := json.NewDecoder(in)
		whole := false
		for {
			var d struct {
				definition
				definitionsEnd
			}
			err := lines.Decode(&d)
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return nil, fmt.Errorf("definition %d: %w", len(list)+1, err)
			}
			if d.End {
				if whole = d.Definitions == len(list); !whole {
					return nil, fmt.Errorf("its end says that there are %d definitions, and there were %d: the file was cut", d.Definitions, len(list))
				}
				continue
			}
			list = append(list, d.definition)
		}
		if !whole {
			return nil, errors.New("it has no end: the file was cut")
		}
	}
	for i, d := range list {
		if !slices.ContainsFunc(definitions, func(k defined) bool { return k.what == d.What }) || d.Name == "" || len(d.Body) == 0 {
			return nil, fmt.Errorf("definition %d, %q of the name %q, is none that is known", i+1, short(d.What), short(d.Name))
		}
	}
	return list, nil
}

// importDefinitions takes in what an export holds; what is there already and is the same stays as
// it is. What one refuses does not keep the others out.
func (c *call) importDefinitions(api *client.Client, list []definition) error {
	var rows, records [][]string
	refused := 0
	for _, kind := range definitions {
		mine := slices.DeleteFunc(slices.Clone(list), func(d definition) bool { return d.What != kind.what })
		if len(mine) == 0 {
			continue
		}
		there, _, err := kind.read(c, api)
		if err != nil {
			return err
		}
		for _, d := range mine {
			became, says := "added", ""
			i := slices.IndexFunc(there, func(o definition) bool { return strings.EqualFold(o.Name, d.Name) })
			switch {
			case i >= 0 && alike(there[i].Body, d.Body):
				became = "as it was"
			case i >= 0:
				became = "changed"
				fallthrough
			default:
				if err := kind.give(c, api, d, i >= 0); errors.Is(err, client.ErrUnreached) {
					return err
				} else if err != nil {
					became, says = "refused", err.Error()
					refused++
				}
			}
			text := became
			if became != "as it was" {
				text = document.Changed(became)
			}
			rows = append(rows, []string{d.What, d.Name, text, says})
			records = append(records, []string{d.What, d.Name, became, says})
		}
	}
	t := document.Table{Columns: []document.Column{{Name: "what"}, {Name: "name"}, {Name: "became"}, {Name: ""}}, Rows: rows}
	var told []map[string]string
	for _, r := range records {
		told = append(told, map[string]string{"definition": r[0], "name": r[1], "became": r[2], "says": r[3]})
	}
	if err := c.write(told, document.Of(t.Dense(), document.RecordsOf([]string{"definition", "name", "became", "says"}, records)).OrSay(len(rows), "The file holds no definition.")); err != nil {
		return err
	}
	if refused > 0 {
		return exit{exitWrongCall, fmt.Errorf("%s could not be taken in; all others are there", plural(refused, "definition"))}
	}
	return nil
}

// alike reports whether two bodies say the same.
func alike(a, b json.RawMessage) bool {
	var x, y any
	return json.Unmarshal(a, &x) == nil && json.Unmarshal(b, &y) == nil && reflect.DeepEqual(x, y)
}
