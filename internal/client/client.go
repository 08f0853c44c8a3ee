// Package client speaks to a Woodlark service over HTTP.
//
//	c := client.New("http://127.0.0.1:7373", token)
//	var paths api.PathList
//	err := c.Get(ctx, "/paths", url.Values{"state": {"degraded"}}, &paths)
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"woodlark.example/internal/keys"
)

// ErrUnreached is wrapped when the service does not answer.
var ErrUnreached = errors.New("the service was not reached")

// Problem is an error document of the service (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += fmt.Sprintf("; %s: %s", strings.TrimPrefix(e.Location, "body."), e.Message)
	}
	return text
}

// Client calls one service.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New returns a client of the service at an address such as
// http://127.0.0.1:7373.
func New(base, token string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{Timeout: 60 * time.Second}}
}

// Trust has the client trust a service that shows the certificate in a file, whatever its name is,
// and no other: that of a service on the same machine, which is called by its address.
func (c *Client) Trust(file string) {
	own := http.DefaultTransport.(*http.Transport).Clone()
	own.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error {
		data, err := os.ReadFile(file) // it may have been renewed
		if err != nil {
			return fmt.Errorf("read the certificate that the service has to show: %w", err)
		}
		block, _ := pem.Decode(data)
		if block == nil || len(s.PeerCertificates) == 0 || !bytes.Equal(block.Bytes, s.PeerCertificates[0].Raw) {
			return fmt.Errorf("the service does not show the certificate in %s", file)
		}
		return nil
	}}
	c.http = &http.Client{Timeout: c.http.Timeout, Transport: own}
}

// Pin has the client trust the one key that a service shows, whatever its name is and whoever vouches
// for it; see keys.Pin.
func (c *Client) Pin(pin string) {
	own := http.DefaultTransport.(*http.Transport).Clone()
	own.TLSClientConfig = keys.Pinned(pin)
	c.http = &http.Client{Timeout: c.http.Timeout, Transport: own}
}

// Base is the service's address.
func (c *Client) Base() string { return c.base }

// Get reads what is at a path under /api/v1 into out.
func (c *Client) Get(ctx context.Context, path string, query url.Values, out any) error {
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return c.Do(ctx, http.MethodGet, path, nil, out)
}

// Do makes a call; in and out may be nil. Its error is a *Problem when the
// service refused, and wraps ErrUnreached when it did not answer.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var data []byte
	if in != nil {
		var err error
		if data, err = json.Marshal(in); err != nil {
			return err
		}
	}
	began := time.Now()
	for {
		starting, err := c.once(ctx, method, path, data, out)
		if !starting || time.Since(began) > startWait {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// startWait is how long a service that is starting is waited for.
const startWait = 20 * time.Second

// once makes a call; starting is that the service will answer it in a moment.
func (c *Client) once(ctx context.Context, method, path string, data []byte, out any) (starting bool, err error) {
	var body io.Reader
	if data != nil {
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return false, fmt.Errorf("the service's address %q is not valid: %w", c.base, err)
	}
	r.Header.Set("Authorization", "Bearer "+c.token)
	if data != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return false, fmt.Errorf("%w at %s: is it running? Start it with 'woodlark serve' or 'woodlark demo', or name it with -service. (%w)", ErrUnreached, c.base, errors.Unwrap(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 400 {
		p := &Problem{Status: answer.StatusCode, Title: answer.Status}
		_ = json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(p)
		return answer.StatusCode == http.StatusServiceUnavailable && answer.Header.Get("Retry-After") == "1", p
	}
	if out == nil || answer.StatusCode == http.StatusNoContent {
		return false, nil
	}
	if w, is := out.(io.Writer); is {
		if _, err := io.Copy(w, answer.Body); err != nil {
			return false, fmt.Errorf("read the answer of %s: %w", path, err)
		}
		return false, nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return false, fmt.Errorf("read the answer of %s: %w", path, err)
	}
	return false, nil
}

// fetchWait is how long a file may take to be made.
const fetchWait = 10 * time.Minute

// Fetch writes what is at a path under /api/v1 as it comes.
func (c *Client) Fetch(ctx context.Context, path string, query url.Values, w io.Writer) error {
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	patient := *c
	patient.http = &http.Client{Timeout: fetchWait, Transport: c.http.Transport}
	return patient.Do(ctx, http.MethodGet, path, nil, w)
}

// FetchLong is Fetch of what may take any time: only the context bounds it.
func (c *Client) FetchLong(ctx context.Context, path string, query url.Values, w io.Writer) error {
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	patient := *c
	patient.http = &http.Client{Transport: c.http.Transport}
	return patient.Do(ctx, http.MethodGet, path, nil, w)
}

// Segment makes a name safe as a part of a path.
func Segment(name string) string { return url.PathEscape(name) }
