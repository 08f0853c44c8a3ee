package cli

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
)

var exportCommand = command{
	name: "export", summary: "readings out, whole and with their times, or definitions, to be kept or taken in elsewhere",
	usage:   "-out FILE [-last 24h | -since TIME | -between FROM,TO] [options]\n-definitions -out FILE",
	example: "woodlark export -last 90d -out readings.ndjson\nwoodlark export -tags islands -between '2026-11-01 00:00,2026-12-01 00:00' -format csv -out november.csv\nwoodlark export -definitions -out definitions.ndjson",
	more:    "NDJSON has a reading a line, and says at its end how many they are; CSV has the same columns.\nBoth hold each probe, so that 'woodlark import' takes them in elsewhere with equal figures.\nDefinitions are watches, objectives, sites, owners, maintenance, boards, channels and rules, one a\nline; secrets of channels are not given back by a service, and it says which channels are left out.",
	run:     runExport,
}

func runExport(c *call) error {
	var out string
	var span spanOf
	var of chosen
	var defs bool
	c.formats = []string{"ndjson"}
	c.withFormat()
	c.withService()
	c.withSpan(&span, "")
	c.flags.StringVar(&out, "out", "", "file to write")
	c.flags.BoolVar(&defs, "definitions", false, "what people said, instead of readings: watches, objectives, sites, owners, maintenance, boards, channels, rules")
	c.withChoice(&of, "")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	}
	if c.isSet("format") && c.format != "ndjson" && c.format != "csv" {
		return wrongCall("an export is written as ndjson or csv, not as %s", c.format)
	}
	if out == "" {
		return wrongCall("say into which file: -out FILE")
	}
	if defs {
		for _, name := range []string{"last", "since", "between", "sites", "agents", "targets", "tags", "labels"} {
			if c.isSet(name) {
				return wrongCall("-%s is of readings: definitions are exported whole", name)
			}
		}
		return c.runExportDefinitions(out)
	}
	query, err := span.query(c)
	if err != nil {
		return err
	}
	of.into(query)
	api, err := c.client()
	if err != nil {
		return err
	}
	file, err := newFile(out)
	if err != nil {
		return err
	}
	w := &exported{to: bufio.NewWriter(file), csv: c.format == "csv"}
	err = api.Fetch(c.ctx, "/export/readings", query, w)
	if err == nil {
		err = w.end()
	}
	if err = errors.Join(err, w.to.Flush(), file.Close()); err != nil {
		_ = os.Remove(out)
		return err
	}
	fmt.Fprintf(c.out, "%s written, %d readings.\n", out, w.readings)
	return nil
}

// newFile makes a file, where none is yet.
func newFile(name string) (*os.File, error) {
	file, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o644)
	if errors.Is(err, os.ErrExist) {
		return nil, wrongCall("%s is there already; name another file, or remove it", name)
	}
	return file, err
}

// exportColumns are those of readings in CSV, as the keys are in NDJSON.
var exportColumns = []string{"from", "to", "family", "via", "started_at", "span_s", "expected", "sent", "answered", "lost", "late", "refused", "unsent", "duplicates", "late_sent", "reordered", "damaged", "loss_ratio", "loss_low_ratio", "loss_high_ratio", "loss_settles_at",
	"rtt_min_ms", "rtt_mean_ms", "rtt_median_ms", "rtt_p95_ms", "rtt_p99_ms", "rtt_max_ms", "rtt_sd_ms", "jitter_ms", "jitter_rfc3550_ms", "pdv_ms", "spread_ms", "timestamps", "cause", "answered_as", "other_address", "notes", "probes"}

// texts are the columns that are no numbers.
var texts = []string{"from", "to", "via", "started_at", "timestamps", "cause", "answered_as", "other_address", "probes"}

// exported writes an export as it comes, line by line.
type exported struct {
	to       *bufio.Writer
	csv      bool
	rest     []byte
	readings int
	whole    bool
	sheet    *csv.Writer
}

func (x *exported) Write(b []byte) (int, error) {
	x.rest = append(x.rest, b...)
	for {
		at := bytes.IndexByte(x.rest, '\n')
		if at < 0 {
			return len(b), nil
		}
		if err := x.line(x.rest[:at]); err != nil {
			return 0, err
		}
		x.rest = x.rest[at+1:]
	}
}

func (x *exported) line(b []byte) error {
	if bytes.HasPrefix(b, []byte(`{"end"`)) {
		var e apitype.ExportEnd
		if err := json.Unmarshal(b, &e); err != nil {
			return err
		}
		x.whole = e.End && e.Readings == x.readings
		if x.csv {
			return nil
		}
	} else {
		x.readings++
	}
	if !x.csv {
		_, err := x.to.Write(append(b, '\n'))
		return err
	}
	if x.sheet == nil {
		x.sheet = csv.NewWriter(x.to)
		if err := x.sheet.Write(exportColumns); err != nil {
			return err
		}
	}
	var values map[string]json.RawMessage
	if err := json.Unmarshal(b, &values); err != nil {
		return err
	}
	row := make([]string, len(exportColumns))
	for i, name := range exportColumns {
		if name == "notes" {
			var notes []string
			_ = json.Unmarshal(values[name], &notes)
			row[i] = strings.Join(notes, " ")
			continue
		}
		row[i] = text(values[name])
	}
	return x.sheet.Write(row)
}

// end says whether all came.
func (x *exported) end() error {
	if x.sheet != nil {
		x.sheet.Flush()
	} else if x.csv {
		fmt.Fprintln(x.to, strings.Join(exportColumns, ","))
	}
	if !x.whole {
		return fmt.Errorf("the service stopped in the middle, after %d readings; its log says why. Try again, or a shorter time", x.readings)
	}
	return nil
}

var importCommand = command{
	name: "import", summary: "readings or definitions in that 'woodlark export' wrote",
	usage:   "FILE",
	example: "woodlark import readings.ndjson",
	more:    "NDJSON or CSV, as its first line tells; - is standard input. It may be done again: readings of a\npath and time that are there stay as they are. Agents and paths that are not known are made; such\nan agent measures nothing. Of definitions what is there by the same name becomes what the file says;\nwhat is the same stays as it is, and one that is refused does not keep the others out.",
	run:     runImport,
}

// chunk is how much is handed over at a time: a call takes 1 MB.
const chunk = 700_000

func runImport(c *call) error {
	c.withFormat()
	c.withService()
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("import needs one file, or - for standard input")
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	in := c.in
	if c.args[0] != "-" {
		file, err := os.Open(c.args[0])
		if err != nil {
			return wrongCall("%v", err)
		}
		defer file.Close()
		in = file
	}
	i := &importing{call: c, to: api}
	r := bufio.NewReaderSize(in, 1<<16)
	if begin, _ := r.Peek(len(definitionBegin)); string(begin) == definitionBegin || string(begin) == definitionColumns[0]+",name" {
		list, err := readDefinitions(r, begin[0])
		if err != nil {
			return exit{exitWrongCall, fmt.Errorf("nothing was taken in: %w", err)}
		}
		return c.importDefinitions(api, list)
	}
	err = i.read(r)
	if err == nil {
		err = i.flush()
	}
	if errors.Is(err, client.ErrUnreached) {
		return fmt.Errorf("%w. %d readings were taken in before; it may be done again", err, i.sum.Readings)
	}
	if err != nil {
		return exit{exitWrongCall, fmt.Errorf("%w. %d readings were taken in before; mend the file and do it again", err, i.sum.Readings)}
	}
	var doc document.Document
	doc.Say("%d readings, %d of them new.", i.sum.Readings, i.sum.Taken)
	doc.Records = document.RecordsOf([]string{"readings", "taken"}, [][]string{{fmt.Sprint(i.sum.Readings), fmt.Sprint(i.sum.Taken)}})
	return c.write(i.sum, doc)
}

type importing struct {
	*call
	to      *client.Client
	waiting []json.RawMessage
	first   int // line of the first that waits
	bytes   int
	sum     apitype.Imported
}

func (i *importing) add(line int, b []byte) error {
	if len(i.waiting) == 0 {
		i.first = line
	}
	i.waiting, i.bytes = append(i.waiting, slices.Clone(b)), i.bytes+len(b)
	if i.bytes < chunk {
		return nil
	}
	return i.flush()
}

func (i *importing) flush() error {
	if len(i.waiting) == 0 {
		return nil
	}
	var got apitype.Imported
	err := i.to.Do(i.ctx, http.MethodPost, "/import/readings", map[string]any{"readings": i.waiting}, &got)
	if err != nil {
		return fmt.Errorf("lines %d to %d: %w", i.first, i.first+len(i.waiting)-1, err)
	}
	i.sum.Readings, i.sum.Taken = i.sum.Readings+got.Readings, i.sum.Taken+got.Taken
	i.waiting, i.bytes = nil, 0
	return nil
}

func (i *importing) read(r *bufio.Reader) error {
	begin, err := r.Peek(1)
	if err != nil {
		return errors.New("the file is empty")
	}
	if begin[0] != '{' {
		return i.sheet(r)
	}
	whole, readings := false, 0
	for n := 1; ; n++ {
		b, err := r.ReadBytes('\n')
		if len(bytes.TrimSpace(b)) > 0 {
			switch {
			case !json.Valid(b):
				return fmt.Errorf("line %d is no JSON", n)
			case bytes.HasPrefix(b, []byte(`{"end"`)):
				var e apitype.ExportEnd
				if json.Unmarshal(b, &e) != nil || e.Readings != readings {
					return fmt.Errorf("line %d says that there are %d readings, and there were %d: the file was cut", n, e.Readings, readings)
				}
				whole = true
			default:
				readings++
				if err := i.add(n, bytes.TrimSpace(b)); err != nil {
					return err
				}
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if !whole {
		fmt.Fprintln(i.err, "note: the file has no end: if 'woodlark export' wrote it, it was cut")
	}
	return nil
}

// sheet reads CSV.
func (i *importing) sheet(in io.Reader) error {
	r := csv.NewReader(in)
	head, err := r.Read()
	if err != nil {
		return fmt.Errorf("its first line is neither JSON nor the columns of a CSV: %w", err)
	}
	for _, name := range head {
		if !slices.Contains(exportColumns, name) {
			return fmt.Errorf("there is no column %q; there are %s", short(name), strings.Join(exportColumns, ", "))
		}
	}
	for n := 2; ; n++ {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		values := map[string]any{}
		for k, name := range head {
			switch {
			case name == "notes":
				if row[k] != "" {
					values[name] = strings.Fields(row[k])
				}
			case slices.Contains(texts, name):
				if row[k] != "" || name != "probes" {
					values[name] = row[k]
				}
			case row[k] == "" && name == "expected":
			case row[k] == "":
				values[name] = nil
			case !json.Valid([]byte(row[k])):
				return fmt.Errorf("line %d: %s %q is no number", n, name, short(row[k]))
			default:
				values[name] = json.RawMessage(row[k])
			}
		}
		b, err := json.Marshal(values)
		if err != nil {
			return err
		}
		if err := i.add(n, b); err != nil {
			return err
		}
	}
}
