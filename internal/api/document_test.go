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

func TestParseDSCP(t *testing.T) {
	for text, want := range map[string]uint8{"": 0, "EF": 46, "ef": 46, "AF41": 34, "CS5": 40, "63": 63, "LE": 1} {
		got, err := api.ParseDSCP(text)
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"64", "-1", "fast", "4.5"} {
		_, err := api.ParseDSCP(text)
		require.ErrorContains(t, err, "neither a name such as EF", text)
	}
}
