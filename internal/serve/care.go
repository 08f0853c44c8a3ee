package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"woodlark.example/internal/backup"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
)

// keptFiles are those of the state folder that a backup holds: what others know the service by.
var keptFiles = []string{"token", ownCert, ownKey}

// backUp writes all that a database and a state folder hold.
func backUp(ctx context.Context, s *store.Store, state, version string, to io.Writer) (m backup.Manifest, err error) {
	schema, err := s.SchemaNow(ctx)
	if err != nil {
		return m, err
	}
	w, err := backup.NewWriter(to, backup.Head{Version: version, Schema: schema, MadeAt: time.Now().UTC().Truncate(time.Second)})
	if err != nil {
		return m, err
	}
	if err := s.Dump(ctx, w); err != nil {
		return m, err
	}
	for _, name := range keptFiles {
		data, err := os.ReadFile(filepath.Join(state, name))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return m, fmt.Errorf("read %s of the state folder: %w", name, err)
		}
		if err := w.File(name, data); err != nil {
			return m, err
		}
	}
	return w.Close()
}

// wouldLose says what a kill of everything, and what a power cut, would lose at this moment.
func (s *Process) wouldLose(ctx context.Context) (kill, cut string) {
	kill = "nothing"
	if why := s.fullDisk(); why != "" {
		kill = "what the agent here has in memory until there is room: " + why
	}
	byKill, byCut, err := s.store.FlushesLate(ctx)
	if err != nil {
		const unknown = "not known, for the database does not say how it is set"
		return unknown, unknown
	}
	if byKill != "" {
		kill = byKill
	}
	if cut = byCut; cut == "" {
		cut = kill
	}
	return kill, cut
}

// BackUp writes a backup of a service that does not run, whose state folder the caller has locked.
func BackUp(ctx context.Context, set settings.Settings, version string, to io.Writer) (backup.Manifest, error) {
	dsn, end, err := databaseOf(ctx, set)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer end()
	s, err := store.Open(ctx, store.Options{DSN: dsn, AsIs: true, Holder: &store.Holder{Owner: ident.New(), Says: "a backup that is made of it", Lost: func(error) {}}})
	if err != nil {
		return backup.Manifest{}, err
	}
	defer s.Close()
	return backUp(ctx, s, set.State, version, to)
}

// databaseOf starts the private database of a state folder, unless the settings name another.
func databaseOf(ctx context.Context, set settings.Settings) (dsn string, end func(), err error) {
	if set.Database != "" {
		return set.Database, func() {}, nil
	}
	server, err := mariadb.Start(ctx, mariadb.Options{Dir: filepath.Join(set.State, databaseName), FlushLate: true})
	if err != nil {
		return "", nil, err
	}
	return server.DSN("woodlark"), func() { _ = server.Stop() }, nil
}

// ErrTaken is wrapped when there is something already where a backup is to be restored.
var ErrTaken = errors.New("there is a service's state already")

// Restored is what came of a backup.
type Restored struct {
	Head     backup.Head
	Manifest backup.Manifest
	// Aside is where what was there before was put; empty when there was nothing.
	Aside string
}

// Restore brings a backup back into a state folder, which the caller has locked, and into its
// database or the one that the settings name. The file is read through first, and what came of it is
// read back and held against it: the database is as it was, or there is none. What is there already
// is put aside when replace says so; else the error wraps ErrTaken.
func Restore(ctx context.Context, set settings.Settings, file io.ReadSeeker, replace bool) (r Restored, err error) {
	if r.Head, r.Manifest, err = backup.Check(file); err != nil {
		return r, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return r, err
	}
	if replace {
		if r.Aside, err = putAside(set, time.Now()); err != nil {
			return r, err
		}
	}
	dsn, end, err := databaseOf(ctx, set)
	if err != nil {
		return r, err
	}
	// What is written is on the disk when the server has ended, and that is waited for.
	defer end()
	fill, err := store.Fill(ctx, store.Options{DSN: dsn, Holder: &store.Holder{Owner: ident.New(), Says: "a backup that is restored into it", Lost: func(error) {}}}, r.Head.Schema)
	if err != nil {
		if errors.Is(err, store.ErrNotEmpty) {
			err = fmt.Errorf("%w (%w)", ErrTaken, err)
		}
		return r, err
	}
	into := &restoring{Filling: fill, files: map[string][]byte{}}
	_, _, err = backup.Read(file, into)
	if err == nil {
		err = sameBack(fill, r)
	}
	if err == nil {
		err = putFiles(set.State, into.files)
	}
	if err == nil {
		err = fill.Done()
	}
	return r, errors.Join(err, fill.Close())
}

// restoring takes the files of a backup beside its rows.
type restoring struct {
	*store.Filling
	files map[string][]byte
}

func (r *restoring) File(name string, data []byte) error {
	r.files[name] = data
	return nil
}

// sameBack reads the database back, and holds it against what the backup held.
func sameBack(fill *store.Filling, r Restored) error {
	w := backup.NewSum(r.Head)
	if err := fill.Dump(w); err != nil {
		return err
	}
	found, err := w.Close()
	if err != nil {
		return err
	}
	// A table that there was not yet is as it is made: empty.
	found.Tables = slices.DeleteFunc(found.Tables, func(p backup.Part) bool {
		return p.Rows == 0 && !slices.ContainsFunc(r.Manifest.Tables, func(o backup.Part) bool { return o.Name == p.Name })
	})
	if err := backup.Same(backup.Manifest{Head: r.Manifest.Head, Tables: r.Manifest.Tables}, found); err != nil {
		return fmt.Errorf("what was restored is not what the backup holds, and was dropped again: %w", err)
	}
	return nil
}

// putFiles writes the files that a backup holds of a state folder. One that is there stays.
func putFiles(state string, files map[string][]byte) error {
	for _, name := range keptFiles {
		data, is := files[name]
		if !is {
			continue
		}
		f, err := os.OpenFile(filepath.Join(state, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("write %s of the state folder: %w", name, err)
		}
		_, err = f.Write(data)
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			return fmt.Errorf("write %s of the state folder: %w", name, err)
		}
	}
	return nil
}

// putAside moves what a state folder holds, but its lock, into a folder of its own within. A
// database elsewhere is not ours to move.
func putAside(set settings.Settings, now time.Time) (string, error) {
	if set.Database != "" {
		return "", errors.New("a database that -database names is not put aside: name one that is empty")
	}
	all, err := os.ReadDir(set.State)
	if err != nil {
		return "", fmt.Errorf("look at the state folder: %w", err)
	}
	aside := filepath.Join(set.State, "before-"+now.UTC().Format("20060102-150405"))
	made := false
	for _, e := range all {
		name := e.Name()
		if name == "lock" || filepath.Join(set.State, name) == aside || len(name) > 7 && name[:7] == "before-" {
			continue
		}
		if !made {
			if err := os.Mkdir(aside, 0o700); err != nil {
				return "", fmt.Errorf("make a folder for what was there before: %w", err)
			}
			made = true
		}
		if err := os.Rename(filepath.Join(set.State, name), filepath.Join(aside, name)); err != nil {
			return "", fmt.Errorf("put %s aside: %w", name, err)
		}
	}
	if !made {
		return "", nil
	}
	return aside, nil
}
