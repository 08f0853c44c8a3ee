package document

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/geo"
)

func isles() Map {
	return Map{Title: "Sites", Land: []geo.Ring{{Points: []geo.Place{{Lat: 59, Lon: -2}, {Lat: 59, Lon: 0}, {Lat: 61, Lon: 0}, {Lat: 61, Lon: -2}}}, {Hole: true, Points: []geo.Place{{Lat: 59.9, Lon: -1.1}, {Lat: 59.9, Lon: -0.9}, {Lat: 60.1, Lon: -0.9}, {Lat: 60.1, Lon: -1.1}}}},
		Places: []MapPlace{{Name: "Holm", At: geo.Place{Lat: 60, Lon: -1}, State: "steady"}, {Name: "Tern <Point>", At: geo.Place{Lat: 60.5, Lon: -1}, State: "degraded"}, {Name: "Oxwater", At: geo.Place{Lat: 60.2, Lon: -0.2}, State: "lost"}, {Name: "Skua Hill", At: geo.Place{Lat: 59.6, Lon: -0.4}, State: "unmeasured"}},
		Lines:  []MapLine{{From: 0, To: 1, State: "degraded", Says: "late"}, {From: 1, To: 0, State: "steady"}, {From: 0, To: 2, State: "lost"}, {From: 0, To: 0, State: "lost"}}}
}

// TestWhatIsWorseIsSeenByShape: each state has a shape of its own, not a colour alone; what goes
// back is beside what goes there; land has its holes.
func TestWhatIsWorseIsSeenByShape(t *testing.T) {
	d := isles().Draw()
	count := map[Look]int{}
	for _, s := range d.Shapes {
		count[s.Look]++
	}
	assert.Equal(t, map[Look]int{Land: 1, Water: 4, Dot: 1, Half: 1, Edge: 1, Degraded: 1, Steady: 1, Unmeasured: 1, Gone: 4, Label: 4}, count,
		"a line that leads nowhere is not drawn; a lost line has a bar, a lost site a ring and a bar; marks stand on paper")
	there, back := d.of(Degraded)[0], d.of(Steady)[0]
	v := isles().View()
	x, y := v.XY(geo.Place{Lat: 60, Lon: -1})
	assert.InDelta(t, x+beside, there.Points[0][0], 0.01, "to the north: the right of it is east")
	assert.InDelta(t, y, there.Points[0][1], 0.01)
	assert.InDelta(t, x-beside, back.Points[1][0], 0.01)
	assert.Equal(t, Label, d.Shapes[len(d.Shapes)-1].Look, "names are upon all else")
	for _, s := range d.Shapes {
		for _, p := range s.Points {
			assert.True(t, p[0] >= -8 && p[0] <= d.W+8 && p[1] >= -8 && p[1] <= d.H+8, "%+v", s)
		}
	}
	svg := SVG(isles())
	assert.Contains(t, svg, `<polyline class="degraded"`)
	assert.Contains(t, svg, `<title>late</title>`)
	assert.Contains(t, svg, "Tern &lt;Point&gt;")
	assert.NotContains(t, svg, "<Point>")
	var page strings.Builder
	require.NoError(t, HTML(&page, About{Title: "t"}, Document{Parts: []Part{isles()}}))
	assert.Contains(t, page.String(), "<figcaption>Sites</figcaption>")
	nothing := Map{}.Draw()
	assert.Empty(t, nothing.Shapes)
}

// TestNamesDoNotLieUponEachOther, however close sites are; what has no room goes without, those of
// what is worse last.
func TestNamesDoNotLieUponEachOther(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		m := isles()
		m.Places = nil
		for i := range 5 + r.IntN(60) {
			m.Places = append(m.Places, MapPlace{Name: fmt.Sprintf("Site number %d", i), At: geo.Place{Lat: 60 + r.NormFloat64(), Lon: r.NormFloat64()}, State: []string{"steady", "steady", "degraded", "lost"}[r.IntN(4)]})
		}
		v := m.View()
		labels := m.Labels(v)
		var boxes []box
		for i, l := range labels {
			if l.Anchor == "" {
				continue
			}
			wide := float64(len(m.Places[i].Name)) * letter
			from := l.X - map[string]float64{"middle": wide / 2, "end": wide}[l.Anchor]
			b := box{from, from + wide, l.Y - 9, l.Y + 3}
			assert.False(t, meetsAny(b, boxes), "seed %d: %s", seed, m.Places[i].Name)
			assert.True(t, b.west > 0 && b.east < v.W && b.top > 0 && b.bottom < v.H)
			boxes = append(boxes, b)
		}
		assert.NotEmpty(t, boxes)
	}
	// Two upon each other: the lost one keeps its name.
	at := geo.Place{Lat: 60, Lon: 0}
	var crowd Map
	for i := range 30 {
		crowd.Places = append(crowd.Places, MapPlace{Name: fmt.Sprintf("Site %02d", i), At: at, State: "steady"})
	}
	crowd.Places[29].State = "lost"
	labels := crowd.Labels(crowd.View())
	assert.NotEmpty(t, labels[29].Anchor)
	assert.Empty(t, labels[28].Anchor)
}
