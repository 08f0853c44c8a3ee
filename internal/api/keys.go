package api

import (
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// knownKeysOnly refuses keys of a query that the call does not know, rather than to leave
// them out of account.
func knownKeysOnly(ctx huma.Context, next func(huma.Context)) {
	u := ctx.URL()
	for key := range u.Query() {
		var names []string
		for _, p := range ctx.Operation().Parameters {
			if p.In == "query" {
				names = append(names, p.Name)
			}
		}
		if slices.Contains(names, key) {
			continue
		}
		says := "it takes none"
		if len(names) > 0 {
			says = "it takes " + strings.Join(names, ", ")
		}
		writeProblem(ctx, 422, "This call knows no query key "+cut(key)+"; "+says+".")
		return
	}
	next(ctx)
}
