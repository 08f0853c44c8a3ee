package sweep

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"woodlark.example/core/figure"
	space "woodlark.example/core/sweep"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/sweep"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// Result is what a sweep found.
type Result struct {
	space.Report
	// Scope is the same for all sweeps of the same addresses.
	Scope []byte `json:"scope,omitempty"`
}

// Sweep is what was found, and of which addresses.
func (r *Result) Sweep() (*space.Report, [32]byte) {
	var scope [32]byte
	copy(scope[:], r.Scope)
	return &r.Report, scope
}

// Listed are the figures of lists.
func (r *Result) Listed() kind.Figures {
	answered, of := int64(r.Answered), int64(r.Addresses)
	return kind.Figures{Answered: &answered, Of: &of}
}

// bits is how many bits a probe has at most, to hold a sweep to a rate.
const bits = 64 * 8

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := *j.Spec.(*Spec)
	entries := append([]string{}, j.Targets...)
	if s.Neighbours {
		more, err := neighbours(j.Links)
		if err != nil {
			return nil, err
		}
		entries = append(entries, more...)
	}
	x, err := s.Space(entries)
	if err != nil {
		return nil, err
	}
	if err := mayBe(j, s, x); err != nil {
		return nil, err
	}
	if most := kind.Packets(float64(j.Limits.Rate) / bits); most > 0 && s.Rate > most {
		s.Rate = max(1, most) // as fast as the owner allows
	}
	q := s.Request(x)
	if j.Last != nil {
		var before Result
		known, err := j.Last(0, &before)
		if err == nil && known {
			rtts := map[netip.Addr]time.Duration{}
			for _, h := range before.Heard() {
				rtts[h.Addr] = h.RTT
			}
			q.Before = func(a netip.Addr) time.Duration { return rtts[a] }
		}
	}
	packets := int64(x.Len()) * int64(max(1, len(s.Via)))
	q.Sent = func(n uint64) { j.Tell(kind.Progress{Done: min(int64(n), packets), Of: packets}) }
	began := time.Now()
	result, err := sweep.Go(ctx, j.Network, q)
	if err != nil {
		return nil, err
	}
	scope := x.Scope()
	r := &Result{Report: result.Report(q), Scope: scope[:]}
	r.From, r.Excluded = j.Name, append(r.Excluded, s.Exclude...)
	if j.Links != nil {
		if err := sweep.AddLinks(&r.Report, x, j.Links); err != nil {
			return nil, err
		}
	}
	if s.Names && !r.Cut {
		sweep.AddNames(ctx, j.Network, &r.Report)
	}
	out := kind.Outcome{State: kind.Done, Started: began, Ended: time.Now(), Result: r}
	switch {
	case r.Cut:
		out.State, out.Reason = kind.Cancelled, kind.CutShort
	case r.Sent == 0:
		out.State, out.Reason = kind.Failed, "nothing could be sent: "+r.UnsentReason
	}
	return []kind.Outcome{out}, nil
}

// neighbours are the addresses that a host's links know.
func neighbours(links kind.Links) (list []string, err error) {
	if links == nil {
		return nil, errors.New("neighbours: this host does not know its own links")
	}
	known, err := links.Reachable()
	if err != nil {
		return nil, err
	}
	for a := range known {
		if !a.IsLinkLocalUnicast() { // it would need its interface
			list = append(list, a.String())
		}
	}
	return list, nil
}

// mayBe says what of a space may not be swept from a host.
func mayBe(j *kind.Job, s Spec, x space.Space) error {
	if j.Beyond {
		return nil
	}
	if in, _ := x.Within(space.Loopback()); s.Rate == kind.Unlimited && !in {
		return errUnlimited
	}
	if s.Beyond {
		return nil
	}
	var own []netip.Prefix
	if p, ok := j.Links.(interface {
		Prefixes() ([]netip.Prefix, error)
	}); ok {
		var err error
		if own, err = p.Prefixes(); err != nil {
			return err
		}
	}
	if in, a := x.Within(append(own, space.Nearby()...)); !in {
		return fmt.Errorf("%w: %s is neither private, of this host's links nor of documentation: if you may sweep there, say so with -beyond", kind.ErrInvalid, a)
	}
	return nil
}

var errUnlimited = &kind.Wrong{Field: "packets_per_second", Says: "unlimited is for loopback addresses and simulated networks; name a number"}

// write writes one.
// read is how sweeps read.
func read(all []any, zone *time.Location) document.Document {
	list := make([]document.Document, len(all))
	for i, x := range all {
		list[i] = report.Sweep(x.(*Result).Report, zone)
	}
	return document.Join(list...)
}

// write writes sweeps in JSON, their hosts one by one: there may be many.
func write(w io.Writer, format string, all []any) (bool, error) {
	if format != "json" {
		return false, nil
	}
	for _, x := range all {
		if err := report.SweepJSON(w, x.(*Result).Report); err != nil {
			return true, err
		}
	}
	return true, nil
}

// good reports whether somebody answered and nobody is gone.
func good(all []any) bool {
	for _, x := range all {
		if r := x.(*Result); r.Answered == 0 || len(r.Gone) > 0 {
			return false
		}
	}
	return true
}

// Compare lays an earlier sweep beside it.
func (r *Result) Compare(earlier any, _ string, _ *time.Time) {
	if b, ok := earlier.(*Result); ok {
		r.CompareWith(b.Report)
	}
}

// same tells sweeps apart that can be compared.
func (s *Spec) same(targets []string) []string {
	x, err := s.Space(targets)
	if err != nil {
		return targets
	}
	scope := x.Scope()
	return []string{hex.EncodeToString(scope[:]), s.Via.String()}
}

// announce says what a large sweep will take.
func (s *Spec) announce(targets []string, above int) (lines []string) {
	x, err := s.Space(targets)
	if err != nil {
		return nil
	}
	for _, w := range x.Warnings() {
		lines = append(lines, "note: "+w)
	}
	packets := x.Len() * uint64(len(s.Via))
	if packets < uint64(above) {
		return lines
	}
	text := fmt.Sprintf("%s addresses by %s: %s packets", report.Grouped(x.Len()), s.Via, report.Grouped(packets))
	if s.Rate != kind.Unlimited {
		once := time.Duration(float64(packets) / float64(s.Rate) * float64(time.Second))
		text += fmt.Sprintf(", %s at %s packets/s", figure.FormatSpan(once), report.Grouped(uint64(s.Rate)))
		if s.Rounds > 1 {
			more := fmt.Sprintf("%d more rounds", s.Rounds-1)
			if s.Rounds == 2 {
				more = "1 more round"
			}
			text += fmt.Sprintf("; up to %s with %s for the silent ones", figure.FormatSpan(once*time.Duration(s.Rounds)), more)
		}
	}
	return append(lines, text)
}
