package cli

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"woodlark.example/core/geo"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
)

var sitesCommand = command{
	name: "sites", summary: "where sites are and what stands at them: list, set, import, remove",
	usage:   "[list]\nset NAME [-at LAT,LON] [-targets NAME,…] [-note TEXT]\nimport FILE\nremove NAME",
	example: "woodlark sites set Holm -at 60.154,-1.145 -targets terminal.holm.example,203.0.113.24/29\nwoodlark sites import sites.csv\nwoodlark sites -format csv",
	more: "Latitude and longitude are decimal degrees, north and east positive. Agents say their site\nthemselves; -targets are names, addresses and prefixes of what else stands there. 'set' changes\nwhat is given and keeps the rest. A FILE is CSV with the headings name, latitude, longitude,\n" +
		"targets (blanks between) and note, as -format csv writes it; - is standard input.",
	run: runSites,
}

func runSites(c *call) error {
	var at, targets, note string
	c.withFormat()
	c.withService()
	c.flags.StringVar(&at, "at", "", "of set: latitude and longitude in degrees, such as 60.154,-1.145; - for not known")
	c.flags.StringVar(&targets, "targets", "", "of set: names, addresses and prefixes of what stands there, with commas between")
	c.flags.StringVar(&note, "note", "", "of set: a note")
	if err := c.parse(); err != nil {
		return err
	}
	verb, err := c.verbOf(map[string]int{"list": 0, "set": 1, "import": 1, "remove": 1})
	if err != nil {
		return err
	}
	if err := c.belong(verb, map[string]string{"set": "at targets note"}); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	all := []apitype.Site{}
	switch verb {
	case "remove":
		return api.Do(c.ctx, http.MethodDelete, "/sites/"+client.Segment(c.args[1]), nil, nil)
	case "import":
		text, err := c.fileOf(c.args[1])
		if err != nil {
			return err
		}
		if err := api.Do(c.ctx, http.MethodPost, "/sites/import", apitype.PlacesFile{CSV: text}, &all); err != nil {
			return err
		}
		return c.write(all, sitesRead(all))
	}
	if err := api.Get(c.ctx, "/sites", nil, &all); err != nil {
		return err
	}
	if verb == "list" {
		return c.write(all, sitesRead(all).OrSay(len(all), "No site is known. 'woodlark sites set NAME -at LAT,LON' makes one."))
	}
	spec := apitype.SiteSpec{Name: c.args[1]}
	if i := slices.IndexFunc(all, func(s apitype.Site) bool { return s.Name == spec.Name }); i >= 0 {
		spec = all[i].SiteSpec
	}
	if c.isSet("at") {
		spec.Lat, spec.Lon = nil, nil
		if at != "-" {
			p, err := geo.ParsePlace(at)
			if err != nil {
				return wrongCall("-at: %v", err)
			}
			spec.Lat, spec.Lon = &p.Lat, &p.Lon
		}
	}
	if c.isSet("targets") {
		spec.Targets = list(targets)
	}
	if c.isSet("note") {
		spec.Note = note
	}
	if err := api.Do(c.ctx, http.MethodPut, "/sites", apitype.SitesSaid{Sites: []apitype.SiteSpec{spec}}, &all); err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(s apitype.Site) bool { return s.Name != strings.TrimSpace(spec.Name) })
	return c.write(all, sitesRead(all))
}

// verbOf is the verb of a call, list when none is given, with as many words behind it as it needs.
func (c *call) verbOf(needs map[string]int) (string, error) {
	verb := "list"
	if len(c.args) > 0 {
		verb = c.args[0]
	}
	n, known := needs[verb]
	switch rest := max(0, len(c.args)-1); {
	case !known:
		verbs := make([]string, 0, len(needs))
		for v := range needs {
			verbs = append(verbs, v)
		}
		slices.Sort(verbs)
		return "", wrongCall("%q is none of %s", short(verb), strings.Join(verbs, ", "))
	case rest > n:
		return "", wrongCall("%s %s has no use for %q; put names with spaces in quotes", c.name, verb, short(c.args[n+1]))
	case rest < n:
		return "", wrongCall("%s %s needs more: see 'woodlark help %s'", c.name, verb, c.name)
	}
	return verb, nil
}

// fileOf is what a file holds, or standard input when it is called -.
func (c *call) fileOf(name string) (string, error) {
	if name == "-" {
		text, err := io.ReadAll(io.LimitReader(c.in, mostFile+1))
		return string(text), err
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return "", wrongCall("%v", err)
	}
	if len(text) > mostFile {
		return "", wrongCall("%s has %d bytes; %d at most are taken at once", name, len(text), mostFile)
	}
	return string(text), nil
}

// mostFile is how much of a file a call takes.
const mostFile = 900_000

func sitesRead(list []apitype.Site) document.Document {
	var rows, records [][]string
	for _, s := range list {
		lat, lon, place := "", "", document.Faint("not known where")
		if s.Lat != nil && s.Lon != nil {
			lat, lon = strconv.FormatFloat(*s.Lat, 'f', -1, 64), strconv.FormatFloat(*s.Lon, 'f', -1, 64)
			place = lat + "," + lon
		}
		rows = append(rows, []string{s.Name, place, strconv.Itoa(s.Agents), strconv.Itoa(s.Paths), strings.Join(s.Targets, " "), s.Note})
		records = append(records, []string{s.Name, lat, lon, strings.Join(s.Targets, " "), s.Note, strconv.Itoa(s.Agents), strconv.Itoa(s.Paths)})
	}
	t := document.Table{Columns: []document.Column{{Name: "site"}, {Name: "where"}, {Name: "agents", Right: true}, {Name: "paths to it", Right: true}, {Name: "targets"}, {Name: "note"}}, Rows: rows}
	return document.Of(t.Dense(), document.RecordsOf([]string{"site", "lat_deg", "lon_deg", "targets", "note", "agents", "paths"}, records))
}

var ownersCommand = command{
	name: "owners", summary: "who has which prefixes, and whose part of the way that is: list, set, import, remove",
	usage:   "[list]\nset PREFIX OWNER KIND\nimport FILE\nremove PREFIX",
	example: "woodlark owners set 198.51.100.0/24 Kelpnet transit\nwoodlark owners import owners.csv\nwoodlark owners -format csv",
	more:    "KIND is ours, access, transit or 'far end'. Of prefixes within each other the longer one counts.\nA FILE is CSV: prefix, owner, kind; - is standard input. Traces from then on tell it.",
	run:     runOwners,
}

func runOwners(c *call) error {
	c.withFormat()
	c.withService()
	if err := c.parse(); err != nil {
		return err
	}
	verb, err := c.verbOf(map[string]int{"list": 0, "set": 3, "import": 1, "remove": 1})
	if err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	list := []apitype.Owner{}
	switch verb {
	case "remove":
		return api.Do(c.ctx, http.MethodDelete, "/owners?"+url.Values{"prefix": {c.args[1]}}.Encode(), nil, nil)
	case "import":
		text, err := c.fileOf(c.args[1])
		if err != nil {
			return err
		}
		err = api.Do(c.ctx, http.MethodPost, "/owners/import", apitype.PlacesFile{CSV: text}, &list)
		if err != nil {
			return err
		}
	case "set":
		one := apitype.Owner{Prefix: c.args[1], Name: c.args[2], Kind: c.args[3]}
		if err := api.Do(c.ctx, http.MethodPut, "/owners", apitype.OwnersSaid{Owners: []apitype.Owner{one}}, &list); err != nil {
			return err
		}
	default:
		if err := api.Get(c.ctx, "/owners", nil, &list); err != nil {
			return err
		}
	}
	return c.write(list, ownersRead(list).OrSay(len(list), "It is not known who has which prefixes. 'woodlark owners set PREFIX OWNER KIND' says so."))
}

func ownersRead(list []apitype.Owner) document.Document {
	var rows, records [][]string
	for _, o := range list {
		by := ""
		if o.Given {
			by = document.Faint("by the settings' file")
		}
		rows = append(rows, []string{o.Prefix, o.Name, o.Kind, by})
		records = append(records, []string{o.Prefix, o.Name, o.Kind})
	}
	t := document.Table{Columns: []document.Column{{Name: "prefix"}, {Name: "owner"}, {Name: "part of the way"}, {Name: ""}}, Rows: rows}
	return document.Of(t.Dense(), document.RecordsOf([]string{"prefix", "owner", "kind"}, records))
}
