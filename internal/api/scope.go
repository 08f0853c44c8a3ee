package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/service/sight"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// forParts are the calls that somebody may make who is let in for a part: what they tell is
// narrowed to it, or is nobody's in particular. Whatever is not among them is refused, so that a call
// that is forgotten here shows nothing.
var forParts = []string{
	"get-session", "sign-out", "list-sessions", "end-session", "change-passphrase",
	"list-tokens", "add-token", "end-token", "list-passkeys", "begin-passkey", "add-passkey", "end-passkey",
	"list-kinds", "estimate", "get-status", "listen",
	"list-paths", "list-path-rows", "list-path-choices", "list-path-sketches", "list-baselines", "report-degraded", "report-degraded-at-its-old-place", "list-incidents",
	"compare", "export-readings", "list-agents", "get-standing", "list-sites",
	"list-runs", "start-runs", "list-traces", "list-sweeps", "list-two-ended", "list-annotations", "list-objectives", "get-objective", "list-watches", "add-watch", "apply-watches",
}

// inParts are places below which the call is of one thing, which is to be in the part. All calls
// there are for parts.
var inParts = []struct {
	place, param string
	check        func(*server, context.Context, *sight.Sight, huma.Operation, string) error
}{
	{"/api/v1/paths/{id}", "id", (*server).pathInPart},
	{"/api/v1/runs/{id}", "id", (*server).runInPart},
	{"/api/v1/traces/{id}", "id", (*server).runInPart},
	{"/api/v1/sweeps/{id}", "id", (*server).runInPart},
	{"/api/v1/two-ended/{id}", "id", (*server).runInPart},
	{"/api/v1/watches/{watch}", "watch", (*server).watchInPart},
	{"/api/v1/agents/{name}/standing", "name", (*server).agentInPart},
}

const partExtension = "x-for-parts"

// isForParts reports whether somebody may make a call who is let in for a part.
func isForParts(o *huma.Operation) bool {
	for _, x := range inParts {
		if strings.HasPrefix(o.Path, x.place) {
			return true
		}
	}
	return slices.Contains(forParts, o.OperationID)
}

// sight is what who calls sees.
func (s *server) sight(ctx context.Context) *sight.Sight {
	return sight.New(people.Of(ctx), s.c.Paths, s.c.Fleet)
}

// inPart lets through who may make a call for what it is of. It comes before all others.
func (s *server) inPart(ctx huma.Context, next func(huma.Context)) {
	w, o := people.Of(ctx.Context()), ctx.Operation()
	if !w.Scoped() {
		next(ctx)
		return
	}
	if !isForParts(o) {
		writeProblem(ctx, http.StatusForbidden, notInPart(w))
		return
	}
	for _, x := range inParts {
		if !strings.HasPrefix(o.Path, x.place) {
			continue
		}
		if err := x.check(s, ctx.Context(), s.sight(ctx.Context()), *o, ctx.Param(x.param)); err != nil {
			told, status := s.problem(err), http.StatusInternalServerError
			var p huma.StatusError
			if errors.As(told, &p) {
				status = p.GetStatus()
			}
			writeProblem(ctx, status, told.Error())
			return
		}
	}
	next(ctx)
}

// notInPart says why a call is refused to somebody who is let in for a part.
func notInPart(w people.Who) string {
	return "This call is about everything, and " + w.Name + " is let in for " + w.Scope() + " only. Ask an administrator."
}

func (s *server) pathInPart(_ context.Context, see *sight.Sight, _ huma.Operation, text string) error {
	id, err := parseID(text)
	if err == nil && !see.PathID(id) {
		err = fmt.Errorf("path %s: %w", id, store.ErrNotFound) // as of one that there is none of
	}
	return err
}

func (s *server) runInPart(ctx context.Context, see *sight.Sight, o huma.Operation, text string) error {
	id, err := parseID(text)
	if err != nil {
		return err
	}
	r, err := s.c.Store.Run(ctx, id)
	switch {
	case err != nil:
		return err
	case !see.Run(r):
		return fmt.Errorf("find run %s: %w", id, store.ErrNotFound)
	case o.Method != http.MethodGet && !see.Agent(r.AgentID):
		return errNotTheirs(people.Of(ctx), s.agentName(r.AgentID))
	}
	return nil
}

func (s *server) watchInPart(_ context.Context, see *sight.Sight, _ huma.Operation, text string) error {
	w, err := s.c.Watches.Find(text)
	if err == nil && !s.seesWatch(see, &w) {
		err = fmt.Errorf("watch %q: %w", cut(text), store.ErrNotFound)
	}
	return err
}

func (s *server) agentInPart(_ context.Context, see *sight.Sight, _ huma.Operation, name string) error {
	if !see.Named(name) {
		return fmt.Errorf("there is no agent %s: %w", cut(name), store.ErrNotFound)
	}
	return nil
}

// agentNamed finds an agent that who calls sees.
func (s *server) agentNamed(ctx context.Context, name string) (ident.ID, error) {
	if err := s.agentInPart(ctx, s.sight(ctx), huma.Operation{}, name); err != nil {
		return ident.ID{}, err
	}
	return s.agentID(name)
}

// watchNamed finds a watch that who calls sees.
func (s *server) watchNamed(ctx context.Context, text string) (watches.Watch, error) {
	if err := s.watchInPart(ctx, s.sight(ctx), huma.Operation{}, text); err != nil {
		return watches.Watch{}, err
	}
	return s.c.Watches.Find(text)
}

// forAll lets through who is let in for everything.
func forAll(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if who := people.Of(r.Context()); who.Scoped() {
			refuse(w, r, http.StatusForbidden, notInPart(who))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// errNotTheirs is that somebody would have an agent measure that is not in their part.
func errNotTheirs(w people.Who, agent string) error {
	return huma.Error403Forbidden(fmt.Sprintf("There is no agent %s in what %s is let in for: %s.", cut(agent), w.Name, w.Scope()))
}

// seesWatch reports whether all that measure by a watch are seen.
func (s *server) seesWatch(see *sight.Sight, w *watches.Watch) bool {
	if see.All() {
		return true
	}
	list := s.c.Watches.Measurers(w.Spec)
	return len(list) > 0 && !slices.ContainsFunc(list, func(id ident.ID) bool { return !see.Agent(id) })
}

// mayWatch says whether who calls may have measured what a spec says: from agents of their part, and
// by words that mean none but those, whoever comes later.
func (s *server) mayWatch(ctx context.Context, spec watches.Spec) error {
	see, w := s.sight(ctx), people.Of(ctx)
	if see.All() {
		return nil
	}
	for _, word := range spec.Selectors() {
		if site, is := strings.CutPrefix(word, "site:"); is && w.Sees([]string{site}, nil) {
			continue
		}
		if label, is := strings.CutPrefix(word, "label:"); is && w.Sees(nil, []string{label}) {
			continue
		}
		return errNotTheirs(w, word)
	}
	for _, id := range s.c.Watches.Measurers(spec) {
		if !see.Agent(id) {
			return errNotTheirs(w, s.agentName(id))
		}
	}
	for _, name := range spec.From { // one that there is none of, too: the same is said of both
		if !strings.Contains(name, ":") && !see.Named(name) {
			return errNotTheirs(w, name)
		}
	}
	return nil
}

// mayApply is mayWatch for a watch that may be there by its name, and be somebody else's.
func (s *server) mayApply(ctx context.Context, name string, spec watches.Spec) error {
	if see := s.sight(ctx); !see.All() {
		if w, err := s.c.Watches.Find(name); err == nil && !s.seesWatch(see, &w) {
			return fmt.Errorf("watch %q: the name %w", cut(name), store.ErrTaken)
		}
	}
	return s.mayWatch(ctx, spec)
}

func (s *server) watchesSeen(see *sight.Sight) (list []watches.Watch) {
	for _, w := range s.c.Watches.All() {
		if s.seesWatch(see, &w) {
			list = append(list, w)
		}
	}
	return list
}

func (s *server) agentsSeen(see *sight.Sight) (n int) {
	for _, a := range s.c.Fleet.Agents() {
		if see.Agent(a.ID) {
			n++
		}
	}
	return n
}

// seesOther says whether another run that is named by its identifier is seen; words such as "last"
// name none.
func (s *server) seesOther(ctx context.Context, with string) error {
	see := s.sight(ctx)
	id, err := ident.Parse(with)
	if see.All() || err != nil {
		return nil
	}
	r, err := s.c.Store.Run(ctx, id)
	if err == nil && !see.Run(r) {
		err = fmt.Errorf("find run %s: %w", id, store.ErrNotFound)
	}
	return err
}

// narrowed are incidents with those of their members that are seen; those of nobody are left out.
func (s *server) narrowed(see *sight.Sight, list []incidents.Incident) []incidents.Incident {
	if see.All() {
		return list
	}
	ids := s.c.Paths.IDs()
	out := make([]incidents.Incident, 0, len(list))
	for _, x := range list {
		members := x.Members[:0:0]
		for _, m := range x.Members {
			if id, is := ids[m.Path]; is && see.PathID(id) {
				members = append(members, m)
			}
		}
		if x.Members = members; len(members) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// call is one of the interface's, and who may make it.
type call struct {
	id    string
	role  people.Role
	parts bool
}

// noteCalls keeps what calls there are.
func (s *server) noteCalls(doc *huma.OpenAPI) {
	for _, item := range doc.Paths {
		for _, o := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if o == nil {
				continue
			}
			if role, is := o.Metadata[roleKey].(people.Role); is {
				s.calls = append(s.calls, call{o.OperationID, role, isForParts(o)})
			}
		}
	}
	slices.SortFunc(s.calls, func(a, b call) int { return strings.Compare(a.id, b.id) })
}

// mayCall are the calls that somebody may make, by their identifiers in the OpenAPI document.
func (s *server) mayCall(w people.Who) []string {
	out := []string{}
	for _, c := range s.calls {
		if w.May(c.role) && (c.parts || !w.Scoped()) {
			out = append(out, c.id)
		}
	}
	return out
}
