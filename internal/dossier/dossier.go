// Package dossier writes and checks dossiers: evidence for somebody else in one ZIP, with a list
// of its files by SHA-256 (FIPS 180-4) that is signed with Ed25519 (RFC 8032).
//
//	w := dossier.New(file, key, now)
//	f, err := w.Create("readings.ndjson")
//	err = w.Close()
//	v, err := dossier.Check(file, size)
package dossier

import (
	"archive/zip"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"time"
)

// Names of what each dossier has.
const (
	ManifestName  = "manifest.json"
	SignatureName = "manifest.sig"
	format        = "woodlark dossier"
	version       = 1
)

// Manifest lists the files of a dossier.
type Manifest struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	MadeAt  time.Time `json:"made_at"`
	Key     string    `json:"key"` // the public one, Ed25519, base64
	Files   []File    `json:"files"`
}

// File is one of them.
type File struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // hex
}

// Fingerprint is that of a public key: what a sender tells by another way.
func Fingerprint(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Writer writes a dossier.
type Writer struct {
	zip      *zip.Writer
	key      ed25519.PrivateKey
	manifest Manifest
	now      hash.Hash
	count    int64
}

// New writes to w. made is when it is made.
func New(w io.Writer, key ed25519.PrivateKey, made time.Time) *Writer {
	public, _ := key.Public().(ed25519.PublicKey)
	return &Writer{zip: zip.NewWriter(w), key: key, manifest: Manifest{Format: format, Version: version, MadeAt: made.UTC(), Key: base64.StdEncoding.EncodeToString(public), Files: []File{}}}
}

// counting counts and hashes what is written.
type counting struct {
	*Writer
	to io.Writer
}

func (c counting) Write(b []byte) (int, error) {
	n, err := c.to.Write(b)
	c.now.Write(b[:n])
	c.count += int64(n)
	return n, err
}

func (w *Writer) end() {
	if w.now == nil {
		return
	}
	last := &w.manifest.Files[len(w.manifest.Files)-1]
	last.Bytes, last.SHA256 = w.count, hex.EncodeToString(w.now.Sum(nil))
	w.now, w.count = nil, 0
}

// Create begins a file, which ends as the next begins.
func (w *Writer) Create(name string) (io.Writer, error) {
	w.end()
	if name == ManifestName || name == SignatureName || slices.ContainsFunc(w.manifest.Files, func(f File) bool { return f.Name == name }) {
		return nil, fmt.Errorf("a dossier has one file %s", name)
	}
	to, err := w.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: w.manifest.MadeAt})
	if err != nil {
		return nil, fmt.Errorf("write a dossier: %w", err)
	}
	w.manifest.Files = append(w.manifest.Files, File{Name: name})
	w.now = sha256.New()
	return counting{w, to}, nil
}

// Close writes the list of files and its signature.
func (w *Writer) Close() error {
	w.end()
	list, err := json.MarshalIndent(w.manifest, "", "  ")
	if err != nil {
		return err
	}
	list = append(list, '\n')
	for _, f := range []struct {
		name string
		data []byte
	}{{ManifestName, list}, {SignatureName, []byte(base64.StdEncoding.EncodeToString(ed25519.Sign(w.key, list)) + "\n")}} {
		to, err := w.zip.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: w.manifest.MadeAt})
		if err == nil {
			_, err = to.Write(f.data)
		}
		if err != nil {
			return fmt.Errorf("write a dossier: %w", err)
		}
	}
	if err := w.zip.Close(); err != nil {
		return fmt.Errorf("write a dossier: %w", err)
	}
	return nil
}

// ErrNone is wrapped when a file is no dossier.
var ErrNone = errors.New("it is no dossier")

// Verdict is what a check found. A dossier is whole when it has no Wrong.
type Verdict struct {
	MadeAt      time.Time `json:"made_at"`
	Fingerprint string    `json:"key" doc:"Of the key that signed it"`
	Files       []Checked `json:"files"`
	Wrong       []string  `json:"wrong"` // each names the thing
}

// Checked is one file.
type Checked struct {
	File
	Says string `json:"says"` // whole, changed, missing or not listed
}

const (
	mostFiles    = 10_000
	mostManifest = 16 << 20
	mostUnpacked = 8 << 30
)

// Check looks whether each file of a dossier is as it was written, and whether the list of them
// is as it was signed. Whose key that is, is another matter: compare its fingerprint with what
// the sender tells. The error wraps ErrNone when it is no dossier at all.
func Check(r io.ReaderAt, size int64) (v Verdict, err error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return v, fmt.Errorf("%w: %w", ErrNone, err)
	}
	if len(z.File) > mostFiles {
		return v, fmt.Errorf("%w: it has %d files", ErrNone, len(z.File))
	}
	v.Wrong, v.Files = []string{}, []Checked{}
	found := map[string]*zip.File{}
	for _, f := range z.File {
		if found[f.Name] != nil {
			v.Wrong = append(v.Wrong, f.Name+" is there twice")
		}
		found[f.Name] = f
	}
	list, m, err := manifestOf(found[ManifestName])
	if err != nil {
		return v, err
	}
	v.MadeAt = m.MadeAt
	v.checkSignature(found[SignatureName], list, m.Key)
	listed := map[string]bool{ManifestName: true, SignatureName: true}
	left := int64(mostUnpacked)
	for _, want := range m.Files {
		listed[want.Name] = true
		v.add(want, found[want.Name], &left)
	}
	for _, f := range z.File {
		if !listed[f.Name] {
			v.Files = append(v.Files, Checked{File{Name: f.Name, Bytes: int64(f.UncompressedSize64)}, "not listed"})
			v.Wrong = append(v.Wrong, f.Name+" was added: it is not in the list of files")
		}
	}
	return v, nil
}

func manifestOf(f *zip.File) (list []byte, m Manifest, err error) {
	if f == nil {
		return nil, m, fmt.Errorf("%w: it has no %s", ErrNone, ManifestName)
	}
	if list, err = read(f, mostManifest); err != nil {
		return nil, m, fmt.Errorf("%w: %s cannot be read: %w", ErrNone, ManifestName, err)
	}
	if err := json.Unmarshal(list, &m); err != nil || m.Format != format {
		return nil, m, fmt.Errorf("%w: its %s is of something else", ErrNone, ManifestName)
	}
	if m.Version != version {
		return nil, m, fmt.Errorf("%w that this release knows: its version is %d, not %d", ErrNone, m.Version, version)
	}
	return list, m, nil
}

func (v *Verdict) checkSignature(f *zip.File, list []byte, key string) {
	public, err := base64.StdEncoding.DecodeString(key)
	if err != nil || len(public) != ed25519.PublicKeySize {
		v.Wrong = append(v.Wrong, ManifestName+" names no key")
		return
	}
	v.Fingerprint = Fingerprint(public)
	if f == nil {
		v.Wrong = append(v.Wrong, SignatureName+" is missing")
		return
	}
	text, err := read(f, 1000)
	if err == nil {
		var sign []byte
		if sign, err = base64.StdEncoding.DecodeString(string(text)); err == nil && ed25519.Verify(public, list, sign) {
			return
		}
	}
	v.Wrong = append(v.Wrong, ManifestName+" is not as it was signed")
}

func (v *Verdict) add(want File, f *zip.File, left *int64) {
	c := Checked{want, "whole"}
	switch {
	case f == nil:
		c.Says = "missing"
		v.Wrong = append(v.Wrong, want.Name+" is missing")
	default:
		sum, n, err := sumOf(f, left)
		if err != nil || n != want.Bytes || sum != want.SHA256 {
			c.Says = "changed"
			v.Wrong = append(v.Wrong, want.Name+" was changed")
		}
	}
	v.Files = append(v.Files, c)
}

func sumOf(f *zip.File, left *int64) (sum string, n int64, err error) {
	r, err := f.Open()
	if err != nil {
		return "", 0, err
	}
	defer r.Close()
	h := sha256.New()
	n, err = io.Copy(h, io.LimitReader(r, *left+1))
	if *left -= n; *left < 0 {
		return "", n, errors.New("too much")
	}
	return hex.EncodeToString(h.Sum(nil)), n, err
}

func read(f *zip.File, most int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("it is longer than %d bytes", most)
	}
	return b, err
}
