package draw_test

import (
	"encoding/xml"
	"errors"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/draw"
)

const harbour = `
world: Harbour & sons
nodes:
  - {name: a, addresses: [192.0.2.1], site: "Quay <1>"}
  - {name: r, router: true, addresses: [192.0.2.254]}
  - {name: b, addresses: [192.0.2.2]}
  - {name: c, addresses: [192.0.2.3]}
links:
  - {between: [a, r], delay: 1ms}
  - {between: [r, b], delay: 8ms, rate: 10Mbit/s, toward: {b: {loss: 2%}}}
  - {between: [r, c], linked: false}
`

func model(t *testing.T) *world.Model {
	m, err := world.Read([]byte(harbour), world.Options{})
	require.NoError(t, err)
	return m
}

// elements counts the elements of well-formed XML.
func elements(t *testing.T, text []byte) map[string]int {
	t.Helper()
	count := map[string]int{}
	d := xml.NewDecoder(strings.NewReader(string(text)))
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return count
		}
		require.NoError(t, err)
		if e, ok := token.(xml.StartElement); ok {
			count[e.Name.Local]++
		}
	}
}

func TestSVG(t *testing.T) {
	svg := draw.SVG(model(t))
	assert.Equal(t, svg, draw.SVG(model(t)), "the same again")
	count := elements(t, svg)
	assert.Equal(t, 3, count["line"])
	assert.Equal(t, 3, count["circle"], "hosts")
	assert.Equal(t, 2, count["rect"], "the sheet and a router")
	assert.Contains(t, string(svg), "Harbour &amp; sons")
	assert.Contains(t, string(svg), "loses 2 %")
	// Nodes keep apart, and on the sheet.
	var at [][2]float64
	for _, m := range regexp.MustCompile(`c[xy]="([0-9.]+)" c[xy]="([0-9.]+)"`).FindAllStringSubmatch(string(svg), -1) {
		x, err1 := strconv.ParseFloat(m[1], 64)
		y, err2 := strconv.ParseFloat(m[2], 64)
		require.NoError(t, errors.Join(err1, err2))
		assert.True(t, x >= 0 && x <= 1280 && y >= 0 && y <= 800)
		for _, o := range at {
			assert.Greater(t, math.Hypot(x-o[0], y-o[1]), 60.0)
		}
		at = append(at, [2]float64{x, y})
	}
	assert.Len(t, at, 3)
}

func TestForOtherPrograms(t *testing.T) {
	count := elements(t, draw.GraphML(model(t)))
	assert.Equal(t, 4, count["node"])
	assert.Equal(t, 6, count["edge"], "each direction")
	dot := string(draw.DOT(model(t)))
	assert.Equal(t, 6, strings.Count(dot, "->"))
	assert.Contains(t, dot, `"r" -> "c" [label="cut", style=dotted];`)
	assert.Equal(t, strings.Count(dot, "{"), strings.Count(dot, "}"))
}

func TestASmallSheet(t *testing.T) {
	m, err := world.Read([]byte("nodes: [{name: alone, addresses: [192.0.2.1]}]"), world.Options{})
	require.NoError(t, err)
	assert.Equal(t, 1, elements(t, draw.SVG(m))["circle"])
}
