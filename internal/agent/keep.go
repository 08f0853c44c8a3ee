package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"woodlark.example/internal/whole"
)

// writeWhole keeps something as JSON.
func writeWhole(name string, content any) error {
	data, err := json.Marshal(content)
	if err != nil {
		return err
	}
	return whole.Write(name, data)
}

// readWhole reads what writeWhole wrote; found is false when there is nothing. What cannot
// be read is set aside, with its reason.
func (a *Agent) readWhole(name string, into any) (found bool) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false
	}
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		a.aside.file(name, fmt.Errorf("it cannot be read: %w", err))
		return false
	}
	return true
}

// aside keeps what cannot be used or handed over, for people to look at. What is there
// is told with the agent's health.
type aside struct {
	dir string
	log *slog.Logger
}

// mostAside is how much is kept aside; beyond it the oldest goes.
const mostAside = 200

// file moves a file or folder aside.
func (x aside) file(name string, why error) {
	to := filepath.Join(x.dir, time.Now().UTC().Format("20060102T150405.000000")+"-"+filepath.Base(name))
	err := os.MkdirAll(x.dir, 0o700)
	if err == nil {
		err = os.Rename(name, to)
	}
	x.note(to, why, err)
}

// put keeps something that is in memory only.
func (x aside) put(name string, content any, why error) {
	to := filepath.Join(x.dir, time.Now().UTC().Format("20060102T150405.000000")+"-"+name)
	err := os.MkdirAll(x.dir, 0o700)
	if err == nil {
		err = writeWhole(to, content)
	}
	x.note(to, why, err)
}

func (x aside) note(to string, why, failed error) {
	if failed != nil {
		x.log.Error("what cannot be used could not be set aside, and is lost", "file", to, "why", why, "error", failed)
		return
	}
	_ = os.WriteFile(to+reasonEnding, []byte(why.Error()+"\n"), 0o600)
	x.log.Error("what cannot be used was set aside; the rest goes on", "file", to, "why", why)
	names := x.names()
	for len(names) > mostAside {
		_ = os.RemoveAll(filepath.Join(x.dir, names[0]))
		_ = os.Remove(filepath.Join(x.dir, names[0]+reasonEnding))
		names = names[1:]
	}
}

const reasonEnding = ".reason"

// names are what is aside, the oldest first.
func (x aside) names() (list []string) {
	entries, _ := os.ReadDir(x.dir)
	for _, e := range entries {
		if filepath.Ext(e.Name()) != reasonEnding {
			list = append(list, e.Name())
		}
	}
	return list
}

// says is how much is aside, and why the newest is.
func (x aside) says() (n int, why string) {
	names := x.names()
	if len(names) == 0 {
		return 0, ""
	}
	reason, _ := os.ReadFile(filepath.Join(x.dir, names[len(names)-1]+reasonEnding))
	if len(reason) > 300 {
		reason = reason[:300]
	}
	return len(names), string(reason)
}
