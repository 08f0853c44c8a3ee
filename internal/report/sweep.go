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

// Sweep writes a sweep as text: what it found in figures, as a map, and as a
// table.
func Sweep(w io.Writer, ink Ink, r sweep.Report, zone *time.Location) error {
	l := lines{w: w}
	l.put("%s  from %s by %s", ink.Strong(strings.Join(few(r.Prefixes, 4), " ")), r.From, r.Via)
	l.put("  answered   %s of %s addresses", Grouped(r.Answered), Grouped(r.Probed))
	l.put("  sent       %s packets in %s, %s packets/s while sending", Grouped(r.Sent), figure.FormatMs(r.ElapsedMs), Grouped(uint64(r.PacketsPerSecond)))
	if r.Cut {
		l.put("  cut        stopped before its end: %s of %s addresses were asked", Grouped(r.Probed), Grouped(r.Addresses))
	}
	if r.Unsent > 0 {
		l.put("  not sent   %s packets: %s", Grouped(r.Unsent), r.UnsentReason)
	}
	if r.Dropped > 0 {
		l.put("  dropped    this host had no room for %d answers: a lower -rate may find more", r.Dropped)
	}
	causes := make([]string, 0, len(r.Refused))
	for cause := range r.Refused {
		causes = append(causes, cause)
	}
	slices.Sort(causes)
	for _, cause := range few(causes, 5) {
		l.put("  refused    %s × %s", Grouped(r.Refused[cause]), cause)
	}
	sweepChanges(&l, r, zone)
	l.put("")
	sweepMap(&l, ink, r)
	if l.err != nil || len(r.Hosts) == 0 {
		return l.err
	}
	l.put("")
	return sweepTable(w, ink, r)
}

func few(list []string, most int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("and %d more", len(list)-most))
}

func sweepChanges(l *lines, r sweep.Report, zone *time.Location) {
	if r.ComparedAt == nil {
		l.put("  before     no earlier sweep of these addresses to compare with")
		return
	}
	when := "since " + When(*r.ComparedAt, zone)
	if len(r.New)+len(r.Gone)+len(r.Slower) == 0 {
		l.put("  changes    none %s", when)
		return
	}
	l.put("  changes    %s: %d new, %d gone, %d slower", when, len(r.New), len(r.Gone), len(r.Slower))
	for _, list := range []struct {
		name  string
		addrs []string
	}{{"new", r.New}, {"gone", r.Gone}} {
		if len(list.addrs) > 0 {
			l.put("  %-10s %s", list.name, strings.Join(few(list.addrs, 8), "  "))
		}
	}
	for _, s := range r.Slower[:min(8, len(r.Slower))] {
		l.put("  %-10s %s takes %s, it took %s", "slower", s.Address, figure.FormatMs(s.RTTMs), figure.FormatMs(s.BeforeMs))
	}
}

// sweepMap draws the addresses as cells: each stands for one address, or for a
// few where there are many.
func sweepMap(l *lines, ink Ink, r sweep.Report) {
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
	for at := 0; at < len(cells); at += mapCells {
		var row strings.Builder
		for i := at; i < min(len(cells), at+mapCells); i++ {
			row.WriteString(cell(ink, cells[i], min(each, space.Len()-uint64(i)*each), marked[i]))
		}
		l.put("  %-15s %s", space.At(uint64(at)*each), row.String())
	}
	legend := "▪ answers  · silent"
	if each > 1 {
		legend = fmt.Sprintf("a cell is %d addresses: · none, ▪ some, ■ all answer", each)
	}
	if r.ComparedAt != nil {
		legend += "  + new  ○ gone"
	}
	l.put("  %s", ink.Faint(legend))
}

func cell(ink Ink, answered, of uint64, marked byte) string {
	switch {
	case marked == 'g':
		return ink.Lost("○")
	case marked == 'n':
		return ink.Refused("+")
	case answered == 0:
		return ink.Faint("·")
	case of > 1 && answered == of:
		return "■"
	}
	return "▪"
}

func sweepTable(w io.Writer, ink Ink, r sweep.Report) error {
	changed := map[string]string{}
	for _, a := range r.New {
		changed[a] = "new"
	}
	for _, s := range r.Slower {
		changed[s.Address] = "slower, took " + figure.FormatMs(s.BeforeMs)
	}
	columns := []Column{{Name: "address"}, {Name: "RTT", Right: true}, {Name: "name"}, {Name: "hardware"}, {Name: "ports"}, {Name: "note"}}
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
	if err := Table(w, ink, dense(columns, rows), thin(columns, rows)); err != nil {
		return err
	}
	if more := len(r.Hosts) - mostRows; more > 0 {
		_, err := fmt.Fprintf(w, "%s\n", ink.Faint(fmt.Sprintf("and %s more; -format json and csv have all", Grouped(uint64(more)))))
		return err
	}
	return nil
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

// empty are the columns with nothing in them.
func empty(columns []Column, rows [][]string) []bool {
	out := make([]bool, len(columns))
	for i := range columns {
		out[i] = !slices.ContainsFunc(rows, func(row []string) bool { return row[i] != "" })
	}
	return out
}

func dense(columns []Column, rows [][]string) []Column {
	gone := empty(columns, rows)
	var out []Column
	for i, c := range columns {
		if !gone[i] {
			out = append(out, c)
		}
	}
	return out
}

func thin(columns []Column, rows [][]string) [][]string {
	gone := empty(columns, rows)
	out := make([][]string, len(rows))
	for n, row := range rows {
		for i, cell := range row {
			if !gone[i] {
				out[n] = append(out[n], cell)
			}
		}
	}
	return out
}

// SweepCSV writes one row a host (RFC 4180).
func SweepCSV(w io.Writer, r sweep.Report) error {
	rows := [][]string{append(slices.Clone(MeasuredColumns), "rtt_ms", "name", "mac", "open_ports", "closed_ports", "answered_from", "timestamps", "change")}
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
		rows = append(rows, append(m.Cells(), Cell(h.RTTMs), h.Name, h.MAC, numbers(h.Open), numbers(h.Closed), h.Other, h.Timestamps, changed[h.Address]))
	}
	for _, a := range r.Gone {
		m := Measured{r.From, prefixes, a, "", r.StartedAt}
		rows = append(rows, append(m.Cells(), "", "", "", "", "", "", "", "gone"))
	}
	return CSV(w, rows)
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
