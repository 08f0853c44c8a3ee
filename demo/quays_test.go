package demo_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world"
)

// TestTheGuideBuildsThisWorld checks each step of docs/worlds.md, and that what it
// builds is quays.yaml.
func TestTheGuideBuildsThisWorld(t *testing.T) {
	guide, err := os.ReadFile("../docs/worlds.md")
	require.NoError(t, err)
	built, err := os.ReadFile("quays.yaml")
	require.NoError(t, err)
	_, warnings, err := world.Check(built, world.Options{Reference: reference})
	require.NoError(t, err)
	assert.Empty(t, warnings)
	steps := strings.Split(strings.Split(string(guide), "## All properties")[0], "\n### ")[1:]
	require.Len(t, steps, 5)
	for _, step := range steps {
		var block strings.Builder
		for _, line := range strings.Split(step, "\n") {
			if text, ok := strings.CutPrefix(line, "    "); ok && !strings.Contains(text, "woodlark ") {
				block.WriteString(text + "\n")
			}
		}
		text := block.String()
		switch step[0] {
		case '1', '3':
			_, warnings, err := world.Check([]byte(text), world.Options{Reference: reference})
			require.NoError(t, err, step)
			assert.Empty(t, warnings)
		}
		if step[0] >= '4' {
			for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
				assert.Contains(t, string(built), strings.TrimSpace(line))
			}
		}
	}
}
