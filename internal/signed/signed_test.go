package signed_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/signed"
)

var now = time.Date(2026, 11, 14, 9, 30, 0, 0, time.UTC)

func pair() (ed25519.PublicKey, ed25519.PrivateKey) {
	key := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize))
	return key.Public().(ed25519.PublicKey), key
}

func call(method, target, body string) *http.Request {
	return httptest.NewRequest(method, target, strings.NewReader(body))
}

func TestASignedCall(t *testing.T) {
	public, key := pair()
	other, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	sign := func(method, target, body string) *http.Request {
		r := call(method, target, body)
		require.NoError(t, signed.Sign(r, []byte(body), signed.As{ID: "pier", Key: key, At: now}))
		return r
	}
	r := sign("POST", "/api/v1/agent/uploads?x=1", "figures")
	c, err := signed.Read(r)
	require.NoError(t, err)
	assert.Equal(t, "pier", c.ID)
	assert.True(t, now.Equal(c.At))
	assert.NoError(t, c.Check(r, public))
	assert.NoError(t, signed.CheckBody(r, []byte("figures")))
	assert.ErrorIs(t, c.Check(r, other), signed.ErrNotSigned, "another's key")
	assert.ErrorIs(t, c.Check(r, nil), signed.ErrNotSigned)
	assert.ErrorIs(t, signed.CheckBody(r, []byte("figurez")), signed.ErrNotSigned)

	for name, change := range map[string]func(*http.Request){
		"another method":      func(r *http.Request) { r.Method = "GET" },
		"another path":        func(r *http.Request) { r.URL.Path = "/api/v1/agent/health" },
		"another query":       func(r *http.Request) { r.URL.RawQuery = "x=2" },
		"another digest":      func(r *http.Request) { r.Header.Set("Content-Digest", "sha-256=:AAAA:") },
		"no digest":           func(r *http.Request) { r.Header.Del("Content-Digest") },
		"two digests":         func(r *http.Request) { r.Header.Add("Content-Digest", r.Header.Get("Content-Digest")) },
		"a later time":        func(r *http.Request) { edit(r, "created=", "created=1") },
		"another's name":      func(r *http.Request) { edit(r, `keyid="pier"`, `keyid="quay"`) },
		"another nonce":       func(r *http.Request) { edit(r, `nonce="`, `nonce="A`) },
		"less covered":        func(r *http.Request) { edit(r, ` "@path"`, ``) },
		"more covered":        func(r *http.Request) { edit(r, `"@path"`, `"@path" "host"`) },
		"covered with params": func(r *http.Request) { edit(r, `"@path"`, `"@path";req`) },
	} {
		r := sign("POST", "/api/v1/agent/uploads?x=1", "figures")
		change(r)
		c, err := signed.Read(r)
		if err == nil {
			err = c.Check(r, public)
		}
		assert.ErrorIs(t, err, signed.ErrNotSigned, name)
	}
	for name, fields := range map[string][2]string{
		"nothing":             {"", ""},
		"no signature":        {r.Header.Get("Signature-Input"), ""},
		"no dictionary":       {"(((", r.Header.Get("Signature")},
		"another label":       {strings.Replace(r.Header.Get("Signature-Input"), "woodlark", "other", 1), r.Header.Get("Signature")},
		"another algorithm":   {strings.Replace(r.Header.Get("Signature-Input"), "ed25519", "hmac-sha256", 1), r.Header.Get("Signature")},
		"a short signature":   {r.Header.Get("Signature-Input"), "woodlark=:AAAA:"},
		"text as signature":   {r.Header.Get("Signature-Input"), `woodlark="x"`},
		"without a nonce":     {`woodlark=("@method");created=1;keyid="x"`, r.Header.Get("Signature")},
		"created as text":     {`woodlark=("@method");created="1";keyid="x";nonce="0123456789abcdef"`, r.Header.Get("Signature")},
		"as long as anything": {"woodlark=(" + strings.Repeat(`"@method" `, 1000) + ")", r.Header.Get("Signature")},
	} {
		r := call("GET", "/", "")
		r.Header.Set("Signature-Input", fields[0])
		r.Header.Set("Signature", fields[1])
		_, err := signed.Read(r)
		assert.ErrorIs(t, err, signed.ErrNotSigned, name)
	}
}

func edit(r *http.Request, from, to string) {
	r.Header.Set("Signature-Input", strings.Replace(r.Header.Get("Signature-Input"), from, to, 1))
}

// TestWhatIsSigned is the signature base of RFC 9421, section 2.5, written out by hand.
func TestWhatIsSigned(t *testing.T) {
	public, key := pair()
	r := call("POST", "/api/v1/agent/health", "")
	require.NoError(t, signed.Sign(r, nil, signed.As{ID: "pier", Key: key, At: now}))
	_, params, _ := strings.Cut(r.Header.Get("Signature-Input"), "=")
	assert.Regexp(t, `^\("@method" "@path" "@query" "content-digest"\);created=1794648600;keyid="pier";alg="ed25519";nonce="[\w-]{22}"$`, params)
	// The SHA-256 of nothing.
	const digest = "sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:"
	assert.Equal(t, digest, r.Header.Get("Content-Digest"))
	base := "\"@method\": POST\n\"@path\": /api/v1/agent/health\n\"@query\": ?\n\"content-digest\": " + digest + "\n\"@signature-params\": " + params
	raw, err := base64.StdEncoding.DecodeString(strings.Trim(strings.TrimPrefix(r.Header.Get("Signature"), "woodlark="), ":"))
	require.NoError(t, err)
	assert.True(t, ed25519.Verify(public, []byte(base), raw))
}

func TestEachIsTakenOnce(t *testing.T) {
	var n signed.Nonces
	c := signed.Call{ID: "pier", At: now, Nonce: "0123456789abcdef"}
	require.NoError(t, n.Take(c, now))
	assert.ErrorIs(t, n.Take(c, now), signed.ErrAgain)
	assert.ErrorIs(t, n.Take(c, now.Add(time.Minute)), signed.ErrAgain)
	assert.ErrorIs(t, n.Take(c, now.Add(61*time.Second)), signed.ErrOtherTime, "and when it is forgotten, it is of another time")
	other := c
	other.ID = "quay"
	assert.NoError(t, n.Take(other, now), "nonces are each one's own")
	early := signed.Call{ID: "pier", At: now.Add(2 * time.Minute), Nonce: "fedcba9876543210"}
	assert.ErrorIs(t, n.Take(early, now), signed.ErrOtherTime)
	assert.NoError(t, n.Take(early, now.Add(time.Minute)))
	assert.ErrorIs(t, n.Take(early, now.Add(3*time.Minute)), signed.ErrAgain)
}

func FuzzRead(f *testing.F) {
	_, key := pair()
	r := call("POST", "/x", "")
	_ = signed.Sign(r, nil, signed.As{ID: "pier", Key: key, At: now})
	f.Add(r.Header.Get("Signature-Input"), r.Header.Get("Signature"), r.Header.Get("Content-Digest"))
	f.Fuzz(func(t *testing.T, input, signature, digest string) {
		r := &http.Request{Method: "GET", URL: r.URL, Header: http.Header{"Signature-Input": {input}, "Signature": {signature}, "Content-Digest": {digest}}}
		if c, err := signed.Read(r); err == nil {
			_ = c.Check(r, nil)
		}
		_ = signed.CheckBody(r, nil)
	})
}
