package agent

import (
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

func (a *Agent) journalFile() string { return filepath.Join(a.options.Dir, "journal.json") }

// writeJournal writes down the minutes in progress, so that a kill costs a few
// seconds of them at most.
func (a *Agent) writeJournal() error {
	a.mu.Lock()
	entries := make([]journalEntry, 0, len(a.tasks))
	for _, w := range a.tasks {
		if w.minutes == nil {
			continue
		}
		if e, ok := w.minutes.snapshot(); ok {
			entries = append(entries, e)
		}
	}
	// What waits for its task to begin is not known to anybody else.
	for _, e := range a.resumed {
		entries = append(entries, e)
	}
	a.mu.Unlock()
	for i := range entries {
		if entries[i].probes != nil {
			entries[i].Packed = reading.PackSecond(entries[i].At, entries[i].probes)
		}
	}
	return writeWhole(a.journalFile(), entries)
}

// readJournal reads the minutes that an earlier agent left in progress. The file stays
// until it is written anew: should this agent be killed before, it is needed once more,
// and what is handed over twice counts once.
func (a *Agent) readJournal() (good []journalEntry) {
	var entries []journalEntry
	a.readWhole(a.journalFile(), &entries)
	for _, e := range entries {
		if err := e.check(); err != nil {
			a.aside.put("minute.json", e, err)
			continue
		}
		good = append(good, e)
	}
	return good
}

// mostOfMinute is how many probes a minute has at most.
const mostOfMinute = 60_000

// check says why an entry cannot be what an agent wrote.
func (e journalEntry) check() error {
	switch {
	case e.Path.IsZero():
		return errors.New("it names no path")
	case e.Interval < time.Minute/mostOfMinute || e.Interval > time.Minute:
		return fmt.Errorf("its interval %v is none of a continuous watch", e.Interval)
	case e.At.Year() < 2000 || e.At.Year() > 2200:
		return fmt.Errorf("it is of the year %d", e.At.Year())
	}
	probes, err := reading.Unpack(e.At, e.Packed)
	if err != nil {
		return fmt.Errorf("its probes cannot be read: %w", err)
	}
	if len(probes) > mostOfMinute {
		return fmt.Errorf("it has %d probes in a minute", len(probes))
	}
	return nil
}

// journalEntry is a minute, whole or in progress.
type journalEntry struct {
	Watch    ident.ID
	Path     ident.ID
	At       time.Time
	Interval time.Duration
	Flags    protocol.Flags
	Packed   []byte

	probes []reading.Probe
}

// record computes the figures of the minute.
func (e journalEntry) record(flag protocol.Flags) protocol.Record {
	probes := e.probes
	if probes == nil {
		probes, _ = reading.Unpack(e.At, e.Packed) // it was checked
	}
	packed := e.Packed
	if packed == nil {
		packed = reading.PackSecond(e.At, probes)
	}
	expected := int(time.Minute / e.Interval)
	return protocol.Record{Path: e.Path, Watch: e.Watch, Flags: e.Flags | flag, Packed: packed,
		Reading: reading.Of(e.At, time.Minute, expected, e.Interval, probes)}
}
