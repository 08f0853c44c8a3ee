// Package api is the HTTP interface: everything that the command line and the
// console need, under /api/v1, with an OpenAPI document that is made from the
// code that answers.
//
//	h := api.New(api.Options{Service: c, Token: token, Console: files})
//	err := http.Serve(listener, h)
package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"woodlark.example/internal/kind"
	"woodlark.example/internal/metrics"
	"woodlark.example/internal/oidc"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/signed"
	"woodlark.example/internal/store"
	"woodlark.example/internal/thirdparty"
)

// Options of the interface.
type Options struct {
	Service *service.Service
	Token   string // the administrator's
	Version string
	Console fs.FS // the built console; none when nil
	// Names are those by which browsers reach the console, beside addresses, localhost and
	// this machine's name.
	Names []string
	Log   *slog.Logger
	// Metrics are its figures; ones of its own when nil.
	Metrics *metrics.Registry
	// Elsewhere is where people may sign in instead; nil when nowhere.
	Elsewhere *oidc.Provider
	// Pin is what agents trust this service by, when it shows a certificate of its own making; it may be
	// nil.
	Pin func() string
	// Peers is what other services on the database show that hand their callers on; empty where there
	// are none.
	Peers []byte
	// Backup writes all that the service knows; nil where there is none to be had.
	Backup func(ctx context.Context, to io.Writer) error
}

type server struct {
	nonces signed.Nonces // of agents' calls
	Options
	c         *service.Service
	calls     []call      // what there are, by their identifiers
	backing   atomic.Bool // a backup is being made
	wrong     throttle    // keys that were wrong, by address
	waiting   doors       // who has shown no key
	guessing  throttle    // links and passphrases of guests that were wrong, by address
	visitors  visitors
	unpacking chan struct{}
}

// New makes the handler of the whole service.
func New(o Options) http.Handler {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &server{Options: o, c: o.Service, unpacking: make(chan struct{}, atOnceUnpacked), visitors: newVisitors()}
	s.c.People.Machine(o.Token)
	r := chi.NewRouter()
	if s.Metrics == nil {
		s.Metrics = metrics.New(metrics.Options{Service: o.Service, Version: o.Version})
	}
	r.Use(s.handedOn, s.Metrics.Time, middleware.Recoverer, secureHeaders, s.strangers)
	r.Get("/healthz", s.healthz)
	r.Get("/readyz", s.readyz)
	r.Get("/notices.txt", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = io.WriteString(w, thirdparty.Notices)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.authenticate)
		r.Handle("/metrics", forAll(s.Metrics.Handler()))
	})
	r.Group(func(r chi.Router) {
		r.Use(middleware.RequestSize(1<<20), s.authenticate, compressed, tagged)
		s.register(humachi.New(r, config(o.Version)))
	})
	r.Get(elsewhere, s.beginElsewhere)
	r.Get(elsewhereBack, s.endElsewhere)
	r.Get(guestPlace+"{secret}", s.guestPage)
	r.Head(guestPlace+"{secret}", s.guestPage)
	r.Post(guestPlace+"{secret}", s.guestPage)
	r.Route(guestPlace+"{secret}/visit", s.visitCalls)
	r.Route("/api/v1/agent", s.agentCalls)
	r.HandleFunc("/api/*", func(w http.ResponseWriter, r *http.Request) {
		refuse(w, r, http.StatusNotFound, "There is no call "+r.Method+" "+cut(r.URL.Path)+"; /api/v1/openapi.json lists all.")
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		refuse(w, r, http.StatusMethodNotAllowed, "There is no "+r.Method+" of "+cut(r.URL.Path)+"; /api/v1/openapi.json lists all calls.")
	})
	r.NotFound(compressed(http.HandlerFunc(s.console)).ServeHTTP)
	return r
}

// Document is the OpenAPI 3.1 document, as the service serves it.
func Document(version string) ([]byte, error) {
	api := humachi.New(chi.NewRouter(), config(version))
	(&server{}).register(api)
	return api.OpenAPI().MarshalJSON()
}

func config(version string) huma.Config {
	c := huma.DefaultConfig("Woodlark", version)
	c.Info.Description = "Reachability, latency, jitter, loss and throughput between hosts, their baselines, and the paths that got worse.\n\n" +
		"Times are UTC (RFC 3339); a key ends with its unit. What is not known is left out, or null where it has a place of its own, and never 0. " +
		"Errors are problem documents (RFC 9457). Lists come newest first, in pages; the header Link names the next one (RFC 8288). " +
		"What is polled has an ETag: send it as If-None-Match, and 304 says that nothing changed. Lists and series also come as text/csv."
	c.Info.License = nil
	c.Servers = []*huma.Server{{URL: "/", Description: "The service that this document comes from"}}
	c.Tags = []*huma.Tag{
		{Name: "Paths", Description: "Directed pairs of an agent and a target, and what was read of them"},
		{Name: "Watches", Description: "Standing measurements"},
		{Name: "Notifications", Description: "Who is told of what, and by which way"},
		{Name: "Objectives", Description: "Limits for a purpose, and how well paths kept within them"},
		{Name: "Runs", Description: "Pings, on demand or of a periodic watch"},
		{Name: "Sweeps", Description: "Who answers in a prefix"},
		{Name: "Routes", Description: "Traces, hop by hop, and the routes that they found"},
		{Name: "Two ends", Description: "Streams and throughput between two ends"},
		{Name: "Walks", Description: "From this host's link to the target, step by step"},
		{Name: "Baselines", Description: "What is normal for a path"},
		{Name: "Agents", Description: "Who measures, and how they stand"},
		{Name: "Reports", Description: "What got worse, what is to know, and who changed what"},
		{Name: "Boards", Description: "Pages of one's own, made of parts"},
		{Name: "Plans", Description: "Measurements that are kept under names, and what they would take"},
		{Name: "Sites", Description: "Where sites are, what stands at them, and who has which prefixes"},
		{Name: "Guests", Description: "Links by which somebody outside sees one thing"},
		{Name: "Events", Description: "What happens, as it happens"},
		{Name: "Session", Description: "Coming in to the console"},
		{Name: "People", Description: "Who may come in, as what, and by which way"},
		{Name: "Care", Description: "Keeping what the service knows"},
		{Name: "For agents", Description: "What an agent on another machine calls, with a key of its own"},
	}
	c.OpenAPIPath = "/api/v1/openapi"
	c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", nil
	c.Formats = map[string]huma.Format{"application/json": huma.DefaultJSONFormat, "json": huma.DefaultJSONFormat, "text/csv": {Marshal: marshalCSV, Unmarshal: noCSV}}
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer", Description: "A person's token, or the one in the service's state folder, which is an administrator's"},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName, Description: "Set by signing in"},
		"agent":  {Type: "http", Scheme: "bearer", Description: "The key that an agent got when it joined"},
	}
	c.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	return c
}

func (s *server) register(a huma.API) {
	a.UseMiddleware(s.inPart)
	s.registerSession(a)
	s.registerPeople(a)
	s.registerPasskeys(a)
	s.registerPaths(a)
	s.registerRows(a)
	s.registerWatches(a)
	s.registerRuns(a)
	s.registerMaintenance(a)
	s.registerObjectives(a)
	s.registerEvidence(a)
	s.registerPeriod(a)
	s.registerAnnotations(a)
	s.registerComparisons(a)
	s.registerLikenesses(a)
	s.registerDossiers(a)
	s.registerGuests(a)
	s.registerVisits(a)
	s.registerBoards(a)
	s.registerPlans(a)
	s.registerSites(a)
	s.registerOwners(a)
	s.registerTransfer(a)
	s.registerBackup(a)
	s.registerConversations(a)
	s.registerNotify(a)
	s.registerSweeps(a)
	s.registerTraces(a)
	s.registerWalks(a)
	s.registerFleet(a)
	s.registerTwoEnded(a)
	s.registerReports(a)
	s.registerChanges(a)
	s.registerBaselines(a)
	s.registerStoredBaselines(a)
	s.registerEvents(a)
	describeAgentCalls(a.OpenAPI())
	describeLists(a.OpenAPI())
	s.noteCalls(a.OpenAPI())
}

// operation describes one call.
func operation(method, path, id, summary, tag string, errs ...int) huma.Operation {
	o := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, Tags: []string{tag}, Middlewares: huma.Middlewares{inRole, knownKeysOnly},
		Metadata: map[string]any{roleKey: roleFor(method, id)}, Extensions: map[string]any{roleExtension: string(roleFor(method, id))},
		Errors: append(errs, http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusTooManyRequests, http.StatusServiceUnavailable)}
	o.Extensions[partExtension] = isForParts(&o)
	return o
}

// problem turns an error into a problem document (RFC 9457). What is nobody's business but
// the operator's goes to the log.
func (s *server) problem(err error) error {
	var told huma.StatusError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &told):
		return told
	case errors.Is(err, kind.ErrInvalid), errors.Is(err, store.ErrUnfit):
		return huma.Error422UnprocessableEntity(err.Error())
	case errors.Is(err, store.ErrInvite):
		return huma.Error403Forbidden(err.Error())
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, store.ErrTaken), errors.Is(err, store.ErrChanged), errors.Is(err, runs.ErrOver):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrAway), errors.Is(err, context.DeadlineExceeded):
		return huma.Error503ServiceUnavailable("The database takes nothing now. Measuring goes on and readings are held back; try again in a moment. (" + err.Error() + ")")
	case errors.Is(err, store.ErrHeld):
		return huma.Error503ServiceUnavailable("Another service works on the database; this one stops.")
	case errors.Is(err, remote.ErrAway):
		return huma.Error503ServiceUnavailable(err.Error())
	}
	s.Log.Error("a call failed", "error", err, "cause", store.Cause(err))
	return huma.Error500InternalServerError("Something went wrong in the service; its log says what.")
}

func (s *server) healthz(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) }

// readyz says whether the service takes and gives all: in words for anybody.
func (s *server) readyz(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 3*time.Second)
	defer cancel()
	since, why := s.c.Notices.Away()
	if err := s.c.Store.Ping(ctx); err != nil && since.IsZero() {
		since, why = time.Now(), "it does not answer"
	}
	if !since.IsZero() {
		http.Error(w, fmt.Sprintf("not ready: the database takes nothing since %s: %s", since.UTC().Format(time.RFC3339), why), http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if secure(r) {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("Content-Security-Policy", "default-src 'self'; style-src-attr 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		next.ServeHTTP(w, r)
	})
}

func utc(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}
