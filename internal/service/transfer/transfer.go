// Package transfer hands readings out and takes them in, as they are kept: with their old times
// and each probe, so that figures are the same elsewhere.
//
//	err := x.Out(ctx, transfer.Spec{From: from, To: to}, func(l transfer.Line) error { … })
//	taken, err := x.In(ctx, lines)
package transfer

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/sight"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

// Line is a reading of a path, whole.
type Line struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Family int    `json:"family" enum:"4,6"`
	Via    string `json:"via"`
	reading.Figures
	Notes  []string `json:"notes,omitempty" doc:"What is particular of it: held_back, resumed, cut, clock_set, on_demand, load_overlap, clock_wrong"`
	Probes []byte   `json:"probes,omitempty" doc:"Each probe, packed; without them a path is not shown probe by probe"`
}

// Options of Transfer; all are needed.
type Options struct {
	Store   *store.Store
	Notices *notices.Notices
	Fleet   *fleet.Fleet
	Paths   *paths.Paths
	Watches *watches.Watches
}

// Transfer hands out and takes in. It is safe for concurrent use.
type Transfer struct{ Options }

// New does neither yet.
func New(o Options) *Transfer { return &Transfer{o} }

// Spec says what is handed out.
type Spec struct {
	From, To time.Time
	selection.Selection
	Sight *sight.Sight // nil: all
}

// atOnce is how long a stretch of a path is read at a time.
const atOnce = 24 * time.Hour

// Out hands out readings, path after path, in the order of time within one.
func (x *Transfer) Out(ctx context.Context, s Spec, each func(Line) error) error {
	if err := s.Check(); err != nil {
		return err
	}
	if !s.From.Before(s.To) {
		return fmt.Errorf("%w: from_at %s is not before to_at %s", kind.ErrInvalid, s.From.UTC().Format(time.RFC3339), s.To.UTC().Format(time.RFC3339))
	}
	known := selection.New(x.Paths, x.Fleet, x.Watches)
	all := x.Paths.All()
	slices.SortFunc(all, func(a, b *paths.Path) int { return slices.Compare(a.ID[:], b.ID[:]) })
	for _, p := range all {
		if !s.Takes(known.Path(p)) || !s.Sight.Path(p) {
			continue
		}
		first, last, err := x.Store.Bounds(ctx, p.ID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		if first.IsZero() {
			continue // nothing was measured
		}
		from, to := s.From, s.To
		if first.After(from) {
			from = first
		}
		if end := last.Add(time.Second); end.Before(to) {
			to = end
		}
		for ; from.Before(to); from = from.Add(atOnce) {
			end := from.Add(atOnce)
			if end.After(to) {
				end = to
			}
			list, err := x.Store.Readings(ctx, p.ID, from, end, 0, true)
			if err != nil {
				return err
			}
			for _, r := range list {
				notes := slices.DeleteFunc(r.Notes(), func(n string) bool { return n == "short" }) // its counts say that
				if err := each(Line{From: x.Fleet.NameOf(p.AgentID), To: p.Target, Family: int(p.Family), Via: p.Via, Figures: r.Reading.Figures(), Notes: notes, Probes: r.Packed}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

const (
	mostLines   = 20_000
	longestSpan = 24 * time.Hour
	mostName    = 100
	mostProbes  = 1 << 20
)

var oldest = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// In takes readings in. Those of a path and time that are there already stay as they are, so
// that it may be done again. Agents and paths that are not known are made: such an agent
// measures nothing. All or nothing is taken; the error wraps kind.ErrInvalid and says which
// cannot be, by its place, from 1.
func (x *Transfer) In(ctx context.Context, lines []Line) (taken int, err error) {
	if len(lines) > mostLines {
		return 0, fmt.Errorf("%w: %d readings are more than %d at a time", kind.ErrInvalid, len(lines), mostLines)
	}
	records := make([]protocol.Record, len(lines))
	now := time.Now()
	for i := range lines {
		if records[i], err = lines[i].record(now); err != nil {
			return 0, fmt.Errorf("%w: reading %d: %w", kind.ErrInvalid, i+1, err)
		}
	}
	agents := map[string]ident.ID{}
	for _, a := range x.Fleet.Agents() {
		agents[a.Name] = a.ID
	}
	ends := make([]store.Ends, len(lines))
	for i, l := range lines {
		id, known := agents[l.From]
		if !known {
			a, err := x.Fleet.Add(ctx, store.Agent{Name: l.From, Kind: fleet.Imported}, nil)
			if err != nil {
				return 0, err
			}
			x.Notices.Changed(ctx, "agent_imported", l.From, nil, nil)
			id, agents[l.From] = a.ID, a.ID
		}
		ends[i] = store.Ends{Agent: id, Target: l.To, Family: wire.Family(l.Family), Via: l.Via}
	}
	list, err := x.Paths.Ensure(ctx, ends)
	if err != nil {
		return 0, err
	}
	for i := range records {
		records[i].Path = list[i].ID
	}
	return x.Store.TakeReadings(ctx, records)
}

// record is a line as it is kept, if all in it agrees.
func (l Line) record(now time.Time) (r protocol.Record, err error) {
	via := l.Via
	switch {
	case strings.TrimSpace(l.From) == "" || len(l.From) > mostName:
		return r, fmt.Errorf("from is to be a name of 1 to %d bytes", mostName)
	case l.Family != 4 && l.Family != 6:
		return r, fmt.Errorf("family is 4 or 6, not %d", l.Family)
	case via == "" || len(via) > mostName:
		return r, fmt.Errorf("via is to be a kind of probe, such as icmp or tcp:443")
	case l.StartedAt.Before(oldest) || l.StartedAt.After(now.Add(time.Minute)):
		return r, fmt.Errorf("started_at %s lies before 2000 or ahead", l.StartedAt.UTC().Format(time.RFC3339))
	case !(l.SpanS >= 0) || l.SpanS > longestSpan.Seconds():
		return r, fmt.Errorf("span_s %v is not within a day", l.SpanS)
	case len(l.Probes) > mostProbes:
		return r, fmt.Errorf("its probes take %d bytes; %d is the most", len(l.Probes), mostProbes)
	}
	if err := kind.CheckTarget(l.To); err != nil {
		return r, fmt.Errorf("to: %w", err)
	}
	if a, err := netip.ParseAddr(l.To); err == nil && a.Is4() != (l.Family == 4) {
		return r, fmt.Errorf("to %s is not of family %d", l.To, l.Family)
	}
	if r.Flags, err = protocol.FlagsOf(l.Notes); err != nil {
		return r, err
	}
	r.Reading, r.Packed = l.Reading(), l.Probes
	return r, l.agrees(r.Reading)
}

// agrees says what of a reading cannot be.
func (l Line) agrees(r reading.Reading) error {
	for name, n := range map[string]int{"expected": l.Expected, "sent": l.Sent, "answered": l.Answered, "lost": l.Lost, "late": l.Late, "refused": l.Refused, "unsent": l.Unsent, "duplicates": l.Duplicates, "late_sent": l.LateSent} {
		if n < 0 || n > 1<<30 {
			return fmt.Errorf("%s %d cannot be", name, n)
		}
	}
	if l.Answered+l.Lost+l.Refused > l.Sent {
		return fmt.Errorf("%d answered, %d lost and %d refused are more than the %d that were sent", l.Answered, l.Lost, l.Refused, l.Sent)
	}
	if l.Answered > 0 && l.RTTMedianMs == nil && l.RTTMeanMs == nil {
		return errors.New("something was answered, but no round trip is there")
	}
	for name, v := range map[string]*float64{"rtt_min_ms": l.RTTMinMs, "rtt_mean_ms": l.RTTMeanMs, "rtt_median_ms": l.RTTMedianMs, "rtt_p95_ms": l.RTTP95Ms, "rtt_p99_ms": l.RTTP99Ms, "rtt_max_ms": l.RTTMaxMs, "rtt_sd_ms": l.RTTSDMs, "jitter_ms": l.JitterMs} {
		if v != nil && !(*v >= 0 && *v < 1e9) {
			return fmt.Errorf("%s %v cannot be", name, *v)
		}
	}
	if len(l.Probes) == 0 {
		return nil
	}
	probes, err := reading.Unpack(l.StartedAt, l.Probes)
	if err != nil {
		return fmt.Errorf("its probes cannot be read: %w", err)
	}
	is := reading.Of(l.StartedAt, r.Span, l.Expected, 0, probes)
	if is.Sent != l.Sent || is.Answered != l.Answered || is.Lost != l.Lost {
		return fmt.Errorf("its probes are %d sent, %d answered and %d lost, not %d, %d and %d", is.Sent, is.Answered, is.Lost, l.Sent, l.Answered, l.Lost)
	}
	return nil
}
