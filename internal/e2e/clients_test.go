package e2e

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	_ "github.com/oapi-codegen/runtime" // what is generated needs it
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
)

// TestGeneratedClients makes clients from the document that the service serves, whole, and
// has them do their readers' job.
func TestGeneratedClients(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-every", "10s", "-probes", "3", "-interval", "20ms")
	var list api.PathList
	s.eventually(20*time.Second, func() bool { s.get("/api/v1/paths", &list); return len(list.Paths) == 1 }, "a path")
	root, err := filepath.Abs(filepath.Join("..", ".."))
	require.NoError(t, err)
	fetch := func(as string) string {
		status, body := s.call(http.MethodGet, "/api/v1/"+as, "", "")
		require.Equal(t, 200, status)
		file := filepath.Join(t.TempDir(), as)
		require.NoError(t, os.WriteFile(file, body, 0o600))
		return file
	}
	run := func(dir, name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return string(out)
	}
	t.Run("Go", func(t *testing.T) {
		place := filepath.Join(root, "internal", "e2e", "testdata", "clients", "generated")
		require.NoError(t, os.MkdirAll(place, 0o755))
		defer os.RemoveAll(place)
		run(root, "go", "tool", "oapi-codegen", "-generate", "types,client", "-package", "generated", "-o", filepath.Join(place, "client.go"), fetch("openapi-3.0.json"))
		assert.Contains(t, run(root, "go", "run", "./internal/e2e/testdata/clients", s.base, s.token, list.Paths[0].ID), "done")
	})
	t.Run("TypeScript", func(t *testing.T) {
		web := filepath.Join(root, "web")
		place := filepath.Join(web, "test", "generated")
		require.NoError(t, os.MkdirAll(place, 0o755))
		defer os.RemoveAll(place)
		run(web, "npx", "--no-install", "openapi-typescript", fetch("openapi.json"), "-o", filepath.Join(place, "schema.d.ts"))
		run(web, "npx", "--no-install", "tsc", "--strict", "--skipLibCheck", "--target", "es2022", "--module", "nodenext", "--moduleResolution", "nodenext", "--lib", "es2023,dom,dom.iterable", "--types", "node", "--outDir", place, filepath.Join("test", "job.ts"))
		assert.Contains(t, run(web, "node", filepath.Join(place, "job.js"), s.base, s.token, list.Paths[0].ID), "done")
	})
}
