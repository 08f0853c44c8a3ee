package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"woodlark.example/internal/backup"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/settings"
)

var backupCommand = command{
	name: "backup", summary: "all that a service knows, as it is at one moment, in one file",
	usage:   "-out FILE [-service URL]\n-out FILE -offline [-state FOLDER] [-database DATABASE] [-config FILE]",
	example: "woodlark backup -out woodlark.backup\nwoodlark backup -offline -state /var/lib/woodlark -out woodlark.backup",
	more:    "The service goes on meanwhile, and its token has to be an administrator's. With -offline the service\nis not asked: it must not run. The file is read through once it is written. It holds secrets of\nchannels, hashes of passphrases and the administrator's token: keep it as those. 'woodlark restore'\nbrings it back, on another machine too.",
	run:     runBackup,
}

func runBackup(c *call) error {
	var out string
	var offline bool
	c.withFormat()
	c.withService()
	c.flags.StringVar(&out, "out", "", "file to write")
	c.flags.BoolVar(&offline, "offline", false, "read the database of a service that does not run")
	read := settings.RegisterOnly(c.flags, "state", "database")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) > 0:
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	case out == "":
		return wrongCall("say into which file: -out FILE")
	case offline && c.isSet("service"):
		return wrongCall("-service is of a service that runs, -offline of one that does not: one of them")
	}
	for _, name := range []string{"state", "database", "config"} {
		if !offline && c.isSet(name) {
			return wrongCall("-%s is of a service that does not run: with -offline", name)
		}
	}
	file, err := newFile(out)
	if err != nil {
		return err
	}
	err = file.Chmod(0o600)
	if err == nil && offline {
		err = offlineBackup(c, read, file)
	} else if err == nil {
		err = c.fetchBackup(file)
	}
	var h backup.Head
	var m backup.Manifest
	if err == nil {
		h, m, err = readThrough(file)
	}
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		_ = os.Remove(out)
		return err
	}
	return c.tellBackup(out, h, m, "written and read through")
}

func (c *call) fetchBackup(file *os.File) error {
	api, err := c.client()
	if err != nil {
		return err
	}
	return api.FetchLong(c.ctx, "/backup", nil, file)
}

func offlineBackup(c *call, read func() (settings.Settings, error), file *os.File) error {
	set, err := read()
	if err != nil {
		return exit{exitWrongCall, err}
	}
	if _, err := os.Stat(set.State); err != nil && set.Database == "" {
		return wrongCall("there is no state folder %s; name it with -state", set.State)
	}
	lock, err := lockState(set.State)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer lock.Close()
	if _, err := os.Stat(filepath.Join(set.State, "database")); err != nil && set.Database == "" {
		return exit{exitUnmeasured, fmt.Errorf("no service has run on %s: there is no database in it", set.State)}
	}
	_, err = serve.BackUp(c.ctx, set, Version, file)
	return err
}

// readThrough reads a file from its beginning, and holds it against its manifest.
func readThrough(file *os.File) (h backup.Head, m backup.Manifest, err error) {
	if _, err := file.Seek(0, 0); err != nil {
		return h, m, err
	}
	return backup.Check(file)
}

var restoreCommand = command{
	name: "restore", summary: "what 'woodlark backup' kept, brought back and held against it",
	usage:   "FILE [-state FOLDER] [-database DATABASE] [-config FILE] [-replace]\nFILE -check",
	example: "woodlark restore woodlark.backup -check\nwoodlark restore woodlark.backup -state /var/lib/woodlark\nsudo -u woodlark woodlark restore woodlark.backup -config /etc/woodlark/woodlark.yaml -replace",
	more:    "No service may run on the state folder meanwhile. The file is read through first; then what is in the\ndatabase is read back and held against it, row by row: it is as it was, or nothing is there. Where\nthere is something already it is refused, unless -replace says that it be put aside, into a folder of\nits own in the state folder. A backup of an older program is brought forward when the service starts.",
	run:     runRestore,
}

func runRestore(c *call) error {
	var check, replace bool
	c.withFormat()
	c.flags.BoolVar(&check, "check", false, "only read the file through, and say what it holds")
	c.flags.BoolVar(&replace, "replace", false, "put what is in the state folder aside first")
	read := settings.RegisterOnly(c.flags, "state", "database")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("restore needs one file")
	}
	file, err := os.Open(c.args[0])
	if err != nil {
		return wrongCall("%v", err)
	}
	defer file.Close()
	if check {
		if replace || c.isSet("state") || c.isSet("database") {
			return wrongCall("-check only reads the file: without -state, -database and -replace")
		}
		h, m, err := readThrough(file)
		if err != nil {
			return err
		}
		return c.tellBackup(c.args[0], h, m, "whole")
	}
	set, err := read()
	if err != nil {
		return exit{exitWrongCall, err}
	}
	lock, err := lockState(set.State)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	defer lock.Close()
	r, err := serve.Restore(c.ctx, set, file, replace)
	if errors.Is(err, serve.ErrTaken) {
		return exit{exitUnmeasured, fmt.Errorf("%w: nothing was changed. Name another folder with -state, or say -replace to have what is there put aside", err)}
	}
	if err != nil {
		return err
	}
	if r.Aside != "" && c.format == "text" {
		fmt.Fprintf(c.out, "What was there before is in %s.\n", r.Aside)
	}
	return c.tellBackup(c.args[0], r.Head, r.Manifest, "restored into "+set.State+", read back, and the same")
}

// toldBackup is what is said of a backup as JSON.
type toldBackup struct {
	File    string    `json:"file"`
	MadeAt  time.Time `json:"made_at"`
	Version string    `json:"version"`
	Schema  int       `json:"schema"`
	backup.Manifest
}

func (c *call) tellBackup(name string, h backup.Head, m backup.Manifest, what string) error {
	var readings int64
	var records [][]string
	for _, p := range m.Tables {
		if p.Name == "readings" {
			readings = p.Rows
		}
		records = append(records, []string{"table", p.Name, strconv.FormatInt(p.Rows, 10), strconv.FormatInt(p.Bytes, 10), p.SHA256})
	}
	for _, p := range m.Files {
		records = append(records, []string{"file", p.Name, "", strconv.FormatInt(p.Bytes, 10), p.SHA256})
	}
	text := fmt.Sprintf("%s: of %s, made by version %s (schema %d); %d readings, %d rows of %d tables in all; %s.",
		name, report.When(h.MadeAt, zone()), h.Version, h.Schema, readings, m.Rows(), len(m.Tables), what)
	doc := document.Document{Records: document.RecordsOf([]string{"part", "name", "rows", "bytes", "sha256"}, records)}
	doc.Say("%s", text)
	return c.write(toldBackup{name, h.MadeAt, h.Version, h.Schema, m}, doc)
}
