//go:build linux

package main

import (
	"crypto/x509"
	"os"
	"path/filepath"

	"golang.org/x/crypto/x509roots/fallback/bundle"
)

// ownRoots are where distributions keep the authorities that they trust.
var ownRoots = []string{"/etc/ssl/certs", "/etc/pki/tls/certs", "/etc/pki/ca-trust/extracted/pem", "/etc/ssl/cert.pem", "/etc/ssl/ca-bundle.pem", "/system/etc/security/cacerts"}

// trust has https work in containers that trust nobody. To read a hundred certificates takes as long
// as a ping: they are read only where the host has none of its own.
func trust() {
	for _, place := range append(ownRoots, os.Getenv("SSL_CERT_FILE"), os.Getenv("SSL_CERT_DIR")) {
		if holds(place) {
			return
		}
	}
	pool := x509.NewCertPool()
	for r := range bundle.Roots() {
		c, err := x509.ParseCertificate(r.Certificate)
		switch {
		case err != nil: // one that this release cannot read is not trusted
		case r.Constraint != nil:
			pool.AddCertWithConstraint(c, r.Constraint)
		default:
			pool.AddCert(c)
		}
	}
	x509.SetFallbackRoots(pool)
}

// holds reports whether there is a file that is not empty, there or in a folder there.
func holds(place string) bool {
	info, err := os.Stat(place)
	if err != nil {
		return false
	}
	if !info.IsDir() {
		return info.Mode().IsRegular() && info.Size() > 0
	}
	d, err := os.Open(place)
	if err != nil {
		return false
	}
	defer d.Close()
	for {
		names, err := d.Readdirnames(16)
		for _, name := range names {
			if info, err := os.Stat(filepath.Join(place, name)); err == nil && info.Mode().IsRegular() && info.Size() > 0 {
				return true
			}
		}
		if err != nil {
			return false
		}
	}
}
