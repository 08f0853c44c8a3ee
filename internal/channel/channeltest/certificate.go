package channeltest

import (
	"crypto/tls"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"testing"
)

// Certificate is one of 127.0.0.1 for a receiver of a test, and the PEM of who vouches for it.
func Certificate(t *testing.T) (*tls.Config, string) {
	s := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(s.Close)
	return &tls.Config{Certificates: s.TLS.Certificates}, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}))
}
