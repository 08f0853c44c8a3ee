package cli

import (
	"flag"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
)

// onePath is a path by its ends.
type onePath struct {
	from, to, via string
	family        int
}

// pathNamed reads "northquay → holm", or "northquay to holm 6 tcp:443".
func pathNamed(text string) (one onePath, err error) {
	from, to, found := strings.Cut(text, "→")
	for _, sign := range []string{"->", " to "} {
		if !found {
			from, to, found = strings.Cut(text, sign)
		}
	}
	one.from = strings.TrimSpace(from)
	words := strings.Fields(to)
	if !found || one.from == "" || len(words) == 0 {
		return one, wrongCall("%q is no path such as 'northquay → holm'", short(text))
	}
	one.to = words[0]
	for _, w := range words[1:] {
		switch w {
		case "4", "6":
			one.family = int(w[0] - '0')
		default:
			one.via = w
		}
	}
	return one, nil
}

// withOnePath registers flags that name a path; of says what they belong to, such as "of make: ".
func (c *call) withOnePath(x *onePath, of string) {
	c.flags.StringVar(&x.from, "from", "", of+"the path from this agent")
	c.flags.StringVar(&x.to, "to", "", of+"the path to this target")
	c.flags.IntVar(&x.family, "family", 0, of+"4 or 6, where there are paths by both")
	c.flags.StringVar(&x.via, "via", "", of+"kind of probe, where there are paths by several")
}

// none reports whether no path is named.
func (x onePath) none() bool { return x == onePath{} }

// id is the identifier of the path; none when none is named.
func (x onePath) id(c *call, by *client.Client) (string, error) {
	if x.from == "" && x.to == "" {
		if !x.none() {
			return "", wrongCall("-via and -family are of a path: give -from and -to")
		}
		return "", nil
	}
	if x.from == "" || x.to == "" {
		return "", wrongCall("a path has two ends: give -from and -to")
	}
	var all api.PathList
	if err := by.Get(c.ctx, "/paths", url.Values{"agent": {x.from}, "search": {x.to}, "all": {"true"}, "limit": {"1000"}}, &all); err != nil {
		return "", err
	}
	var fits []apitype.Path
	for _, p := range all.Paths {
		if p.From == x.from && p.To == x.to && (x.family == 0 || p.Family == x.family) && (x.via == "" || p.Via == x.via) {
			fits = append(fits, p)
		}
	}
	switch len(fits) {
	case 0:
		return "", exit{exitWrongCall, fmt.Errorf("there is no path from %s to %s; 'woodlark results' lists them", short(x.from), short(x.to))}
	case 1:
		return fits[0].ID, nil
	}
	var are []string
	for _, p := range fits {
		are = append(are, fmt.Sprintf("IPv%d by %s", p.Family, p.Via))
	}
	return "", wrongCall("there are several such paths, by %s: say which with -family and -via", strings.Join(are, ", "))
}

// belong refuses options that a verb has no use for; of has those of each, but for -format and
// -service, which all take.
func (c *call) belong(verb string, of map[string]string) (err error) {
	c.flags.Visit(func(f *flag.Flag) {
		if err != nil || f.Name == "format" || f.Name == "service" || slices.Contains(strings.Fields(of[verb]), f.Name) {
			return
		}
		var verbs []string
		for _, v := range slices.Sorted(maps.Keys(of)) {
			if slices.Contains(strings.Fields(of[v]), f.Name) {
				verbs = append(verbs, v)
			}
		}
		err = wrongCall("-%s is of '%s %s', not of '%s %s'", f.Name, c.name, strings.Join(verbs, "' and '"), c.name, short(verb))
	})
	return err
}
