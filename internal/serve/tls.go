package serve

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// lookEvery is how often, at most, it is seen whether the files of a certificate have changed.
const lookEvery = 5 * time.Second

// certificate is what this service shows of itself, from two files that somebody else renews.
type certificate struct {
	cert, key string
	log       *slog.Logger

	mu     sync.Mutex
	shown  *tls.Certificate
	looked time.Time
	of     [2]time.Time // when the files were changed, as they were read
}

// openCertificate reads a certificate and its key, by PEM.
func openCertificate(cert, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{cert: cert, key: key, log: log}
	of, err := c.changed()
	if err == nil {
		err = c.read(of)
	}
	if err != nil {
		return nil, fmt.Errorf("tls-cert and tls-key: %w", err)
	}
	return c, nil
}

// changed is when the files were changed.
func (c *certificate) changed() (of [2]time.Time, err error) {
	for i, name := range []string{c.cert, c.key} {
		info, err := os.Stat(name)
		if err != nil {
			return of, err
		}
		of[i] = info.ModTime()
	}
	return of, nil
}

func (c *certificate) read(of [2]time.Time) error {
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	c.shown, c.of = &pair, of
	return nil
}

// get is the certificate as its files are now. While they cannot be read, as when one of them is
// renewed and the other is not yet, the one before is shown.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		of, err := c.changed()
		if err == nil && of != c.of {
			if err = c.read(of); err == nil {
				c.log.Info("the certificate was renewed", "file", c.cert, "until", c.shown.Leaf.NotAfter)
			}
		}
		if err != nil {
			c.log.Error("the certificate cannot be read again; the one before is shown", "error", err)
		}
	}
	return c.shown, nil
}
