package controller

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"woodlark.example/core/reading"
	"woodlark.example/internal/plan"
	"woodlark.example/wire"
)

// KindPing is the kind of a watch that pings.
const KindPing = "ping"

// ErrInvalid is wrapped by errors about what a caller asked for.
var ErrInvalid = errors.New("invalid")

// Spec is what a watch measures: from which agents, to which targets, how.
type Spec struct {
	Kind     string        `json:"kind,omitempty"` // ping, KindSweep, KindTrace, KindThroughput or KindStream
	From     []string      `json:"from"`
	To       []string      `json:"to"`
	Via      string        `json:"via"`    // kinds of probes, with commas between them; see reading.ParseVia
	Family   string        `json:"family"` // 4, 6 or both; of targets that are names
	Every    time.Duration `json:"every"`  // between runs; continuous when 0
	Interval time.Duration `json:"interval"`
	Probes   int           `json:"probes"` // a run; of a periodic watch
	Wait     time.Duration `json:"wait"`
	Payload  int           `json:"payload"`
	DSCP     uint8         `json:"dscp"`
	Tags     []string      `json:"tags"`

	// Of sweeps, whose To are prefixes:
	Exclude []string `json:"exclude,omitempty"`
	Rate    float64  `json:"rate,omitempty"` // packets a second
	Random  bool     `json:"random,omitempty"`
	Low     bool     `json:"low,omitempty"`
	Beyond  bool     `json:"beyond,omitempty"`

	// Of traces:
	OneFlow bool `json:"one_flow,omitempty"`
	PathMTU bool `json:"path_mtu,omitempty"`

	// Of throughput and streams:
	Two      *plan.TwoRequest `json:"two,omitempty"`
	DayBytes int64            `json:"day_bytes,omitempty"` // that its load runs may send a day
}

// The limits of a Spec, and its defaults.
const (
	leastInterval  = 10 * time.Millisecond
	mostPaths      = 20000
	mostProbes     = 100000
	mostPayload    = 65000
	leastPayload   = 16
	defaultProbes  = 20
	defaultPayload = 48
	mostNameLength = 100
)

// WithDefaults fills in what was left out.
func (s Spec) WithDefaults() Spec {
	if s.Family == "" {
		s.Family = "4"
	}
	if s.Via == "" {
		s.Via = "icmp"
	}
	if s.Kind == "" {
		s.Kind = KindPing
	}
	if s.Kind == KindSweep && s.Rate == 0 {
		s.Rate = defaultRate
	}
	if s.Kind == KindSweep && s.Wait == 0 {
		s.Wait = time.Second
	}
	if s.Kind == KindTrace && s.Wait == 0 {
		s.Wait = traceWait
	}
	if s.Kind == KindTrace && s.Probes == 0 {
		s.Probes = defaultRounds
	}
	if s.Interval == 0 {
		s.Interval = time.Second
	}
	if s.Probes == 0 {
		s.Probes = defaultProbes
	}
	if s.Wait == 0 {
		s.Wait = 2 * time.Second
	}
	if s.Payload == 0 {
		s.Payload = defaultPayload
	}
	return s
}

// Check says what is wrong with a spec; the error wraps ErrInvalid.
func (s Spec) Check() error {
	var errs []error
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	if len(s.From) == 0 {
		wrong("from: name at least one agent")
	}
	if len(s.To) == 0 {
		wrong("to: name at least one target")
	}
	if len(s.From)*len(s.To) > mostPaths {
		wrong("%d agents to %d targets are more than %d paths; make several watches", len(s.From), len(s.To), mostPaths)
	}
	if s.Kind == KindSweep {
		errs = append(errs, s.checkSweep()...)
		if s.Every < leastSweeping {
			wrong("every %v is less than %v, and a sweep is not continuous", s.Every, leastSweeping)
		}
		if len(errs) > 0 {
			return fmt.Errorf("%w: %w", ErrInvalid, errors.Join(errs...))
		}
		return nil
	}
	if s.Kind == KindTrace {
		errs = append(errs, s.checkTrace()...)
		if s.Every < leastTracing {
			wrong("every %v is less than %v, and a trace is not continuous", s.Every, leastTracing)
		}
		if len(errs) > 0 {
			return fmt.Errorf("%w: %w", ErrInvalid, errors.Join(errs...))
		}
		return nil
	}
	if s.Kind == KindThroughput || s.Kind == KindStream {
		if errs = append(errs, s.checkTwo()...); len(errs) > 0 {
			return fmt.Errorf("%w: %w", ErrInvalid, errors.Join(errs...))
		}
		return nil
	}
	if s.Kind != KindPing {
		wrong("kind %q is none of ping, sweep, trace, throughput, stream", shorten(s.Kind))
	}
	for _, target := range s.To {
		if err := CheckTarget(target); err != nil {
			errs = append(errs, err)
		}
	}
	if s.Family != "4" && s.Family != "6" && s.Family != "both" {
		wrong("family %q is none of 4, 6, both", s.Family)
	}
	if _, err := reading.ParseVias(s.Via); err != nil {
		wrong("via: %w", err)
	}
	if s.Interval < leastInterval || s.Interval > time.Minute {
		wrong("interval %v is not between %v and 1m", s.Interval, leastInterval)
	} else if s.Every == 0 && time.Minute%s.Interval != 0 {
		wrong("interval %v does not divide a minute evenly, as a continuous watch needs; 1s, 2s, 5s or 10s do", s.Interval)
	}
	if s.Every != 0 && s.Every < 10*time.Second {
		wrong("every %v is less than 10s; leave it out for a continuous watch", s.Every)
	}
	if s.Probes < 1 || s.Probes > mostProbes {
		wrong("probes %d is not between 1 and %d", s.Probes, mostProbes)
	}
	if s.Wait < time.Millisecond || s.Wait > 30*time.Second {
		wrong("wait %v is not between 1ms and 30s", s.Wait)
	}
	if s.Payload < leastPayload || s.Payload > mostPayload {
		wrong("payload %d is not between %d bytes (it carries the mark by which an answer is known) and %d", s.Payload, leastPayload, mostPayload)
	}
	if s.DSCP > 63 {
		wrong("DSCP %d is not between 0 and 63", s.DSCP)
	}
	if len(errs) > 0 {
		return fmt.Errorf("%w: %w", ErrInvalid, errors.Join(errs...))
	}
	return nil
}

var (
	hostName  = regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?(\.[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)*\.?$`)
	allDigits = regexp.MustCompile(`^[0-9./:]+$`)
)

// CheckTarget says whether a target is an address or could be a host's name
// (RFC 1123 §2.1). The error shows no more than the target's beginning.
func CheckTarget(target string) error {
	shown := target
	if len(shown) > 60 {
		shown = shown[:60] + "…"
	}
	switch {
	case target == "":
		return fmt.Errorf("%w: a target is empty", ErrInvalid)
	case len(target) > 253:
		return fmt.Errorf("%w: target %q is %d characters long; a name has 253 at most", ErrInvalid, shown, utf8.RuneCountInString(target))
	}
	if _, err := netip.ParseAddr(target); err == nil {
		return nil
	}
	if strings.Contains(target, "/") {
		if _, err := netip.ParsePrefix(target); err != nil {
			return fmt.Errorf("%w: %q is not a prefix, and a target is one address or name", ErrInvalid, shown)
		}
		return fmt.Errorf("%w: %q is a prefix; a target is one address or name", ErrInvalid, shown)
	}
	if allDigits.MatchString(target) {
		return fmt.Errorf("%w: target %q is not an IP address", ErrInvalid, shown)
	}
	if !hostName.MatchString(target) {
		return fmt.Errorf("%w: target %q is neither an IP address nor a host's name", ErrInvalid, shown)
	}
	return nil
}

// families are those by which a target is measured.
func (s Spec) families(target string) []wire.Family {
	if a, err := netip.ParseAddr(target); err == nil {
		return []wire.Family{wire.FamilyOf(a)}
	}
	switch s.Family {
	case "6":
		return []wire.Family{wire.IPv6}
	case "both":
		return []wire.Family{wire.IPv4, wire.IPv6}
	}
	return []wire.Family{wire.IPv4}
}

// kind is one of the ways in which a target is measured.
type kind struct {
	family wire.Family
	via    reading.Via
}

// kinds are all ways in which a target is measured.
func (s Spec) kinds(target string) []kind {
	vias, err := reading.ParseVias(s.Via)
	if err != nil { // of a watch from before there were kinds
		vias = []reading.Via{{}}
	}
	var list []kind
	for _, f := range s.families(target) {
		for _, v := range vias {
			list = append(list, kind{f, v})
		}
	}
	return list
}

// patience is how long after its last reading a path of the watch is still
// measured.
func (s Spec) patience() time.Duration {
	if s.Every == 0 {
		return 3 * time.Minute
	}
	return 2*s.Every + time.Minute
}
