package dossier

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var made = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

func whole(t *testing.T, key ed25519.PrivateKey) []byte {
	t.Helper()
	var b bytes.Buffer
	w := New(&b, key, made)
	for _, name := range []string{"README.txt", "readings.ndjson", "captures/a.pcapng"} {
		f, err := w.Create(name)
		require.NoError(t, err)
		for i := range 100 {
			_, err := fmt.Fprintln(f, name, i)
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// again writes a dossier anew, with files as change makes them; nil leaves one out.
func again(t *testing.T, b []byte, change func(name string, data []byte) []byte, more ...string) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	put := func(name string, data []byte) {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = f.Write(data)
		require.NoError(t, err)
	}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		if data = change(f.Name, data); data != nil {
			put(f.Name, data)
		}
	}
	for _, name := range more {
		put(name, []byte("more"))
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func check(t *testing.T, b []byte) Verdict {
	t.Helper()
	v, err := Check(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	return v
}

// TestWhatWasChangedIsNamed: each byte, a file that is missing, one that is more, the list and
// its signature.
func TestWhatWasChangedIsNamed(t *testing.T) {
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	b := whole(t, key)
	v := check(t, b)
	assert.Empty(t, v.Wrong)
	assert.Len(t, v.Files, 3)
	assert.Equal(t, Fingerprint(public), v.Fingerprint)
	assert.Equal(t, made, v.MadeAt)
	same := func(_ string, data []byte) []byte { return data }
	for i := range 50 { // of a file
		v := check(t, again(t, b, func(name string, data []byte) []byte {
			if name == "readings.ndjson" {
				data[i*7] ^= 1
			}
			return data
		}))
		assert.Equal(t, []string{"readings.ndjson was changed"}, v.Wrong)
	}
	assert.Equal(t, []string{"captures/a.pcapng is missing"}, check(t, again(t, b, func(name string, data []byte) []byte {
		if name == "captures/a.pcapng" {
			return nil
		}
		return data
	})).Wrong)
	assert.Equal(t, []string{"extra.txt was added: it is not in the list of files"}, check(t, again(t, b, same, "extra.txt")).Wrong)
	assert.Contains(t, check(t, again(t, b, same, "README.txt")).Wrong, "README.txt is there twice")
	forged := check(t, again(t, b, func(name string, data []byte) []byte { // the list made to fit
		if name == ManifestName {
			return bytes.Replace(data, []byte("README.txt"), []byte("README.xyz"), 1)
		}
		return data
	}))
	assert.Contains(t, forged.Wrong, "manifest.json is not as it was signed")
	_, other, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	resigned := check(t, whole(t, other))
	assert.Empty(t, resigned.Wrong, "who signs anew is told by the key")
	assert.NotEqual(t, v.Fingerprint, resigned.Fingerprint)
	assert.Contains(t, check(t, again(t, b, func(name string, data []byte) []byte {
		if name == SignatureName {
			return nil
		}
		return data
	})).Wrong, "manifest.sig is missing")
	assert.Contains(t, check(t, again(t, b, func(name string, data []byte) []byte {
		if name != ManifestName {
			return data
		}
		var m Manifest
		require.NoError(t, json.Unmarshal(data, &m))
		m.Key = base64.StdEncoding.EncodeToString([]byte("short"))
		data, err := json.Marshal(m)
		require.NoError(t, err)
		return data
	})).Wrong, "manifest.json names no key")
}

func TestWhatIsNoDossier(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	b := whole(t, key)
	for says, bad := range map[string][]byte{
		"zip": []byte("something"), "has no manifest.json": again(t, b, func(name string, data []byte) []byte {
			if name == ManifestName {
				return nil
			}
			return data
		}), "of something else": again(t, b, func(name string, data []byte) []byte {
			if name == ManifestName {
				return []byte(`{"format": "x"}`)
			}
			return data
		}), "its version is 9": again(t, b, func(name string, data []byte) []byte {
			if name == ManifestName {
				return bytes.Replace(data, []byte(`"version": 1`), []byte(`"version": 9`), 1)
			}
			return data
		}), "not a valid": b[:len(b)/2],
	} {
		_, err := Check(bytes.NewReader(bad), int64(len(bad)))
		assert.ErrorIs(t, err, ErrNone, says)
		assert.ErrorContains(t, err, says)
	}
	w := New(&bytes.Buffer{}, key, made)
	_, err = w.Create("a")
	require.NoError(t, err)
	for _, name := range []string{"a", ManifestName, SignatureName} {
		_, err = w.Create(name)
		assert.ErrorContains(t, err, "one file")
	}
}

// FuzzCheck: nothing that is handed in ends the program.
func FuzzCheck(f *testing.F) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(f, err)
	var b bytes.Buffer
	w := New(&b, key, made)
	_, err = w.Create("a")
	require.NoError(f, err)
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) { _, _ = Check(bytes.NewReader(data), int64(len(data))) })
}
