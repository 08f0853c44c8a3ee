// Package mail hands messages over by SMTP, as text and HTML.
package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/kind"
)

// Settings are by whom and to whom mail goes.
type Settings struct {
	Server      string    `json:"server" help:"host and port of the mail server, such as mail.northquay.example:587"`
	Security    string    `json:"security" enum:"starttls,tls,none" help:"starttls: begun in clear and then in TLS, or not at all; tls from the start; none only where nobody reads along"`
	From        string    `json:"from" help:"address that it is from"`
	To          kind.List `json:"to" help:"addresses that it goes to"`
	User        string    `json:"user" help:"for authentication; none when empty"`
	Password    string    `json:"password" help:"for authentication"`
	Authorities string    `json:"authorities" help:"certificates in PEM of those that vouch for the receiver; those that this machine trusts when empty"`
}

// Check says what cannot be.
func (s *Settings) Check() error {
	if _, _, err := s.at(); err != nil {
		return &kind.Wrong{Field: "server", Says: fmt.Sprintf("%q is not like mail.northquay.example:587", kind.Shorten(s.Server))}
	}
	if _, err := netmail.ParseAddress(s.From); err != nil {
		return &kind.Wrong{Field: "from", Says: fmt.Sprintf("%q is no mail address", kind.Shorten(s.From))}
	}
	if len(s.To) == 0 || len(s.To) > 50 {
		return &kind.Wrong{Field: "to", Says: fmt.Sprintf("%d addresses are not between 1 and 50", len(s.To))}
	}
	for _, to := range s.To {
		if _, err := netmail.ParseAddress(to); err != nil {
			return &kind.Wrong{Field: "to", Says: fmt.Sprintf("%q is no mail address", kind.Shorten(to))}
		}
	}
	if _, err := channel.TLS("", s.Authorities); err != nil {
		return err
	}
	if (s.User == "") != (s.Password == "") {
		return &kind.Wrong{Field: "password", Says: "user and password go together"}
	}
	if s.Password != "" && s.Security == "none" {
		return &kind.Wrong{Field: "security", Says: "a password is not sent in clear"}
	}
	return nil
}

func (s *Settings) at() (host string, port int, err error) {
	host, text, err := net.SplitHostPort(s.Server)
	if err != nil || host == "" {
		return "", 0, errors.New("no host and port")
	}
	n, err := strconv.ParseUint(text, 10, 16)
	return host, int(n), err
}

// Type is what the register knows.
var Type = channel.Register(&channel.Type{Name: "mail", Summary: "mail by SMTP", Pictures: true, Files: true,
	New:  func() channel.Settings { return &Settings{Security: "starttls"} },
	Open: func(s channel.Settings) (channel.Channel, error) { return &box{s.(*Settings)}, nil }})

type box struct{ *Settings }

const (
	limit   = 30 * time.Second
	picture = "picture.png"
)

// Deliver sends a mail. Its identifier is the message's, so that a mailbox knows a repeat.
func (b *box) Deliver(ctx context.Context, m channel.Message) error {
	host, port, err := b.at()
	if err != nil {
		return err
	}
	by, err := channel.TLS(host, b.Authorities)
	if err != nil {
		return err
	}
	o := []mail.Option{mail.WithDialContextFunc(func(_ context.Context, network, address string) (net.Conn, error) {
		c, err := (&net.Dialer{Timeout: limit}).DialContext(ctx, network, address)
		if err == nil { // a server that says nothing is let go of, too
			context.AfterFunc(ctx, func() { _ = c.Close() })
		}
		return c, err
	}), mail.WithPort(port), mail.WithTimeout(limit), mail.WithTLSConfig(by)}
	switch b.Security {
	case "tls":
		o = append(o, mail.WithSSL())
	case "none":
		o = append(o, mail.WithTLSPolicy(mail.NoTLS))
	default:
		o = append(o, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if b.User != "" {
		o = append(o, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(b.User), mail.WithPassword(b.Password))
	}
	c, err := mail.NewClient(host, o...)
	if err != nil {
		return fmt.Errorf("%w: %w", channel.ErrRefused, err)
	}
	letter, err := b.letter(m)
	if err != nil {
		return fmt.Errorf("%w: %w", channel.ErrRefused, err)
	}
	if err := c.DialAndSendWithContext(ctx, letter); err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%s: %w", b.Server, ctx.Err())
		}
		var failed *mail.SendError
		if errors.As(err, &failed) && !failed.IsTemp() && failed.ErrorCode() >= 500 {
			return fmt.Errorf("%w: %s: %w", channel.ErrRefused, b.Server, err)
		}
		return fmt.Errorf("%s: %w", b.Server, err)
	}
	return nil
}

func (b *box) letter(m channel.Message) (*mail.Msg, error) {
	l := mail.NewMsg()
	if err := l.From(b.From); err != nil {
		return nil, err
	}
	if err := l.To(b.To...); err != nil {
		return nil, err
	}
	l.Subject(m.Title)
	l.SetMessageIDWithValue(m.ID.String() + "@woodlark.example")
	l.SetDateWithValue(m.At)
	l.SetGenHeader("X-Woodlark-Subject", m.Subject)
	l.SetBodyString(mail.TypeTextPlain, m.Title+"\n\n"+m.Text+"\n")
	var text strings.Builder
	for _, p := range strings.Split(strings.TrimSpace(m.Text), "\n") {
		text.WriteString("<p>" + html.EscapeString(p) + "</p>\n")
	}
	if len(m.Picture) > 0 {
		if err := l.EmbedReader(picture, bytes.NewReader(m.Picture), mail.WithFileContentType("image/png"), mail.WithFileContentID("<"+picture+">")); err != nil {
			return nil, err
		}
		text.WriteString("<p><img src=\"cid:" + picture + "\" alt=\"" + html.EscapeString(m.Title) + "\" width=\"720\" style=\"max-width:100%\"></p>\n")
	}
	for _, f := range m.Files {
		if err := l.AttachReader(f.Name, bytes.NewReader(f.Data), mail.WithFileContentType(mail.ContentType(f.Type))); err != nil {
			return nil, err
		}
	}
	l.AddAlternativeString(mail.TypeTextHTML, "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>"+html.EscapeString(m.Title)+"</title></head><body><h1 style=\"font-size:1.2em\">"+html.EscapeString(m.Title)+"</h1>\n"+text.String()+"</body></html>")
	return l, nil
}

// Close holds nothing.
func (b *box) Close() error { return nil }
