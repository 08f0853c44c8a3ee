package backup

import (
	"archive/tar"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"time"
)

const (
	headName     = "woodlark-backup.json"
	manifestName = "manifest.json"
	tablesFolder = "tables/"
	stateFolder  = "state/"
	tableHead    = "head.json"

	// chunk is how many bytes of rows are one file of the archive, about.
	chunk = 1 << 20
)

// Writer writes a backup as it comes. Of what it writes it keeps the last chunk only.
type Writer struct {
	packed *gzip.Writer // nil: only summed up
	tar    *tar.Writer
	at     time.Time

	table    Table
	rows     []byte
	chunks   int
	sum      hash.Hash
	part     Part
	manifest Manifest
}

// NewWriter begins a backup.
func NewWriter(to io.Writer, h Head) (*Writer, error) {
	packed, err := gzip.NewWriterLevel(to, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	w := &Writer{packed: packed, tar: tar.NewWriter(packed), at: h.MadeAt.UTC().Truncate(time.Second)}
	h.Form = Form
	w.manifest.Head = h
	return w, w.put(headName, h)
}

// NewSum writes nothing: its Close says what a backup of the same would hold.
func NewSum(h Head) *Writer {
	h.Form = Form
	return &Writer{manifest: Manifest{Head: h}}
}

// put writes a file of the archive as JSON.
func (w *Writer) put(name string, what any) error {
	data, err := json.Marshal(what)
	if err != nil {
		return err
	}
	return w.file(name, append(data, '\n'))
}

func (w *Writer) file(name string, data []byte) error {
	if w.packed == nil {
		return nil
	}
	if err := w.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: w.at, Format: tar.FormatUSTAR}); err != nil {
		return err
	}
	_, err := w.tar.Write(data)
	return err
}

// Table begins a table; its rows follow.
func (w *Writer) Table(t Table) error {
	if err := errors.Join(t.check(), w.endTable()); err != nil {
		return err
	}
	w.table, w.sum, w.part, w.chunks = t, sha256.New(), Part{Name: t.Name}, 0
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	data = append(data, '\n')
	_, _ = w.sum.Write(data)
	return w.file(path.Join(tablesFolder, t.Name, tableHead), data)
}

// Row is one of the table that was begun last: a value for each column, as parseRow gives them.
func (w *Writer) Row(values []any) (err error) {
	if w.rows, err = appendRow(w.rows, w.table, values); err != nil {
		return err
	}
	w.part.Rows++
	if len(w.rows) < chunk {
		return nil
	}
	return w.endChunk()
}

func (w *Writer) endChunk() error {
	if len(w.rows) == 0 {
		return nil
	}
	w.chunks++
	_, _ = w.sum.Write(w.rows)
	w.part.Bytes += int64(len(w.rows))
	err := w.file(fmt.Sprintf("%s%s/%06d", tablesFolder, w.table.Name, w.chunks), w.rows)
	w.rows = w.rows[:0]
	return err
}

func (w *Writer) endTable() error {
	if w.sum == nil {
		return nil
	}
	err := w.endChunk()
	w.part.SHA256 = hex.EncodeToString(w.sum.Sum(nil))
	w.manifest.Tables = append(w.manifest.Tables, w.part)
	w.sum = nil
	return err
}

// File keeps a file of the state folder.
func (w *Writer) File(name string, data []byte) error {
	if !fileShape.MatchString(name) {
		return fmt.Errorf("a backup keeps no file %q", name)
	}
	if err := w.endTable(); err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	w.manifest.Files = append(w.manifest.Files, Part{Name: name, Bytes: int64(len(data)), SHA256: hex.EncodeToString(sum[:])})
	return w.file(stateFolder+name, data)
}

// Close ends the backup, and returns what it holds. Without it the backup is not whole.
func (w *Writer) Close() (Manifest, error) {
	if err := w.endTable(); err != nil {
		return Manifest{}, err
	}
	if err := w.put(manifestName, w.manifest); err != nil {
		return Manifest{}, err
	}
	if w.packed == nil {
		return w.manifest, nil
	}
	return w.manifest, errors.Join(w.tar.Close(), w.packed.Close())
}
