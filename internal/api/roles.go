package api

import (
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/service/people"
)

// forAdministrators are the calls that only an administrator may make: about who may come in and
// what measures, the ways by which people are told, which hold secrets of others, the record of
// who did what, and what comes from elsewhere.
var forAdministrators = []string{
	"list-people", "add-person", "change-person", "welcome-person",
	"invite-agent", "remove-agent",
	"add-channel", "remove-channel", "test-channel",
	"list-changes", "import-readings", "import-baseline", "make-backup",
}

// forViewers are the calls that change nothing for others, though they are no GET.
var forViewers = []string{"show-board-parts", "estimate", "sign-out", "change-passphrase", "add-token", "end-token", "end-session", "begin-passkey", "add-passkey", "end-passkey"}

// notForViewers are calls that only read, and read what is not for everybody: who came from where.
var notForViewers = []string{"list-guest-openings"}

// roleFor is what a call needs.
func roleFor(method, id string) people.Role {
	switch {
	case slices.Contains(forAdministrators, id):
		return people.Administrator
	case slices.Contains(forViewers, id):
		return people.Viewer
	case slices.Contains(notForViewers, id):
		return people.Engineer
	case method == http.MethodGet:
		return people.Viewer
	}
	return people.Engineer
}

// roleKey is where an operation's metadata say what it needs.
const (
	roleKey       = "role"
	roleExtension = "x-least-role"
)

// inRole lets through who may make a call.
func inRole(ctx huma.Context, next func(huma.Context)) {
	needs, open := ctx.Operation().Metadata[roleKey].(people.Role)
	if open && !people.Of(ctx.Context()).May(needs) {
		w := people.Of(ctx.Context())
		writeProblem(ctx, http.StatusForbidden, "This call is for "+roleWords[needs]+", and "+w.Name+" is "+roleWords[w.Role]+" here. Ask an administrator.")
		return
	}
	next(ctx)
}

// roleWords are the roles within a sentence.
var roleWords = map[people.Role]string{people.Viewer: "a viewer", people.Engineer: "an engineer", people.Administrator: "an administrator"}
