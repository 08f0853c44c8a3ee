// Package syslog hands messages over as RFC 5424 says, by UDP (RFC 5426), TCP (RFC 6587, with
// the length before) or TLS (RFC 5425).
package syslog

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"
	"unicode"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/kind"
)

// Settings are where messages go.
type Settings struct {
	Address     string `json:"address" help:"host and port of the collector, such as logs.northquay.example:6514"`
	By          string `json:"by" enum:"udp,tcp,tls" help:"how it is reached"`
	Facility    int    `json:"facility" help:"0 to 23, by RFC 5424, section 6.2.1"`
	Host        string `json:"host" help:"what this machine is called in them; its name when empty"`
	Authorities string `json:"authorities" help:"certificates in PEM of those that vouch for the receiver; those that this machine trusts when empty"`
}

// Check says what cannot be.
func (s *Settings) Check() error {
	if host, port, err := net.SplitHostPort(s.Address); err != nil || host == "" || port == "" {
		return &kind.Wrong{Field: "address", Says: fmt.Sprintf("%q is not like logs.northquay.example:6514", kind.Shorten(s.Address))}
	}
	if _, err := channel.TLS("", s.Authorities); err != nil {
		return err
	}
	if s.Facility < 0 || s.Facility > 23 {
		return &kind.Wrong{Field: "facility", Says: fmt.Sprintf("%d is not between 0 and 23", s.Facility)}
	}
	if strings.ContainsFunc(s.Host, func(r rune) bool { return r <= ' ' || r > '~' }) || len(s.Host) > 255 {
		return &kind.Wrong{Field: "host", Says: "it is up to 255 printable characters without blanks"}
	}
	return nil
}

// Type is what the register knows.
var Type = channel.Register(&channel.Type{Name: "syslog", Summary: "RFC 5424 by UDP, TCP or TLS",
	New: func() channel.Settings { return &Settings{By: "udp", Facility: 16} },
	Open: func(s channel.Settings) (channel.Channel, error) {
		x := *s.(*Settings)
		if x.Host == "" {
			x.Host, _ = os.Hostname()
		}
		return &line{x}, nil
	}})

type line struct{ Settings }

const limit = 20 * time.Second

// severities by what happened, of RFC 5424, table 2.
var severities = map[string]int{"opened": 3, "worse": 3, "reminder": 4, "summary": 4, "easing": 5, "closed": 5, "test": 6}

// Write is a message as a line.
func (l *line) write(m channel.Message) string {
	severity, is := severities[m.What]
	if !is {
		severity = 5
	}
	text := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, m.Title)
	host := l.Host
	if host == "" {
		host = "-"
	}
	// The byte order mark says that the text is UTF-8 (section 6.4).
	return fmt.Sprintf("<%d>1 %s %s woodlark - %s [message@32473 id=\"%s\" subject=\"%s\" sequence=\"%d\"] \ufeff%s",
		l.Facility*8+severity, m.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"), host, m.What, m.ID, escape(m.Subject), m.Order, text)
}

// escape writes a value of structured data (section 6.3.3).
func escape(v string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(v)
}

// Deliver sends a message. By UDP nobody says that it arrived; by TCP and TLS that the other end
// took it is known once it closes orderly.
func (l *line) Deliver(ctx context.Context, m channel.Message) error {
	text := l.write(m)
	d := net.Dialer{Timeout: limit}
	if l.By == "udp" {
		c, err := d.DialContext(ctx, "udp", l.Address)
		if err != nil {
			return err
		}
		defer c.Close()
		return l.over(ctx, c, text, false)
	}
	c, err := d.DialContext(ctx, "tcp", l.Address)
	if err != nil {
		return err
	}
	defer c.Close()
	if l.By == "tls" {
		host, _, _ := net.SplitHostPort(l.Address)
		by, err := channel.TLS(host, l.Authorities)
		if err != nil {
			return err
		}
		t := tls.Client(c, by)
		if err := t.HandshakeContext(ctx); err != nil {
			return fmt.Errorf("%s: %w", l.Address, err)
		}
		c = t
	}
	return l.over(ctx, c, fmt.Sprintf("%d %s", len(text), text), true)
}

// over writes the text, and of a stream waits until the other end has closed it too.
func (l *line) over(ctx context.Context, c net.Conn, text string, stream bool) error {
	_ = c.SetDeadline(time.Now().Add(limit))
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	_, err := io.WriteString(c, text)
	if err == nil && stream {
		if half, is := c.(interface{ CloseWrite() error }); is {
			err = half.CloseWrite()
		}
		if err == nil {
			_, err = io.Copy(io.Discard, io.LimitReader(c, 1<<16))
		}
	}
	if err != nil && ctx.Err() != nil {
		return fmt.Errorf("%s: %w", l.Address, ctx.Err())
	}
	if err != nil {
		return fmt.Errorf("%s: %w", l.Address, err)
	}
	return nil
}

// Close holds nothing.
func (l *line) Close() error { return nil }
