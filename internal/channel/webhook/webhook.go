// Package webhook hands messages over as CloudEvents 1.0 by HTTP POST, signed with a secret.
package webhook

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/kind"
)

// Settings are where messages go.
type Settings struct {
	URL         string `json:"url" help:"where messages are posted to, https://… or http://…"`
	Mode        string `json:"mode" enum:"structured,binary" help:"structured: the event is the body; binary: what it is of stands in headers (CloudEvents 1.0, HTTP binding)"`
	Secret      string `json:"secret" help:"by which each message is signed (HMAC-SHA256); none when empty"`
	Public      bool   `json:"public_only" help:"never to a private, loopback or link-local address"`
	Authorities string `json:"authorities" help:"certificates in PEM of those that vouch for the receiver; those that this machine trusts when empty"`
}

const limit = 20 * time.Second

// OnlyPublic forbids private, loopback and link-local addresses, whatever was said.
func (s *Settings) OnlyPublic() { s.Public = true }

// Check says what cannot be.
func (s *Settings) Check() error {
	u, err := url.Parse(s.URL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return &kind.Wrong{Field: "url", Says: fmt.Sprintf("%q is no address such as https://hooks.northquay.example/network", kind.Shorten(s.URL))}
	}
	if _, err := channel.TLS(u.Hostname(), s.Authorities); err != nil {
		return err
	}
	if u.User != nil {
		return &kind.Wrong{Field: "url", Says: "it holds a name and a password; sign with a secret instead"}
	}
	if s.Public {
		if a, err := netip.ParseAddr(u.Hostname()); err == nil && !public(a) {
			return &kind.Wrong{Field: "url", Says: fmt.Sprintf("%s is not public, and public_only is set", a)}
		}
	}
	return nil
}

func public(a netip.Addr) bool {
	a = a.Unmap()
	return !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() && !a.IsUnspecified() && !a.IsMulticast()
}

// Type is what the register knows.
var Type = channel.Register(&channel.Type{Name: "webhook", Summary: "CloudEvents by HTTP",
	New:  func() channel.Settings { return &Settings{Mode: "structured"} },
	Open: func(s channel.Settings) (channel.Channel, error) { return open(s.(*Settings)), nil }})

type hook struct {
	*Settings
	client *http.Client
}

func open(s *Settings) *hook {
	d := &net.Dialer{Timeout: limit}
	if s.Public { // of a name it is known only now
		d.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err == nil && !public(at.Addr()) {
				return fmt.Errorf("%w: %s is not public", channel.ErrRefused, at.Addr())
			}
			return err
		}
	}
	c, _ := channel.TLS("", s.Authorities) // was checked
	t := &http.Transport{TLSClientConfig: c, ForceAttemptHTTP2: true, DialContext: d.DialContext, TLSHandshakeTimeout: limit, ResponseHeaderTimeout: limit, MaxIdleConns: 2, IdleConnTimeout: time.Minute}
	return &hook{s, &http.Client{Transport: t, Timeout: 2 * limit, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// event is a message as CloudEvents say it.
func event(m channel.Message) (cloudevents.Event, error) {
	e := cloudevents.NewEvent()
	e.SetID(m.ID.String())
	e.SetType("example.woodlark." + m.What)
	e.SetSource("/woodlark")
	e.SetSubject(m.Subject)
	e.SetTime(m.At.UTC())
	e.SetExtension("sequence", strconv.Itoa(m.Order))
	body := m.Body
	if len(body) == 0 {
		body = json.RawMessage(`{}`)
	}
	return e, e.SetData(cloudevents.ApplicationJSON, body)
}

// Deliver posts a message.
func (h *hook) Deliver(ctx context.Context, m channel.Message) error {
	e, err := event(m)
	if err != nil {
		return fmt.Errorf("%w: %w", channel.ErrRefused, err)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, nil)
	if err != nil {
		return err
	}
	mode := binding.WithForceStructured(ctx)
	if h.Mode == "binary" {
		mode = binding.WithForceBinary(ctx)
	}
	if err := cehttp.WriteRequest(mode, binding.ToMessage(&e), r); err != nil {
		return fmt.Errorf("%w: %w", channel.ErrRefused, err)
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return err
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	r.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	h.sign(r, m.ID.String(), time.Now(), body)
	answer, err := h.client.Do(r)
	if err != nil {
		return fmt.Errorf("%s: %w", r.URL.Host, err)
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 300))
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<20))
	switch {
	case answer.StatusCode < 300:
		return nil
	case answer.StatusCode == http.StatusRequestTimeout, answer.StatusCode == http.StatusTooManyRequests, answer.StatusCode >= 500:
		return fmt.Errorf("%s answers %s: %s", r.URL.Host, answer.Status, strings.TrimSpace(string(said)))
	}
	return fmt.Errorf("%w: %s answers %s: %s", channel.ErrRefused, r.URL.Host, answer.Status, strings.TrimSpace(string(said)))
}

// sign names the message and the time, and signs both with the body, so that the receiver knows
// who sent it, and that it is no old one.
func (h *hook) sign(r *http.Request, id string, at time.Time, body []byte) {
	stamp := strconv.FormatInt(at.Unix(), 10)
	r.Header.Set("webhook-id", id)
	r.Header.Set("webhook-timestamp", stamp)
	if h.Secret == "" {
		return
	}
	mac := hmac.New(sha256.New, []byte(h.Secret))
	fmt.Fprintf(mac, "%s.%s.%s", id, stamp, body)
	r.Header.Set("webhook-signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
}

// Close lets go of connections.
func (h *hook) Close() error {
	h.client.CloseIdleConnections()
	return nil
}
