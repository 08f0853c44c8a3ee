package report

import (
	"net/netip"
	"strconv"
	"time"
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
