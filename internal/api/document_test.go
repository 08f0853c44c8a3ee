package api_test

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
)

func TestTheDocumentIsThatOfTheCode(t *testing.T) {
	kept, err := os.ReadFile("../../docs/openapi.json")
	require.NoError(t, err)
	var version struct {
		OpenAPI string
		Info    struct{ Version string }
		Paths   map[string]any
	}
	require.NoError(t, json.Unmarshal(kept, &version))
	made, err := api.Document(version.Info.Version)
	require.NoError(t, err)
	assert.JSONEq(t, string(made), string(kept), "make it anew: go run ./tools/openapi > docs/openapi.json, then npm run types in web/")
	assert.Regexp(t, `^3\.1`, version.OpenAPI)
	assert.Contains(t, version.Paths, "/api/v1/paths/{id}/series")
}
