package report

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Cell is an optional figure in CSV: empty when absent.
func Cell(v *float64) string {
	if v == nil {
		return ""
	}
	return strconv.FormatFloat(*v, 'f', -1, 64)
}

// Measured says what was measured from where, as each file of CSV does first.
type Measured struct {
	Agent, Target, Address, Via string
	StartedAt                   time.Time
}

// MeasuredColumns are the columns of its Cells.
var MeasuredColumns = []string{"agent", "target", "address", "family", "via", "started_at"}

// Cells are what each row says of it; what is not known is empty.
func (m Measured) Cells() []string {
	started := ""
	if !m.StartedAt.IsZero() {
		started = m.StartedAt.UTC().Format(time.RFC3339Nano)
	}
	return []string{m.Agent, m.Target, m.Address, familyOf(m.Address), m.Via, started}
}

// familyOf is that of an address, which may have a port.
func familyOf(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		p, err := netip.ParseAddrPort(address)
		if err != nil {
			return ""
		}
		a = p.Addr()
	}
	if a.Is4() {
		return "4"
	}
	return "6"
}

// whole is an optional count in CSV.
func whole[T int | int64](v *T) string {
	if v == nil {
		return ""
	}
	return strconv.FormatInt(int64(*v), 10)
}

// CSV writes rows, the first of them the names of the columns.
func CSV(w io.Writer, rows [][]string) error { return csv.NewWriter(w).WriteAll(rows) }

// JSON writes a value, indented.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Column is a column of a text table.
type Column struct {
	Name  string
	Right bool // aligned right, as numbers are
}

// Table writes rows in aligned columns under faint names.
func Table(w io.Writer, ink Ink, columns []Column, rows [][]string) error {
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = utf8.RuneCountInString(c.Name)
	}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], visible(cell))
		}
	}
	l := lines{w: w}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	l.put("%s", ink.Faint(strings.TrimRight(join(names, columns, widths), " ")))
	for _, row := range rows {
		l.put("%s", strings.TrimRight(join(row, columns, widths), " "))
	}
	return l.err
}

func join(row []string, columns []Column, widths []int) string {
	var b strings.Builder
	for i, cell := range row {
		pad := strings.Repeat(" ", max(0, widths[i]-visible(cell)))
		if i > 0 {
			b.WriteString("  ")
		}
		if columns[i].Right {
			b.WriteString(pad + cell)
		} else {
			b.WriteString(cell + pad)
		}
	}
	return b.String()
}

// visible counts the characters of a cell that take room: not those that colour it.
func visible(s string) int {
	n, escape := 0, false
	for _, r := range s {
		switch {
		case r == '\x1b':
			escape = true
		case escape:
			escape = r != 'm'
		default:
			n++
		}
	}
	return n
}
