package channel

import (
	"crypto/tls"
	"crypto/x509"

	"woodlark.example/internal/kind"
)

// TLS is how the other end of a channel is known: by authorities whose certificates are given in
// PEM, by those that this machine trusts when none are.
func TLS(host, authorities string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if authorities == "" {
		return c, nil
	}
	c.RootCAs = x509.NewCertPool()
	if !c.RootCAs.AppendCertsFromPEM([]byte(authorities)) {
		return nil, &kind.Wrong{Field: "authorities", Says: "there is no certificate in PEM form"}
	}
	return c, nil
}
