package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
)

// Into takes what a backup holds, in its order.
type Into interface {
	Table(t Table) error
	Row(values []any) error
	File(name string, data []byte) error
}

// mostEntry bounds a file of the archive: rows are no longer than the database takes.
const mostEntry = 64 << 20

// Check reads a backup through, and holds it against its manifest. The error wraps ErrDamaged when
// it is not whole, or not what was written.
func Check(from io.Reader) (Head, Manifest, error) {
	w := &walk{}
	err := w.all(from)
	return w.head, w.manifest, err
}

// Read reads a backup through, and hands over what it holds. What is wrong with it may be found when
// part of it was handed over already: Check it first.
func Read(from io.Reader, into Into) (Head, Manifest, error) {
	w := &walk{into: into}
	err := w.all(from)
	return w.head, w.manifest, err
}

// walk goes through a backup once.
type walk struct {
	into     Into // nil: only looked at
	head     Head
	manifest Manifest

	seen   Manifest // what was come by
	ended  bool
	table  Table
	chunks int
	sum    hash.Hash
}

func (w *walk) all(from io.Reader) error {
	packed, err := gzip.NewReader(from)
	if err != nil {
		return fmt.Errorf("%w: it is not packed by gzip (%w)", ErrDamaged, err)
	}
	files := tar.NewReader(packed)
	for {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%w: it ends within, or is no archive (%w)", ErrDamaged, err)
		}
		if h.Typeflag != tar.TypeReg || h.Size > mostEntry {
			return fmt.Errorf("%w: it holds %q, which is no file of a backup", ErrDamaged, h.Name)
		}
		data, err := io.ReadAll(files)
		if err != nil {
			return fmt.Errorf("%w: it ends within %s (%w)", ErrDamaged, h.Name, err)
		}
		if err := w.entry(h.Name, data); err != nil {
			return err
		}
	}
	// What lies behind the archive is packed, too, and its sum is checked at its end.
	if _, err := io.Copy(io.Discard, packed); err != nil {
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	if !w.ended {
		return fmt.Errorf("%w: its end is missing", ErrDamaged)
	}
	return nil
}

func (w *walk) entry(name string, data []byte) error {
	if w.ended {
		return fmt.Errorf("%w: there is more behind its end: %q", ErrDamaged, name)
	}
	if w.head.Form == 0 {
		return w.begin(name, data)
	}
	rest, isTable := strings.CutPrefix(name, tablesFolder)
	file, isState := strings.CutPrefix(name, stateFolder)
	switch {
	case isTable && strings.HasSuffix(rest, "/"+tableHead):
		return w.beginTable(rest, data)
	case isTable:
		return w.rows(rest, data)
	case isState && fileShape.MatchString(file):
		w.endTable()
		sum := sha256.Sum256(data)
		w.seen.Files = append(w.seen.Files, Part{Name: file, Bytes: int64(len(data)), SHA256: hex.EncodeToString(sum[:])})
		if w.into == nil {
			return nil
		}
		return w.into.File(file, data)
	case name == manifestName:
		return w.end(data)
	}
	return fmt.Errorf("%w: it holds %q, which is no file of a backup", ErrDamaged, name)
}

func (w *walk) begin(name string, data []byte) error {
	if name != headName || json.Unmarshal(data, &w.head) != nil || w.head.Form < 1 {
		return fmt.Errorf("%w: it does not begin as a backup of Woodlark does", ErrDamaged)
	}
	if w.head.Form > Form {
		return fmt.Errorf("the backup has form %d, made by version %s, and this program knows form %d: use a newer program", w.head.Form, w.head.Version, Form)
	}
	return nil
}

func (w *walk) beginTable(rest string, data []byte) error {
	w.endTable()
	w.table = Table{}
	if err := json.Unmarshal(data, &w.table); err != nil || rest != w.table.Name+"/"+tableHead {
		return fmt.Errorf("%w: the head of %s cannot be read", ErrDamaged, rest)
	}
	if err := w.table.check(); err != nil {
		return err
	}
	w.sum, w.chunks = sha256.New(), 0
	_, _ = w.sum.Write(data)
	w.seen.Tables = append(w.seen.Tables, Part{Name: w.table.Name})
	if w.into == nil {
		return nil
	}
	return w.into.Table(w.table)
}

func (w *walk) rows(rest string, data []byte) error {
	w.chunks++
	if w.sum == nil || rest != fmt.Sprintf("%s/%06d", w.table.Name, w.chunks) {
		return fmt.Errorf("%w: it holds rows %q where others belong", ErrDamaged, rest)
	}
	_, _ = w.sum.Write(data)
	part := &w.seen.Tables[len(w.seen.Tables)-1]
	part.Bytes += int64(len(data))
	for len(data) > 0 {
		line, more, whole := bytes.Cut(data, []byte("\n"))
		if !whole {
			return fmt.Errorf("%w: a row of %s is cut off", ErrDamaged, w.table.Name)
		}
		data = more
		part.Rows++
		if w.into == nil {
			continue // its sum tells
		}
		values, err := parseRow(w.table, line)
		if err != nil {
			return err
		}
		if err := w.into.Row(values); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) endTable() {
	if w.sum == nil {
		return
	}
	w.seen.Tables[len(w.seen.Tables)-1].SHA256 = hex.EncodeToString(w.sum.Sum(nil))
	w.sum = nil
}

func (w *walk) end(data []byte) error {
	w.endTable()
	w.ended = true
	if err := json.Unmarshal(data, &w.manifest); err != nil {
		return fmt.Errorf("%w: its manifest cannot be read", ErrDamaged)
	}
	w.seen.Head = w.head
	return Same(w.manifest, w.seen)
}

// Same holds what was found against what there ought to be. The error names the first part that is
// other, and wraps ErrDamaged.
func Same(ought, found Manifest) error {
	if ought.Head != found.Head {
		return fmt.Errorf("%w: it does not begin as it was written", ErrDamaged)
	}
	for _, list := range []struct {
		what         string
		ought, found []Part
	}{{"table", ought.Tables, found.Tables}, {"file", ought.Files, found.Files}} {
		for _, p := range list.ought {
			at := slices.IndexFunc(list.found, func(o Part) bool { return o.Name == p.Name })
			switch {
			case at < 0:
				return fmt.Errorf("%w: the %s %s is missing", ErrDamaged, list.what, p.Name)
			case list.found[at] != p:
				return fmt.Errorf("%w: the %s %s is not what was written", ErrDamaged, list.what, p.Name)
			}
		}
		if len(list.found) != len(list.ought) {
			return fmt.Errorf("%w: it holds a %s that its manifest does not name", ErrDamaged, list.what)
		}
	}
	return nil
}
