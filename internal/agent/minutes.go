package agent

import (
	"log/slog"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// minutes cuts the probes of a continuous task into minutes.
type minutes struct {
	task     protocol.Task
	spool    *spool
	log      *slog.Logger
	expected int

	mu     sync.Mutex
	at     time.Time // of the minute in progress; zero when there is none
	newest time.Time // minute that was handed over
	probes []reading.Probe
	flags  protocol.Flags
}

func newMinutes(t protocol.Task, s *spool, log *slog.Logger) *minutes {
	return &minutes{task: t, spool: s, log: log, expected: int(time.Minute / t.Interval)}
}

// add takes the next settled probe. It is called by the engine, which it must
// not hold up: the figures are computed elsewhere.
func (m *minutes) add(p reading.Probe) {
	m.mu.Lock()
	defer m.mu.Unlock()
	minute := p.DueAt.Truncate(time.Minute)
	switch {
	case m.at.IsZero():
		m.begin(minute)
	case minute.Equal(m.at.Truncate(time.Minute)):
	case minute.Before(m.at):
		m.log.Warn("this host's clock was set back; its readings are marked", "from", m.at, "to", p.DueAt)
		m.flags |= protocol.Jumped
		m.close()
		m.beginAgain(p.DueAt)
	default:
		last := m.at.Truncate(time.Minute)
		m.close()
		if !minute.After(m.newest) {
			m.beginAgain(p.DueAt)
			break
		}
		if gap := minute.Sub(last) - time.Minute; gap > 0 {
			m.missed(last.Add(time.Minute), minute, "no probes were sent: this host slept, or its clock was set forward")
		}
		m.begin(minute)
	}
	m.probes = append(m.probes, p)
}

func (m *minutes) begin(at time.Time) {
	m.at, m.flags = at, 0
	m.probes = make([]reading.Probe, 0, m.expected)
}

// beginAgain begins a minute that comes a second time, the clock having been set
// back. A reading of that minute may be written already: this one gets a time of
// its own, to the microsecond that the database keeps, and says so.
func (m *minutes) beginAgain(due time.Time) {
	m.begin(due.Round(0).Truncate(time.Microsecond))
	m.flags |= protocol.Jumped
}

func (m *minutes) missed(from, to time.Time, reason string) {
	m.spool.addRun(protocol.Run{ID: ident.New(), Watch: m.task.Watch, Path: m.task.Path, Started: from, Ended: to, Outcome: protocol.Missed, Reason: reason})
}

// close hands the minute in progress over.
func (m *minutes) close() {
	if minute := m.at.Truncate(time.Minute); minute.After(m.newest) {
		m.newest = minute
	}
	if len(m.probes) > 0 {
		m.spool.addMinute(m.entry())
		if cause, all := allUnsent(m.probes); all {
			m.spool.addRun(protocol.Run{ID: ident.New(), Watch: m.task.Watch, Path: m.task.Path, Started: m.at, Ended: m.at.Add(time.Minute),
				Outcome: protocol.Failed, Reason: "no probe could be sent: " + cause})
		}
	}
	m.at, m.probes = time.Time{}, nil
}

// allUnsent reports whether not one probe could be sent, and why.
func allUnsent(probes []reading.Probe) (cause string, all bool) {
	for _, p := range probes {
		if p.Outcome != reading.Unsent {
			return "", false
		}
		cause = p.Cause
	}
	return cause, len(probes) > 0
}

// flush ends the minute in progress early.
func (m *minutes) flush(flag protocol.Flags) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.flags |= flag
	m.close()
}

func (m *minutes) entry() journalEntry {
	return journalEntry{Watch: m.task.Watch, Path: m.task.Path, At: m.at, Interval: m.task.Interval, Flags: m.flags, probes: m.probes}
}

// snapshot is the minute in progress, for the journal; false when there is none.
func (m *minutes) snapshot() (journalEntry, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.probes) == 0 {
		return journalEntry{}, false
	}
	e := m.entry()
	e.probes = append([]reading.Probe(nil), m.probes...)
	return e, true
}

// resume takes up a minute that an earlier agent left.
func (m *minutes) resume(e journalEntry) {
	probes, _ := reading.Unpack(e.At, e.Packed) // it was checked
	m.at, m.probes, m.flags = e.At, probes, e.Flags|protocol.Resumed
}
