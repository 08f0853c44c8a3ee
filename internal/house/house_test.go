package house

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "woodlark.example/"

// rules say, for each room, which of our packages (by prefix) it may import. A
// room may always import itself. Rooms that are not listed are at the end of
// the way and may import all.
var rules = map[string][]string{
	"core/":                {},
	"wire/":                {},
	"internal/backup/":     {},
	"internal/capture/":    {},
	"internal/oidc/":       {},
	"internal/dossier/":    {},
	"internal/ident/":      {},
	"internal/whole/":      {},
	"internal/keys/":       {},
	"internal/mariadb/":    {},
	"internal/yamlfile/":   {},
	"internal/needfile/":   {"core", "internal/yamlfile"},
	"internal/schedule/":   {},
	"internal/thirdparty/": {},
	"internal/settings/":   {"internal/yamlfile"},
	"internal/signed/":     {},
	"internal/network/":    {"wire", "internal/yamlfile"},
	"internal/probe/":      {"core", "wire", "internal/network", "internal/host"},
	"internal/kind/":       {"core", "wire", "internal/network", "internal/probe", "internal/report", "internal/needfile", "internal/yamlfile"},
	"internal/channel/":    {"internal/ident", "internal/kind"},
	"internal/protocol/":   {"internal/schedule", "core", "wire", "internal/ident", "internal/host", "internal/kind", "internal/network"},
	"internal/remote/":     {"core", "internal/ident", "internal/keys", "internal/signed", "internal/kind", "internal/protocol"},
	"internal/agent/":      {"internal/whole", "internal/schedule", "core", "wire", "internal/ident", "internal/kind", "internal/protocol", "internal/network", "internal/probe", "internal/host"},
	"internal/store/":      {"core", "wire", "internal/backup", "internal/ident", "internal/protocol"},
	"internal/service/":    {"internal/report/document", "internal/schedule", "internal/channel", "core", "wire", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/remote"},
	// the nouns of the service
	"internal/service/events/":        {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store"},
	"internal/service/devices/":       {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store"},
	"internal/service/loads/":         {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store"},
	"internal/service/notices/":       {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/events"},
	"internal/service/fleet/":         {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/remote", "internal/service/notices", "wire"},
	"internal/service/paths/":         {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "wire", "internal/service/devices", "internal/service/events", "internal/service/fleet", "internal/service/notices"},
	"internal/service/incidents/":     {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/devices", "internal/service/events", "internal/service/paths"},
	"internal/service/runs/":          {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/events", "internal/service/fleet", "internal/service/loads", "internal/service/paths"},
	"internal/service/watches/":       {"internal/schedule", "core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/events", "internal/service/fleet", "internal/service/notices", "internal/service/paths", "internal/service/runs"},
	"internal/service/maintenance/":   {"core", "internal/ident", "internal/kind", "internal/schedule", "internal/store", "internal/service/events", "internal/service/fleet", "internal/service/notices", "internal/service/paths", "internal/service/watches"},
	"internal/service/suspicion/":     {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/fleet", "internal/service/paths", "internal/service/runs", "internal/service/watches"},
	"internal/service/notify/":        {"internal/report/document", "core", "internal/channel", "internal/ident", "internal/kind", "internal/schedule", "internal/store", "internal/service/devices", "internal/service/fleet", "internal/service/incidents", "internal/service/notices", "internal/service/paths", "internal/service/reports", "internal/service/selection", "internal/service/watches"},
	"internal/service/visits/":        {"core", "internal/ident", "internal/kind", "internal/probe/visit", "internal/store"},
	"internal/service/likenesses/":    {"core", "wire", "internal/ident", "internal/kind", "internal/store", "internal/service/fleet", "internal/service/paths"},
	"internal/service/comparisons/":   {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/fleet", "internal/service/paths"},
	"internal/service/annotations/":   {"internal/ident", "internal/kind", "internal/store", "internal/service/notices", "internal/service/paths"},
	"internal/service/dossiers/":      {"core", "internal/capture", "internal/dossier", "internal/ident", "internal/kind", "internal/protocol", "internal/replay", "internal/store", "internal/service/annotations", "internal/service/fleet", "internal/service/paths", "internal/service/reports", "internal/service/selection", "internal/service/watches"},
	"internal/service/people/":        {"internal/ident", "internal/keys", "internal/kind", "internal/store", "internal/service/notices"},
	"internal/service/guests/":        {"internal/keys", "internal/service/boards", "core", "internal/ident", "internal/kind", "internal/protocol", "internal/report/document", "internal/store", "internal/service/fleet", "internal/service/incidents", "internal/service/notices", "internal/service/paths", "internal/service/reports", "internal/service/selection"},
	"internal/service/transfer/":      {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/fleet", "internal/service/notices", "internal/service/paths", "internal/service/selection", "internal/service/sight", "internal/service/watches", "wire"},
	"internal/service/sight/":         {"internal/ident", "internal/store", "internal/service/fleet", "internal/service/paths", "internal/service/people"},
	"internal/service/reports/":       {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/report/document", "internal/store", "internal/service/annotations", "internal/service/devices", "internal/service/fleet", "internal/service/incidents", "internal/service/loads", "internal/service/objectives", "internal/service/paths", "internal/service/selection", "internal/service/watches"},
	"internal/service/selection/":     {"internal/ident", "internal/kind", "internal/service/fleet", "internal/service/paths", "internal/service/watches"},
	"internal/service/sites/":         {"core", "internal/kind", "internal/store", "internal/service/fleet", "internal/service/notices", "internal/service/paths"},
	"internal/service/owners/":        {"core", "internal/kind", "internal/store", "internal/service/notices"},
	"internal/service/boards/":        {"core", "internal/ident", "internal/kind", "internal/report/document", "internal/store", "internal/service/fleet", "internal/service/incidents", "internal/service/notices", "internal/service/paths", "internal/service/reports", "internal/service/selection", "internal/service/sites", "internal/service/watches"},
	"internal/service/objectives/":    {"core", "internal/ident", "internal/kind", "internal/store", "internal/service/notices"},
	"internal/service/plans/":         {"internal/ident", "internal/kind", "internal/store", "internal/service/notices"},
	"internal/service/conversations/": {"core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/events", "internal/service/fleet", "internal/service/runs", "internal/service/watches"},
	"internal/service/ingest/":        {"internal/service/suspicion", "internal/service/conversations", "internal/schedule", "core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service/devices", "internal/service/events", "internal/service/fleet", "internal/service/incidents", "internal/service/loads", "internal/service/notices", "internal/service/paths", "internal/service/runs"},
	"internal/metrics/":               {"core", "internal/service"},
	"internal/api/":                   {"internal/signed", "internal/oidc", "internal/thirdparty", "internal/metrics", "internal/dossier", "internal/needfile", "internal/report/document", "internal/channel", "internal/schedule", "core", "internal/ident", "internal/kind", "internal/protocol", "internal/store", "internal/service", "internal/remote", "internal/agent"},
	"internal/client/":                {"internal/api", "internal/keys"},
	"internal/report/":                {"core", "internal/api/apitype", "internal/replay"},
	"internal/replay/":                {"core"},
	"internal/guardbench/":            {"core"},
	"demo/":                           {"internal/network", "internal/yamlfile"},
	"internal/lab/":                   {"internal/whole", "wire", "internal/network"},
	"internal/host/":                  {"internal/network"},
	"internal/store/storetest/":       {"internal/store", "internal/mariadb"},
}

// foreign says which packages of others a room may import, beside the standard
// library; rooms that are not listed may import any.
var foreign = map[string][]string{
	"core/": {"gonum.org/"},
	"wire/": {},
}

// only says which packages alone may import something.
var only = map[string][]string{
	"gorm.io/":                      {"internal/store/"},
	"github.com/go-sql-driver/":     {"internal/store/", "internal/mariadb/", "tools/bench/", "tools/cluster/"},
	"github.com/danielgtaylor/huma": {"internal/api/"},
	"github.com/prometheus/":        {"internal/metrics/"},
	"go.opentelemetry.io/":          {"internal/metrics/"},
	"github.com/goccy/":             {"internal/yamlfile/"},
	"github.com/go-pdf/":            {"internal/report/document/pdf/"},
	"github.com/vishvananda/":       {"internal/network/namespace/", "internal/network/circuit/", "internal/host/"},
	"github.com/google/nftables":    {"internal/network/circuit/"},
	"github.com/pion/":              {"internal/probe/visit/"},
	"gvisor.dev/":                   {"internal/network/world/live/"},
	"github.com/robfig/cron":        {"internal/network/world/schedule/", "internal/schedule/"},
}

func room(folder string) string {
	best := ""
	for r := range rules {
		if strings.HasPrefix(folder+"/", r) && len(r) > len(best) {
			best = r
		}
	}
	return best
}

func under(path string, prefixes []string) bool {
	for _, p := range prefixes {
		if path == p || strings.HasPrefix(path+"/", strings.TrimSuffix(p, "/")+"/") || strings.HasSuffix(p, "/") && strings.HasPrefix(path, p) {
			return true
		}
	}
	return false
}

func TestRoomsKnowOnlyTheirNeighbours(t *testing.T) {
	root := filepath.Join("..", "..")
	files := 0
	err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		files++
		folder, _ := filepath.Rel(root, filepath.Dir(name))
		for _, i := range parsed.Imports {
			checkImport(t, filepath.ToSlash(folder), strings.Trim(i.Path.Value, `"`))
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 50, "the files were found")
}

func checkImport(t *testing.T, folder, path string) {
	t.Helper()
	r := room(folder)
	if own, ok := strings.CutPrefix(path, module); ok {
		if r == "" || strings.HasPrefix(own+"/", r) || under(own, rules[r]) {
			return
		}
		t.Errorf("%s may not import %s", folder, path)
		return
	}
	if !strings.Contains(strings.SplitN(path, "/", 2)[0], ".") {
		return // the standard library
	}
	for theirs, ours := range only {
		if strings.HasPrefix(path, theirs) {
			assert.True(t, under(folder+"/", ours), "%s may not import %s: only %v may", folder, path, ours)
		}
	}
	for room, allowed := range foreign {
		if strings.HasPrefix(folder+"/", room) {
			assert.True(t, under(path, allowed), "%s may not import %s", folder, path)
		}
	}
}
