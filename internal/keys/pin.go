package keys

import (
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// pinBegins a pin: what follows is the SHA-256 of a public key as a certificate has it
// (SubjectPublicKeyInfo), in hexadecimal. Browsers show the same.
const pinBegins = "sha256:"

// Pin is that of a certificate's key: it stays the same when the certificate is renewed.
func Pin(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return pinBegins + hex.EncodeToString(sum[:])
}

// CheckPin says what is wrong with a pin as somebody wrote it, or with any of several that have commas
// between.
func CheckPin(pins string) error {
	for _, pin := range strings.Split(pins, ",") {
		if err := checkPin(pin); err != nil {
			return err
		}
	}
	return nil
}

func checkPin(pin string) error {
	raw, err := hex.DecodeString(strings.TrimPrefix(pin, pinBegins))
	if !strings.HasPrefix(pin, pinBegins) || err != nil || len(raw) != sha256.Size {
		return fmt.Errorf("%q is not like sha256: and 64 hexadecimal digits", pin[:min(len(pin), 80)])
	}
	return nil
}

// ErrOtherKey is wrapped when a service shows another key than it has to.
var ErrOtherKey = errors.New("the service shows another key than it is trusted by")

// Pinned is how somebody speaks TLS who trusts exactly one key, or those of several services with commas
// between them, whatever name or time a certificate has, and whoever vouches for it.
func Pinned(pins string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 {
			return ErrOtherKey
		}
		shown := Pin(s.PeerCertificates[0])
		for _, pin := range strings.Split(pins, ",") {
			if subtle.ConstantTimeCompare([]byte(shown), []byte(strings.ToLower(strings.TrimSpace(pin)))) == 1 {
				return nil
			}
		}
		return fmt.Errorf("%w: %s", ErrOtherKey, shown)
	}}
}
