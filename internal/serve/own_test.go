package serve

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/keys"
	"woodlark.example/internal/settings"
)

func certOf(t *testing.T, name string) *x509.Certificate {
	t.Helper()
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	block, _ := pem.Decode(data)
	require.NotNil(t, block)
	c, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	return c
}

func TestWhoMakesACertificate(t *testing.T) {
	for listen, own := range map[string]bool{"127.0.0.1:1": false, "[::1]:1": false, "localhost:1": false, "0.0.0.0:1": true, ":1": true, "192.0.2.7:1": true, "[2001:db8::7]:1": true, "woodlark.northquay.example:1": true} {
		assert.Equal(t, own, needsOwn(settings.Settings{Listen: listen}), listen)
		assert.False(t, needsOwn(settings.Settings{Listen: listen, Plain: true}), "in so many words")
		assert.False(t, needsOwn(settings.Settings{Listen: listen, Cert: "x"}), "there is one")
	}
}

// TestTheCertificateOfItsOwn stays as it is, is made anew by the same key before it ends, and a key
// that is damaged is not replaced without a word.
func TestTheCertificateOfItsOwn(t *testing.T) {
	state := filepath.Join(t.TempDir(), "state")
	now := time.Now()
	cert, key, err := ownCertificate(state, []string{"woodlark.northquay.example", "192.0.2.7"}, now)
	require.NoError(t, err)
	first := certOf(t, cert)
	assert.NoError(t, first.VerifyHostname("woodlark.northquay.example"))
	assert.NoError(t, first.VerifyHostname("192.0.2.7"))
	assert.NoError(t, first.VerifyHostname("127.0.0.1"))
	for _, name := range []string{cert, key} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
	_, _, err = ownCertificate(state, nil, now.AddDate(9, 0, 0))
	require.NoError(t, err)
	assert.Equal(t, first.Raw, certOf(t, cert).Raw)
	_, _, err = ownCertificate(state, nil, now.AddDate(9, 10, 0))
	require.NoError(t, err)
	again := certOf(t, cert)
	assert.NotEqual(t, first.Raw, again.Raw)
	assert.Equal(t, keys.Pin(first), keys.Pin(again), "who trusts it goes on")
	require.NoError(t, os.WriteFile(cert, []byte("gulls"), 0o600))
	_, _, err = ownCertificate(state, nil, now)
	require.NoError(t, err)
	assert.Equal(t, keys.Pin(first), keys.Pin(certOf(t, cert)))
	require.NoError(t, os.WriteFile(key, []byte("gulls"), 0o600))
	_, _, err = ownCertificate(state, nil, now)
	require.ErrorContains(t, err, "each agent has to join anew")
	assert.Equal(t, "gulls", string(must(os.ReadFile(key))))
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestBeyondThisMachineItSpeaksTLS, by the key that its pin names, and nothing in clear.
func TestBeyondThisMachineItSpeaksTLS(t *testing.T) {
	dir, err := os.MkdirTemp("", "wls")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	s, err := Start(t.Context(), Options{Settings: settings.Settings{Listen: "0.0.0.0:0", State: dir, Zone: time.UTC}, Token: "0123456789abcdef0123456789abcdef"})
	require.NoError(t, err)
	defer s.Close()
	go func() { _ = s.Serve(t.Context()) }()
	require.NotEmpty(t, s.Pin())
	assert.NoError(t, keys.CheckPin(s.Pin()))
	at := s.listener.Addr().String()
	port := at[len(at)-6:]
	for port[0] != ':' {
		port = port[1:]
	}
	get := func(base string, trust *tls.Config) (int, error) {
		c := http.Client{Transport: &http.Transport{TLSClientConfig: trust}}
		answer, err := c.Get(base + port + "/api/v1/openapi.json")
		if err != nil {
			return 0, err
		}
		defer answer.Body.Close()
		if answer.TLS != nil {
			assert.NotEmpty(t, answer.Header.Get("Strict-Transport-Security"))
		}
		return answer.StatusCode, nil
	}
	status, err := get("https://127.0.0.1", keys.Pinned(s.Pin()))
	require.NoError(t, err)
	assert.Equal(t, 200, status)
	_, err = get("https://127.0.0.1", nil)
	assert.Error(t, err, "nobody vouches for it")
	_, err = get("https://127.0.0.1", keys.Pinned("sha256:0000000000000000000000000000000000000000000000000000000000000000"))
	assert.ErrorIs(t, err, keys.ErrOtherKey)
	status, err = get("http://127.0.0.1", nil)
	assert.True(t, err != nil || status == 400, "nothing in clear")
	for _, bad := range []string{"", "sha256:", "md5:00", "sha256:zz", s.Pin() + "0"} {
		assert.Error(t, keys.CheckPin(bad), bad)
	}
}
