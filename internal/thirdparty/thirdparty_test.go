package thirdparty_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/thirdparty"
)

// TestNobodyIsLeftOut: what the program is built from today is named, in the version that it is
// built from.
func TestNobodyIsLeftOut(t *testing.T) {
	cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}{{end}}{{end}}", "./cmd/woodlark")
	cmd.Dir = "../.."
	out, err := cmd.Output()
	require.NoError(t, err)
	n := 0
	for line := range strings.Lines(string(out)) {
		if line = strings.TrimSpace(line); line != "" {
			n++
			assert.Contains(t, thirdparty.Notices, "\n"+line+"\n", "gather them anew: go run ./tools/notices > internal/thirdparty/notices.txt")
		}
	}
	assert.Greater(t, n, 100)
	for _, name := range []string{"Go, its standard library", "react ", "echarts ", "world-atlas ", "tailwindcss ", "Apache License", "MIT License"} {
		assert.Contains(t, thirdparty.Notices, name)
	}
}
