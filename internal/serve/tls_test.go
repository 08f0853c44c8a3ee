package serve

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// issue writes a certificate of a name, and its key.
func issue(t *testing.T, cert, key, name string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	x := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, x, x, k.Public(), k)
	require.NoError(t, err)
	private, err := x509.MarshalECPrivateKey(k)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private}), 0o600))
}

// TestACertificateIsRenewed: as soon as both of its files are; until then the one before is shown.
func TestACertificateIsRenewed(t *testing.T) {
	cert, key := filepath.Join(t.TempDir(), "cert.pem"), filepath.Join(t.TempDir(), "key.pem")
	_, err := openCertificate(cert, key, slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "tls-cert and tls-key")
	issue(t, cert, key, "one.example")
	var log bytes.Buffer
	c, err := openCertificate(cert, key, slog.New(slog.NewTextHandler(&log, nil)))
	require.NoError(t, err)
	name := func() string {
		c.looked = time.Time{}
		shown, err := c.get(nil)
		require.NoError(t, err)
		return shown.Leaf.DNSNames[0]
	}
	assert.Equal(t, "one.example", name())
	later := time.Now().Add(time.Minute)
	other := t.TempDir()
	issue(t, cert, filepath.Join(other, "key.pem"), "two.example")
	require.NoError(t, os.Chtimes(cert, later, later))
	assert.Equal(t, "one.example", name(), "its key is not there yet")
	assert.Contains(t, log.String(), "cannot be read again")
	require.NoError(t, os.Rename(filepath.Join(other, "key.pem"), key))
	require.NoError(t, os.Chtimes(key, later, later))
	assert.Equal(t, "two.example", name())
	require.NoError(t, os.Remove(key))
	assert.Equal(t, "two.example", name(), "and while it is gone")
}
