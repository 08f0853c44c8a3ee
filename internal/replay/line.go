package replay

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
)

// Line is a reading as it stands in a file, one a line (NDJSON). What is not known is absent.
type Line struct {
	From        string    `json:"from"`
	To          string    `json:"to"`
	Family      text      `json:"family,omitempty"`
	Via         string    `json:"via,omitempty"`
	StartedAt   time.Time `json:"started_at"`
	SpanS       float64   `json:"span_s"`
	Sent        *int      `json:"sent,omitempty"`
	Answered    *int      `json:"answered,omitempty"`
	Lost        *int      `json:"lost,omitempty"`
	RTTMinMs    *float64  `json:"rtt_min_ms,omitempty"`
	RTTMeanMs   *float64  `json:"rtt_mean_ms,omitempty"`
	RTTMedianMs *float64  `json:"rtt_median_ms,omitempty"`
	RTTP95Ms    *float64  `json:"rtt_p95_ms,omitempty"`
	RTTP99Ms    *float64  `json:"rtt_p99_ms,omitempty"`
	RTTMaxMs    *float64  `json:"rtt_max_ms,omitempty"`
	RTTSDMs     *float64  `json:"rtt_sd_ms,omitempty"`
	JitterMs    *float64  `json:"jitter_ms,omitempty"`
	LossRuns    any       `json:"loss_runs,omitempty"`
	// Notes say what is particular; what was measured on demand, or by a wrong clock, is not
	// judged.
	Notes []string `json:"notes,omitempty"`

	DelayThereMs   *float64 `json:"delay_there_ms,omitempty"`
	DelayBackMs    *float64 `json:"delay_back_ms,omitempty"`
	JitterThereMs  *float64 `json:"jitter_there_ms,omitempty"`
	JitterBackMs   *float64 `json:"jitter_back_ms,omitempty"`
	LossThereRatio *float64 `json:"loss_there_ratio,omitempty"`
	LossBackRatio  *float64 `json:"loss_back_ratio,omitempty"`
	MOS            *float64 `json:"mos,omitempty"`
	ThereBps       *float64 `json:"there_bps,omitempty"`
	BackBps        *float64 `json:"back_bps,omitempty"`
	Hops           *float64 `json:"hops,omitempty"`
	ResolveMs      *float64 `json:"resolve_ms,omitempty"`
	Answering      *float64 `json:"answering,omitempty"`
}

// text is a string that may be written as a number; it is written back as it came.
type text string

// MarshalJSON writes a number as one, and nothing as null.
func (t text) MarshalJSON() ([]byte, error) {
	switch n, err := strconv.Atoi(string(t)); {
	case t == "":
		return []byte("null"), nil
	case err == nil:
		return strconv.AppendInt(nil, int64(n), 10), nil
	}
	return json.Marshal(string(t))
}

// UnmarshalJSON reads a string or a number.
func (t *text) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] == '"' {
		var s string
		err := json.Unmarshal(data, &s)
		*t = text(s)
		return err
	}
	*t = text(data)
	if *t == "null" {
		*t = ""
	}
	return nil
}

func (l *Line) key() guard.Key {
	return guard.Key{From: l.From, To: l.To, Family: string(l.Family), Via: l.Via}
}

// LineOf is the line of a stored reading.
func LineOf(k guard.Key, f reading.Figures, notes []string) Line {
	return Line{From: k.From, To: k.To, Family: text(k.Family), Via: k.Via, StartedAt: f.StartedAt, SpanS: f.SpanS, Sent: &f.Sent, Answered: &f.Answered, Lost: &f.Lost,
		RTTMinMs: f.RTTMinMs, RTTMeanMs: f.RTTMeanMs, RTTMedianMs: f.RTTMedianMs, RTTP95Ms: f.RTTP95Ms, RTTP99Ms: f.RTTP99Ms, RTTMaxMs: f.RTTMaxMs, RTTSDMs: f.RTTSDMs, JitterMs: f.JitterMs, Notes: notes}
}

// notJudged are the notes of readings that no path is judged by.
var notJudged = []string{"on_demand", "clock_wrong"}

func (l *Line) judged() bool {
	return !slices.ContainsFunc(l.Notes, func(n string) bool { return slices.Contains(notJudged, n) })
}

// loaded reports whether load runs went on beside it: it is judged by whether there was an answer.
func (l *Line) loaded() bool { return slices.Contains(l.Notes, "load_overlap") }

// longestSpan that one reading may have.
const longestSpan = 24 * 60 * 60

// check says what is wrong with a reading.
func (l *Line) check() error {
	switch {
	case l.From == "" || l.To == "":
		return fmt.Errorf("it lacks from or to: a reading names both ends of its path")
	case l.StartedAt.IsZero():
		return fmt.Errorf("it lacks started_at: write when it began, such as 2026-03-02T08:00:00Z")
	case math.IsNaN(l.SpanS) || l.SpanS < 0 || l.SpanS > longestSpan:
		return fmt.Errorf("span_s %v is not between 0 and %d seconds", l.SpanS, longestSpan)
	case count(l.Sent) < 0 || count(l.Answered) < 0 || count(l.Lost) < 0:
		return fmt.Errorf("sent, answered and lost are counts and not below zero")
	case count(l.Answered)+count(l.Lost) > count(l.Sent):
		return fmt.Errorf("answered %d and lost %d are more than sent %d", count(l.Answered), count(l.Lost), count(l.Sent))
	}
	return nil
}

// point is what is judged of it.
func (l *Line) point() baseline.Point {
	p := baseline.Point{At: l.StartedAt, Span: time.Duration(l.SpanS * float64(time.Second))}
	if l.Sent != nil {
		p.Sent = *l.Sent
	}
	switch {
	case l.Answered != nil && l.Lost != nil:
		p.Answered, p.Lost = *l.Answered, *l.Lost
	case l.Answered != nil:
		p.Answered, p.Lost = *l.Answered, p.Sent-*l.Answered
	case l.Lost != nil:
		p.Answered, p.Lost = p.Sent-*l.Lost, *l.Lost
	case l.RTTMedianMs != nil || l.RTTMeanMs != nil:
		p.Answered = p.Sent
	}
	rtt := l.RTTMedianMs
	if rtt == nil {
		rtt = l.RTTMeanMs
	}
	for m, v := range map[baseline.Measure]*float64{
		baseline.RTT: rtt, baseline.Jitter: l.JitterMs, baseline.DelayThere: l.DelayThereMs, baseline.DelayBack: l.DelayBackMs,
		baseline.JitterThere: l.JitterThereMs, baseline.JitterBack: l.JitterBackMs, baseline.LossThere: l.LossThereRatio,
		baseline.LossBack: l.LossBackRatio, baseline.MOS: l.MOS, baseline.ThroughputThere: l.ThereBps, baseline.ThroughputBack: l.BackBps,
		baseline.Hops: l.Hops, baseline.ResolveTime: l.ResolveMs, baseline.Answering: l.Answering,
	} {
		if v != nil {
			p.Set(m, *v)
		}
	}
	return p
}

// RouteLine is a route as it stands in a file, one a line. A hop that does not answer is null
// or empty.
type RouteLine struct {
	From   string    `json:"from"`
	To     string    `json:"to"`
	Family text      `json:"family,omitempty"`
	Via    string    `json:"via,omitempty"`
	At     time.Time `json:"at"`
	Hops   []*string `json:"hops"`
}

// SetFamily says by which family the route was found.
func (r *RouteLine) SetFamily(family string) { r.Family = text(family) }

// count is a number of probes, none where it is not known.
func count(v *int) int {
	if v == nil {
		return 0
	}
	return *v
}
