// Package ready is the kind of measurement that decides whether a place is fit for a service: it
// measures from near to far what the service needs, and gives one plain answer.
package ready

import (
	"fmt"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/readiness"
	"woodlark.example/internal/kind"
)

// Spec says for what a place has to be fit.
type Spec struct {
	Need   Need        `json:"need" help:"what the service asks: calls, meetings, remote-desk, file-work, kiosk, or a FILE (woodlark ready schema)"`
	Seats  int         `json:"seats" help:"how many use it at once (default as the need has it, else 1)"`
	Quick  bool        `json:"quick" help:"within 20 seconds: shorter streams and loads, and with all seats only"`
	Family kind.Family `json:"family" enum:"4,6" help:"4 or 6, of a far end that is a name (default 4, else 6)"`
	Source kind.Addr   `json:"source" help:"address to send from, of the host that measures"`
}

const (
	// longest is how long a test takes at most, and quickest a quick one.
	longest  = 2 * time.Minute
	quickest = 20 * time.Second
)

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Name: "ready", Version: 1, Rank: 8, Summary: "whether a place is fit for a service: one plain answer, for how many seats, and what to do",
	Earlier: "two-ended", News: "two-ended",
	Usage: "TARGET[:PORT]",
	Example: "woodlark ready -world learn:clear-there-noisy-back -from desk.northquay.example -need calls -seats 20 terminal.holm.example\n" +
		"woodlark ready -key-file key -need calls -seats 40 192.0.2.7:7474\n" +
		"woodlark ready -from northquay -need desk.yaml -quick ticketing",
	Help: "At the target an agent or 'woodlark respond' must stand, where the service is or will be. It\n" +
		"looks from near to far: the first hop, names, ports, the round trip, how large packets may\n" +
		"be, streams of all seats at once, how much fits each way, the route there and back. The\n" +
		"answer is fit, fit with limits (for how many seats), not fit, or could not be told: what\n" +
		"could not be measured does not count as passed. A moment is no guarantee: as a watch\n" +
		"('woodlark watch add -kind ready') it is asked again and again.",
	Says:   says,
	New:    func(kind.Occasion) kind.Spec { return &Spec{} },
	Lanes:  func(kind.Spec) kind.Rule { return kind.Rule{} },
	Target: func(_ kind.Spec, t string) error { return kind.CheckEnd(t) },
	One:    true, TwoEnds: true, Load: true, Least: 15 * time.Minute,
	Limit: func(kind.Spec, int) time.Duration { return longest + time.Minute },
	Cost: func(s kind.Spec, targets []string) kind.Cost {
		x := s.(*Spec)
		n := x.Need.Need
		seats := n.SeatsOr(x.Seats)
		bits := (n.BpsOf(seats, true) + n.BpsOf(seats, false)) * x.lengths().streams.Seconds() * 3
		if !n.Rate.IsZero() || n.Limits.LoadedRTT > 0 {
			bits += 2 * 100e6 * x.lengths().load.Seconds() // as much as fits; of a usual line
		}
		return kind.Cost{Bytes: bits / 8 * float64(len(targets))}
	},
	Watch: func(s kind.Spec, _ []string, repeat time.Duration) error {
		var c kind.Checks
		c.Must(repeat >= 15*time.Minute, "need", "is asked every %v: 15m at least are between two", repeat)
		return c.Err()
	},
	Guest: func(s kind.Spec) kind.Guest {
		x := s.(*Spec)
		n := x.Need.Need
		seats := n.SeatsOr(x.Seats)
		most := max(n.BpsOf(seats, true), n.BpsOf(seats, false))
		return kind.Guest{Session: time.Minute, Rate: 2*capacity.Rate(most) + 10e6, Whole: longest + time.Minute, TCP: true}
	},
	Schema: readiness.Schema,
	Run:    run, Result: func() any { return &Result{} }, More: func() any { return &Told{} }, Document: read, JSON: kind.OneAlone, Good: good,
})

// lengths are how long the parts of a test are.
type lengths struct{ rest, streams, again, load time.Duration }

// usual and quick are those of both ways to ask.
var (
	usual = lengths{rest: 5 * time.Second, streams: 15 * time.Second, again: 8 * time.Second, load: 8 * time.Second}
	quick = lengths{rest: 1500 * time.Millisecond, streams: 4 * time.Second, load: 3 * time.Second}
)

func (s *Spec) lengths() lengths {
	if s.Quick {
		return quick
	}
	return usual
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	if s.Need.IsZero() {
		c.Wrong("need", "is missing: say what the service asks, such as calls, or a file")
		return c.Err()
	}
	for _, w := range s.Need.Check() {
		text := w.Error()
		if n := s.Need.line(w.Place); n > 0 {
			text = fmt.Sprintf("line %d: %s", n, text)
		}
		c.Wrong("need", "%s", text)
	}
	c.Must(s.Seats >= 0 && s.Seats <= readiness.MostSeats, "seats", "%d is not from 1 to %d", s.Seats, readiness.MostSeats)
	return c.Err()
}

// FarFamily is by which family a far end that is a name is looked for.
func (s *Spec) FarFamily() kind.Family { return s.Family }

// FarPort is the port of a far end when none is named.
func (s *Spec) FarPort() uint16 { return kind.UsualPort }

// Told is how far a test is: what is looked at now, and what was found so far.
type Told struct {
	Part  readiness.Part  `json:"part"`
	Facts readiness.Facts `json:"facts"`
}
