package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"woodlark.example/core/reading"
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
	a.mu.Unlock()
	for i := range entries {
		entries[i].Packed = reading.Pack(entries[i].At, entries[i].probes)
	}
	return writeWhole(a.journalFile(), entries)
}

func (a *Agent) readJournal() []journalEntry {
	data, err := os.ReadFile(a.journalFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var entries []journalEntry
	if err == nil {
		err = json.Unmarshal(data, &entries)
	}
	if err != nil {
		a.log.Error("the journal of the minute in progress cannot be read; that minute is lost", "file", a.journalFile(), "error", err)
	}
	_ = os.Remove(a.journalFile())
	return entries
}

// writeWhole writes a file so that it is there whole or not at all.
func writeWhole(name string, content any) error {
	data, err := json.Marshal(content)
	if err != nil {
		return err
	}
	part := name + ".part"
	if err := os.WriteFile(part, data, 0o600); err != nil {
		_ = os.Remove(part)
		return fmt.Errorf("write %s (free some space, or check its permissions): %w", name, err)
	}
	return os.Rename(part, name)
}
