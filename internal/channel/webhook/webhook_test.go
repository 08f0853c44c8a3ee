package webhook_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/channel/channeltest"
	"woodlark.example/internal/channel/webhook"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
)

// desk takes posted events.
type desk struct {
	*httptest.Server
	mu      sync.Mutex
	status  int
	got     []ident.ID
	headers http.Header
	body    []byte
	hangs   chan struct{}
}

func newDesk(t *testing.T) *desk {
	d := &desk{status: http.StatusNoContent}
	d.Server = httptest.NewServer(d)
	t.Cleanup(func() {
		if d.hangs != nil {
			close(d.hangs)
		}
		d.Server.Close()
	})
	return d
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	hangs := d.hangs
	d.mu.Unlock()
	if hangs != nil {
		<-hangs
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.headers = r.Header.Clone()
	d.body, _ = io.ReadAll(r.Body)
	if d.status < 300 {
		id, _ := ident.Parse(r.Header.Get("webhook-id"))
		d.got = append(d.got, id)
	}
	w.WriteHeader(d.status)
	fmt.Fprint(w, "says the desk")
}

func (d *desk) Settings() string { return fmt.Sprintf(`{"url": %q, "secret": "s3cret"}`, d.URL) }
func (d *desk) Got() []ident.ID {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.got
}
func (d *desk) Die() { d.Server.Close() }
func (d *desk) Hang() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.hangs = make(chan struct{})
}

func TestWebhook(t *testing.T) {
	channeltest.Conforms(t, webhook.Type, func(t *testing.T) channeltest.Receiver { return newDesk(t) })
}

func deliver(t *testing.T, settings string, m channel.Message) error {
	s, err := webhook.Type.Decode([]byte(settings))
	require.NoError(t, err)
	c, err := webhook.Type.Open(s)
	require.NoError(t, err)
	defer c.Close()
	return c.Deliver(t.Context(), m)
}

func message() channel.Message {
	return channel.Message{ID: ident.New(), At: time.Date(2026, 11, 29, 10, 0, 0, 0, time.UTC), What: "opened", Subject: "episode-1", Order: 2, Title: "northquay → holm: lost", Body: json.RawMessage(`{"title":"northquay → holm: lost"}`)}
}

// TestItSpeaksCloudEvents: both modes of the HTTP binding, with the fields of version 1.0.
func TestItSpeaksCloudEvents(t *testing.T) {
	d := newDesk(t)
	m := message()
	require.NoError(t, deliver(t, d.Settings(), m))
	assert.Contains(t, d.headers.Get("Content-Type"), "application/cloudevents+json")
	var e map[string]any
	require.NoError(t, json.Unmarshal(d.body, &e))
	for key, want := range map[string]any{"specversion": "1.0", "id": m.ID.String(), "type": "example.woodlark.opened", "source": "/woodlark", "subject": "episode-1", "time": "2026-11-29T10:00:00Z", "datacontenttype": "application/json", "sequence": "2"} {
		assert.Equal(t, want, e[key], key)
	}
	assert.Equal(t, map[string]any{"title": "northquay → holm: lost"}, e["data"])
	mac := hmac.New(sha256.New, []byte("s3cret"))
	fmt.Fprintf(mac, "%s.%s.%s", m.ID, d.headers.Get("webhook-timestamp"), d.body)
	assert.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)), d.headers.Get("webhook-signature"))

	require.NoError(t, deliver(t, fmt.Sprintf(`{"url": %q, "mode": "binary"}`, d.URL), m))
	assert.Equal(t, m.ID.String(), d.headers.Get("ce-id"))
	assert.Equal(t, "1.0", d.headers.Get("ce-specversion"))
	assert.Equal(t, "application/json", d.headers.Get("Content-Type"))
	assert.JSONEq(t, `{"title":"northquay → holm: lost"}`, string(d.body))
	assert.Empty(t, d.headers.Get("webhook-signature"), "without a secret nothing is signed")
}

func TestWhatAReceiverSays(t *testing.T) {
	d := newDesk(t)
	for status, refused := range map[int]bool{500: false, 503: false, 429: false, 408: false, 400: true, 404: true, 302: true} {
		d.status = status
		err := deliver(t, d.Settings(), message())
		require.Error(t, err, status)
		assert.Equal(t, refused, errors.Is(err, channel.ErrRefused), status)
		assert.ErrorContains(t, err, fmt.Sprint(status))
		assert.ErrorContains(t, err, "says the desk")
	}
}

func TestOverTLS(t *testing.T) {
	d := &desk{status: http.StatusOK}
	s := httptest.NewTLSServer(d)
	defer s.Close()
	pemText := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}))
	settings, err := json.Marshal(map[string]string{"url": s.URL, "authorities": pemText})
	require.NoError(t, err)
	require.NoError(t, deliver(t, string(settings), message()))
	assert.ErrorContains(t, deliver(t, fmt.Sprintf(`{"url": %q}`, s.URL), message()), "certificate")
}

func TestWhereItMayNotGo(t *testing.T) {
	d := newDesk(t)
	for settings, says := range map[string]string{
		`{}`:                 "url",
		`{"url": "ftp://x"}`: "https://",
		`{"url": "http://192.0.2.1", "mode": "loud"}`:                              "mode",
		`{"url": "http://a:b@hooks.example/"}`:                                     "secret",
		`{"url": "http://127.0.0.1/", "public_only": true}`:                        "not public",
		`{"url": "http://[fd00::1]/", "public_only": true}`:                        "not public",
		`{"url": "http://192.0.2.1", "fly": 1}`:                                    "fly",
		`{"url": "https://hooks.example", "authorities": "no certificate at all"}`: "PEM",
	} {
		_, err := webhook.Type.Decode([]byte(settings))
		assert.ErrorIs(t, err, kind.ErrInvalid, settings)
		assert.ErrorContains(t, err, says, settings)
	}
	// A name that leads to a private address is refused as it is resolved.
	err := deliver(t, fmt.Sprintf(`{"url": "http://localhost:%s/", "public_only": true}`, d.URL[len("http://127.0.0.1:"):]), message())
	require.Error(t, err)
	assert.ErrorContains(t, err, "not public")
	assert.Empty(t, d.Got())
}
