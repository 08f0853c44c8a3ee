package serve

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"woodlark.example/internal/settings"
	"woodlark.example/internal/whole"
)

// Files of the certificate that a service makes of itself, within its state folder.
const (
	ownCert = "certificate.pem"
	ownKey  = "certificate.key"

	ownLasts  = 10 * 365 * 24 * time.Hour
	ownBefore = 90 * 24 * time.Hour // of its end, when it is made anew with the same key
)

// needsOwn reports whether a service makes its own certificate: beyond this machine, where nothing
// else was said.
func needsOwn(set settings.Settings) bool {
	host, _, err := net.SplitHostPort(set.Listen)
	if err != nil || set.Cert != "" || set.Plain || host == "localhost" {
		return false
	}
	ip := net.ParseIP(host)
	return ip == nil || !ip.IsLoopback()
}

// ownCertificate sees to it that a state folder has a certificate, and returns its files. Its key
// stays the same: agents trust the service by that.
func ownCertificate(state string, names []string, now time.Time) (cert, key string, err error) {
	cert, key = filepath.Join(state, ownCert), filepath.Join(state, ownKey)
	private, err := ownPrivate(state, key)
	if err != nil {
		return "", "", err
	}
	if data, err := os.ReadFile(cert); err == nil {
		if block, _ := pem.Decode(data); block != nil {
			had, err := x509.ParseCertificate(block.Bytes)
			if err == nil && private.PublicKey.Equal(had.PublicKey) && now.Before(had.NotAfter.Add(-ownBefore)) {
				return cert, key, nil
			}
		}
	}
	made, err := selfSigned(private, names, now)
	if err != nil {
		return "", "", fmt.Errorf("make a certificate: %w", err)
	}
	return cert, key, whole.Write(cert, made)
}

// ownPrivate is the key of the certificate, made at the first need.
func ownPrivate(state, name string) (*ecdsa.PrivateKey, error) {
	data, err := os.ReadFile(name)
	switch {
	case err == nil:
		block, _ := pem.Decode(data)
		if block == nil {
			return nil, fmt.Errorf("the key of this service's own certificate, %s, is damaged. Put it back: agents trust the service by it. Removed, another one is made, and each agent has to join anew", name)
		}
		parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		private, is := parsed.(*ecdsa.PrivateKey)
		if err != nil || !is {
			return nil, fmt.Errorf("the key of this service's own certificate, %s, cannot be read: put it back, for agents trust the service by it", name)
		}
		return private, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("read the key of this service's own certificate: %w", err)
	}
	// Browsers take no certificate of an Ed25519 key.
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, fmt.Errorf("make the state folder: %w", err)
	}
	return private, whole.Write(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func selfSigned(private *ecdsa.PrivateKey, names []string, now time.Time) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	c := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Woodlark"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(ownLasts),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	if name, err := os.Hostname(); err == nil {
		c.DNSNames = append(c.DNSNames, name)
	}
	for _, name := range append(names, "localhost") {
		if ip := net.ParseIP(name); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, name)
		}
	}
	addresses, _ := net.InterfaceAddrs()
	for _, a := range addresses {
		if prefix, is := a.(*net.IPNet); is {
			c.IPAddresses = append(c.IPAddresses, prefix.IP)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, private.Public(), private)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}
