package client_test

import (
	"encoding/json"
	"encoding/pem"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/client"
)

func TestCalls(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		switch r.URL.Path {
		case "/api/v1/echo":
			var in map[string]any
			assert.NoError(t, json.NewDecoder(r.Body).Decode(&in))
			in["method"], in["query"] = r.Method, r.URL.RawQuery
			assert.NoError(t, json.NewEncoder(w).Encode(in))
		case "/api/v1/nothing":
			w.WriteHeader(http.StatusNoContent)
		case "/api/v1/refused":
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusUnprocessableEntity)
			_, _ = w.Write([]byte(`{"status":422,"title":"Unprocessable Entity","detail":"validation failed","errors":[{"message":"expected number","location":"body.probes"}]}`))
		case "/api/v1/garbled":
			_, _ = w.Write([]byte(`{`))
		default:
			http.Error(w, "boom", http.StatusInternalServerError)
		}
	}))
	defer service.Close()
	c := client.New(service.URL+"/", "secret")

	var out map[string]any
	require.NoError(t, c.Do(t.Context(), http.MethodPost, "/echo?a=1", map[string]int{"probes": 3}, &out))
	assert.Equal(t, map[string]any{"probes": 3.0, "method": "POST", "query": "a=1"}, out)
	require.NoError(t, c.Do(t.Context(), http.MethodDelete, "/nothing", nil, &out))

	err := c.Get(t.Context(), "/refused", url.Values{"x": {"y"}}, nil)
	var p *client.Problem
	require.True(t, errors.As(err, &p))
	assert.Equal(t, 422, p.Status)
	assert.Equal(t, "validation failed; probes: expected number", err.Error())

	require.True(t, errors.As(c.Get(t.Context(), "/broken", nil, nil), &p))
	assert.Equal(t, 500, p.Status)
	require.ErrorContains(t, c.Get(t.Context(), "/garbled", nil, &out), "read the answer of /garbled")
}

func TestAServiceThatIsNotThere(t *testing.T) {
	service := httptest.NewServer(http.NotFoundHandler())
	service.Close()
	err := client.New(service.URL, "x").Get(t.Context(), "/status", nil, nil)
	require.ErrorIs(t, err, client.ErrUnreached)
	assert.ErrorContains(t, err, "woodlark serve")
}

// TestItTrustsOneCertificate: that in a file, as it is there now, and no other.
func TestItTrustsOneCertificate(t *testing.T) {
	service := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`{}`)) }))
	defer service.Close()
	file := filepath.Join(t.TempDir(), "cert.pem")
	keep := func(der []byte) {
		require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	}
	ask := func(trust bool) error {
		c := client.New(service.URL, "x")
		if trust {
			c.Trust(file)
		}
		return c.Get(t.Context(), "/status", nil, &struct{}{})
	}
	own := service.Certificate().Raw
	keep(own)
	assert.NoError(t, ask(true))
	assert.Error(t, ask(false), "nobody has signed it")
	keep(append([]byte{0}, own...))
	assert.ErrorContains(t, ask(true), "does not show the certificate in")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.Error(t, ask(true))
	require.NoError(t, os.Remove(file))
	assert.Error(t, ask(true))
}

func TestSegment(t *testing.T) {
	assert.Equal(t, "every%20five%20minutes%2F%3F", client.Segment("every five minutes/?"))
}
