package report

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/report/document"
)

const (
	mapCells = 64
	mapRows  = 32
	mostRows = 400 // of the table; JSON and CSV have all
)

// Grouped writes a count so that it can be read.
func Grouped(n uint64) string {
	text := strconv.FormatUint(n, 10)
	var b strings.Builder
	for i, r := range text {
		if i > 0 && (len(text)-i)%3 == 0 {
			b.WriteByte(',')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Sweep is how a sweep reads: what it found in figures, as a map, and as a
// table.
func Sweep(r sweep.Report, zone *time.Location) document.Document {
	var doc document.Document
	doc.Say("%s  from %s by %s", document.Strong(strings.Join(few(r.Prefixes, 4), " ")), r.From, r.Via)
	doc.Field("answered", "%s of %s addresses", Grouped(r.Answered), Grouped(r.Probed))
	doc.Field("sent", "%s packets in %s, %s packets/s while sending", Grouped(r.Sent), figure.FormatMs(r.ElapsedMs), Grouped(uint64(r.PacketsPerSecond)))
	if r.Cut {
		doc.Field("cut", "stopped before its end: %s of %s addresses were asked", Grouped(r.Probed), Grouped(r.Addresses))
	}
	if r.Unsent > 0 {
		doc.Field("not sent", "%s packets: %s", Grouped(r.Unsent), r.UnsentReason)
	}
	if r.Dropped > 0 {
		doc.Field("dropped", "this host had no room for %d answers: a lower -rate may find more", r.Dropped)
	}
	causes := make([]string, 0, len(r.Refused))
	for cause := range r.Refused {
		causes = append(causes, cause)
	}
	slices.Sort(causes)
	for _, cause := range few(causes, 5) {
		doc.Field("refused", "%s × %s", Grouped(r.Refused[cause]), cause)
	}
	sweepChanges(&doc, r, zone)
	doc.Gap()
	sweepMap(&doc, r)
	if len(r.Hosts) > 0 {
		doc.Gap()
		sweepTable(&doc, r)
	}
	doc.Records = sweepRecords(r)
	return doc
}

func few(list []string, most int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("and %d more", len(list)-most))
}

func sweepChanges(doc *document.Document, r sweep.Report, zone *time.Location) {
	if r.ComparedAt == nil {
		doc.Field("before", "no earlier sweep of these addresses to compare with")
		return
	}
	when := "since " + When(*r.ComparedAt, zone)
	if len(r.New)+len(r.Gone)+len(r.Slower) == 0 {
		doc.Field("changes", "none %s", when)
		return
	}
	doc.Field("changes", "%s: %d new, %d gone, %d slower", when, len(r.New), len(r.Gone), len(r.Slower))
	for _, list := range []struct {
		name  string
		addrs []string
	}{{"new", r.New}, {"gone", r.Gone}} {
		if len(list.addrs) > 0 {
			doc.Field(list.name, "%s", strings.Join(few(list.addrs, 8), "  "))
		}
	}
	for _, s := range r.Slower[:min(8, len(r.Slower))] {
		doc.Field("slower", "%s takes %s, it took %s", s.Address, figure.FormatMs(s.RTTMs), figure.FormatMs(s.BeforeMs))
	}
}

// sweepMap draws the addresses as cells: each stands for one address, or for a
// few where there are many.
func sweepMap(doc *document.Document, r sweep.Report) {
	space, err := sweep.Parse(r.Prefixes, r.Excluded, sweep.Options{Low: true})
	if err != nil || space.Len() == 0 {
		return
	}
	each := uint64(1)
	for space.Len() > each*mapCells*mapRows {
		each *= 2
	}
	cells := make([]uint64, (space.Len()+each-1)/each)
	marked := make([]byte, len(cells))
	mark := func(addresses []string, m byte) {
		for _, text := range addresses {
			if a, err := netip.ParseAddr(text); err == nil {
				if i, ok := space.Find(a); ok {
					marked[i/each] = m
				}
			}
		}
	}
	for _, h := range r.Heard() {
		if i, ok := space.Find(h.Addr); ok {
			cells[i/each]++
		}
	}
	mark(r.New, 'n')
	mark(r.Gone, 'g')
	var picture document.Cells
	for at := 0; at < len(cells); at += mapCells {
		var row strings.Builder
		for i := at; i < min(len(cells), at+mapCells); i++ {
			row.WriteString(cell(cells[i], min(each, space.Len()-uint64(i)*each), marked[i]))
		}
		picture.Rows = append(picture.Rows, document.CellRow{Name: space.At(uint64(at) * each).String(), Cells: row.String()})
	}
	picture.Legend = "▪ answers  · silent"
	if each > 1 {
		picture.Legend = fmt.Sprintf("a cell is %d addresses: · none, ▪ some, ■ all answer", each)
	}
	if r.ComparedAt != nil {
		picture.Legend += "  + new  ○ gone"
	}
	doc.Add(picture)
}

func cell(answered, of uint64, marked byte) string {
	switch {
	case marked == 'g':
		return document.Lost("○")
	case marked == 'n':
		return document.Changed("+")
	case answered == 0:
		return document.Faint("·")
	case of > 1 && answered == of:
		return "■"
	}
	return "▪"
}

func sweepTable(doc *document.Document, r sweep.Report) {
	changed := map[string]string{}
	for _, a := range r.New {
		changed[a] = "new"
	}
	for _, s := range r.Slower {
		changed[s.Address] = "slower, took " + figure.FormatMs(s.BeforeMs)
	}
	columns := []document.Column{{Name: "address"}, {Name: "RTT", Right: true}, {Name: "name"}, {Name: "hardware"}, {Name: "ports"}, {Name: "note"}}
	var rows [][]string
	for _, h := range r.Hosts[:min(mostRows, len(r.Hosts))] {
		note := changed[h.Address]
		if h.Other != "" {
			note = strings.TrimPrefix(note+", answered from "+h.Other, ", ")
		}
		if h.By == "neighbour" {
			note = strings.TrimPrefix(note+", only its link answers", ", ")
		}
		rows = append(rows, []string{h.Address, Ms(h.RTTMs), h.Name, h.MAC, ports(h), note})
	}
	doc.Add(document.Table{Columns: columns, Rows: rows}.Dense())
	if more := len(r.Hosts) - mostRows; more > 0 {
		doc.Say("%s", document.Faint(fmt.Sprintf("and %s more; -format json and csv have all", Grouped(uint64(more)))))
	}
}

func ports(h sweep.HostReport) string {
	var parts []string
	for _, p := range h.Open {
		parts = append(parts, fmt.Sprintf("%d open", p))
	}
	for _, p := range h.Closed {
		parts = append(parts, fmt.Sprintf("%d closed", p))
	}
	return strings.Join(parts, ", ")
}

// sweepColumns are those of the records of a sweep: one a host.
var sweepColumns = append(slices.Clone(MeasuredColumns), "rtt_ms", "name", "mac", "open_ports", "closed_ports", "answered_from", "timestamps", "change")

func sweepRecords(r sweep.Report) document.Records {
	return document.Records{Columns: sweepColumns, Rows: func(yield func([]string) bool) { sweepRows(r, yield) }}
}

func sweepRows(r sweep.Report, yield func([]string) bool) {
	prefixes := strings.Join(r.Prefixes, " ")
	changed := map[string]string{}
	for _, a := range r.New {
		changed[a] = "new"
	}
	for _, s := range r.Slower {
		changed[s.Address] = "slower"
	}
	numbers := func(list []uint16) string {
		var parts []string
		for _, p := range list {
			parts = append(parts, strconv.Itoa(int(p)))
		}
		return strings.Join(parts, " ")
	}
	for _, h := range r.Hosts {
		m := Measured{r.From, prefixes, h.Address, h.By, r.StartedAt}
		if !yield(append(m.Cells(), Cell(h.RTTMs), h.Name, h.MAC, numbers(h.Open), numbers(h.Closed), h.Other, h.Timestamps, changed[h.Address])) {
			return
		}
	}
	for _, a := range r.Gone {
		m := Measured{r.From, prefixes, a, "", r.StartedAt}
		if !yield(append(m.Cells(), "", "", "", "", "", "", "", "gone")) {
			return
		}
	}
}

// SweepJSON writes a sweep as JSON, its hosts one by one: there may be many.
func SweepJSON(w io.Writer, r sweep.Report) error {
	hosts := r.Hosts
	r.Hosts = nil
	text, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	const mark = "\n  \"hosts\": null"
	before, after, ok := bytes.Cut(text, []byte(mark))
	if !ok {
		return errors.New("a sweep has lost its hosts")
	}
	out := bufio.NewWriter(w)
	_, _ = out.Write(before)
	_, _ = out.WriteString("\n  \"hosts\": [")
	for i, h := range hosts {
		line, err := json.Marshal(h)
		if err != nil {
			return err
		}
		if i > 0 {
			_ = out.WriteByte(',')
		}
		_, _ = out.WriteString("\n    ")
		_, _ = out.Write(line)
	}
	_, _ = out.WriteString("\n  ]")
	_, _ = out.Write(after)
	_ = out.WriteByte('\n')
	return out.Flush()
}
