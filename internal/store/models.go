package store

import (
	"database/sql"
	"time"
	"unicode/utf8"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

// Agent is a place that measures.
type Agent struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Site      string
	Kind      string // builtin, simulated, remote, or removed
	Address   string // of the host that it stands at, if that is known
	Version   string
	CreatedAt time.Time
	SeenAt    *time.Time
	Labels    string  // of a remote one: words that its owner chose, with commas between
	KeyHash   []byte  // of a remote one; see HashOf
	PublicKey []byte  // by which a remote one signs; nil for one that shows a key
	Health    *string // what a remote one said of itself last, as JSON
}

// Path is a directed pair: an agent and a target, by one family and one kind of
// probe.
type Path struct {
	ID        ident.ID `gorm:"primaryKey"`
	AgentID   ident.ID
	Target    string
	Family    wire.Family
	Via       string // by what it is asked; see reading.Via
	Site      string // of the target
	CreatedAt time.Time
}

// Watch is a standing measurement. Spec is its JSON.
type Watch struct {
	ID        ident.ID `gorm:"primaryKey"`
	Name      string
	Paused    bool
	Spec      string
	CreatedAt time.Time
	UpdatedAt time.Time
}

// WatchPath says that a watch measures a path.
type WatchPath struct {
	WatchID ident.ID `gorm:"primaryKey"`
	PathID  ident.ID `gorm:"primaryKey"`
}

// Run is one execution of a measurement. Body is what it found as JSON, packed, where no other
// table has that; lists leave it out.
type Run struct {
	ID        ident.ID `gorm:"primaryKey"`
	Kind      string
	Version   int // of the kind
	WatchID   ident.ID
	PathID    ident.ID // of kinds whose results are readings of paths
	AgentID   ident.ID
	FarID     ident.ID // the far end, when it is an agent
	Target    string
	Family    wire.Family
	Via       string
	StartedAt time.Time
	EndedAt   *time.Time
	Address   string // that was measured, once it is known
	Outcome   protocol.Outcome
	Reason    string
	ThereBps  *float64
	BackBps   *float64
	MOS       *float64 `gorm:"column:mos"`
	Answered  *int64
	Asked     *int64
	SentBytes int64
	Body      []byte
}

// Episode is a stretch of time in which a path was degraded or lost. Excesses and Body are
// JSON; one that an earlier version kept has no Body.
type Episode struct {
	ID       ident.ID `gorm:"primaryKey"`
	PathID   ident.ID
	Kind     string
	FromAt   time.Time
	ToAt     *time.Time
	Excesses string
	Body     *string
	// Matters are kept with it: what people may have to be told of.
	Matters []Matter `gorm:"-"`
}

// Incident is what several paths had in common. Body is JSON.
type Incident struct {
	ID     ident.ID `gorm:"primaryKey"`
	FromAt time.Time
	ToldAt time.Time
	ToAt   *time.Time
	Body   string
	// Matters are kept with it: what people may have to be told of.
	Matters []Matter `gorm:"-"`
}

// Baseline is a path's stored baseline. Body is JSON.
type Baseline struct {
	ID       ident.ID `gorm:"primaryKey"`
	PathID   ident.ID
	TakenAt  time.Time
	Pinned   bool
	Readings int
	Body     string
}

// Notice is something that people should know of the service itself.
type Notice struct {
	ID   ident.ID `gorm:"primaryKey"`
	At   time.Time
	Kind string
	Text string
}

// readingRow is a reading as it is stored.
type readingRow struct {
	PathID          ident.ID
	At              time.Time
	RunID           ident.ID
	SpanMs          int64
	Expected        int
	Sent            int
	Answered        int
	Lost            int
	Late            int
	Refused         int
	Unsent          int
	Duplicates      int
	LateSent        int
	Reordered       sql.NullInt64
	Damaged         sql.NullInt64
	RTTMinNs        sql.NullInt64 `gorm:"column:rtt_min_ns"`
	RTTMeanNs       sql.NullInt64 `gorm:"column:rtt_mean_ns"`
	RTTMedianNs     sql.NullInt64 `gorm:"column:rtt_median_ns"`
	RTTP95Ns        sql.NullInt64 `gorm:"column:rtt_p95_ns"`
	RTTP99Ns        sql.NullInt64 `gorm:"column:rtt_p99_ns"`
	RTTMaxNs        sql.NullInt64 `gorm:"column:rtt_max_ns"`
	RTTSdNs         sql.NullInt64 `gorm:"column:rtt_sd_ns"`
	JitterNs        sql.NullInt64 `gorm:"column:jitter_ns"`
	JitterRFC3550Ns sql.NullInt64 `gorm:"column:jitter_rfc3550_ns"`
	Stamp           reading.Stamp
	Flags           protocol.Flags
	Cause           string
	Packed          []byte
}

func (readingRow) TableName() string { return "readings" }

func nanos(d figure.Duration) sql.NullInt64 {
	v, ok := d.Get()
	return sql.NullInt64{Int64: int64(v), Valid: ok}
}

func whole(o figure.Opt[int]) sql.NullInt64 {
	v, ok := o.Get()
	return sql.NullInt64{Int64: int64(v), Valid: ok}
}

func number(n sql.NullInt64) figure.Opt[int] {
	if !n.Valid {
		return figure.Opt[int]{}
	}
	return figure.Of(int(n.Int64))
}

func duration(n sql.NullInt64) figure.Duration {
	if !n.Valid {
		return figure.Duration{}
	}
	return figure.Of(time.Duration(n.Int64))
}

func rowOf(r protocol.Record) readingRow {
	x := r.Reading
	packed := reading.Dense(x.At, r.Packed)
	if packed == nil {
		packed = []byte{}
	}
	return readingRow{
		PathID: r.Path, At: x.At.UTC(), RunID: r.Run, SpanMs: x.Span.Milliseconds(), Expected: x.Expected,
		Sent: x.Sent, Answered: x.Answered, Lost: x.Lost, Late: x.Late, Refused: x.Refused, Unsent: x.Unsent,
		Duplicates: x.Duplicates, LateSent: x.LateSent, Reordered: whole(x.Reordered), Damaged: whole(x.Damaged),
		RTTMinNs: nanos(x.RTT.Min), RTTMeanNs: nanos(x.RTT.Mean), RTTMedianNs: nanos(x.RTT.Median), RTTP95Ns: nanos(x.RTT.P95),
		RTTP99Ns: nanos(x.RTT.P99), RTTMaxNs: nanos(x.RTT.Max), RTTSdNs: nanos(x.RTT.SD), JitterNs: nanos(x.RTT.Jitter),
		JitterRFC3550Ns: nanos(x.RTT.JitterRFC3550), Stamp: x.Stamp, Flags: r.Flags, Cause: clip(x.Cause, 200), Packed: packed,
	}
}

func (w readingRow) record() protocol.Record {
	s := delay.Summary{
		Count: w.Answered, Min: duration(w.RTTMinNs), Mean: duration(w.RTTMeanNs), Median: duration(w.RTTMedianNs),
		P95: duration(w.RTTP95Ns), P99: duration(w.RTTP99Ns), Max: duration(w.RTTMaxNs), SD: duration(w.RTTSdNs),
		Jitter: duration(w.JitterNs), JitterRFC3550: duration(w.JitterRFC3550Ns),
	}
	if s.Min.IsSet() {
		s.PDV = figure.Of(s.P99.Or(0) - s.Min.Or(0))
		s.Spread = figure.Of(s.Mean.Or(0) - s.Min.Or(0))
	}
	return protocol.Record{
		Path: w.PathID, Run: w.RunID, Packed: w.Packed, Flags: w.Flags,
		Reading: reading.Reading{
			At: w.At, Span: time.Duration(w.SpanMs) * time.Millisecond, Expected: w.Expected, Sent: w.Sent, Answered: w.Answered,
			Lost: w.Lost, Late: w.Late, Refused: w.Refused, Unsent: w.Unsent, Duplicates: w.Duplicates, LateSent: w.LateSent,
			Reordered: number(w.Reordered), Damaged: number(w.Damaged),
			RTT: s, Stamp: w.Stamp, Cause: w.Cause,
		},
	}
}

// clip shortens text to what its column holds, at a character's limit.
func clip(text string, most int) string {
	if len(text) <= most {
		return text
	}
	end := most - len("…")
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end] + "…"
}
