package serve

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"time"

	"woodlark.example/internal/api"
	"woodlark.example/internal/keys"
	"woodlark.example/internal/store"
)

// handsOn is a handler that hands callers on to the service that works on the database.
func handsOn(to store.Holding, log *slog.Logger) (http.Handler, error) {
	at, err := url.Parse(to.Address)
	if err != nil || at.Host == "" {
		return nil, fmt.Errorf("the service that works on the database says that it is reached at %q, which is no address: %s", to.Address, to.Says)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy = nil
	transport.DialContext = (&net.Dialer{Timeout: 3 * time.Second}).DialContext
	transport.MaxIdleConnsPerHost = 64
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if to.Pin != "" {
		transport.TLSClientConfig = keys.Pinned(to.Pin)
	}
	secret := base64.RawURLEncoding.EncodeToString(to.Secret)
	return &httputil.ReverseProxy{
		Transport: transport, FlushInterval: -1, // streams of events, and what agents are told
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(at)
			r.Out.Host = r.In.Host // browsers' pages are known by it
			caller, _, err := net.SplitHostPort(r.In.RemoteAddr)
			if err != nil {
				caller = r.In.RemoteAddr
			}
			r.Out.Header.Set(api.HandedOn, secret)
			r.Out.Header.Set(api.HandedOnFrom, caller)
			r.Out.Header.Del(api.HandedOnBy)
			if proto := r.In.Header.Get("X-Forwarded-Proto"); r.In.TLS != nil {
				r.Out.Header.Set(api.HandedOnBy, "https")
			} else if proto != "" {
				r.Out.Header.Set(api.HandedOnBy, proto)
			}
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if r.Context().Err() == nil {
				log.Debug("a caller could not be handed on", "to", to.Address, "error", err)
			}
			api.NotNow(w, r, "The service that works on the database does not answer, at "+to.Address+"; if it stays away another takes over within seconds.")
		},
	}, nil
}

// while is a handler whose calls end with a context.
func while(ctx context.Context, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		call, cancel := context.WithCancel(r.Context())
		defer cancel()
		defer context.AfterFunc(ctx, cancel)()
		h.ServeHTTP(w, r.WithContext(call))
	})
}
