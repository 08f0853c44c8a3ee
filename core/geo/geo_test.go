package geo

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlacesAsTheyAreWritten(t *testing.T) {
	for _, x := range []struct {
		text  string
		place Place
		wrong string
	}{
		{"60.15,-1.14", Place{60.15, -1.14}, ""},
		{" 60.15 N , 1.14 W ", Place{60.15, -1.14}, ""},
		{"60.15°,1.14°e", Place{60.15, 1.14}, ""},
		{"33.9s,151.2", Place{-33.9, 151.2}, ""},
		{"-90,180", Place{-90, 180}, ""},
		{"60.15", Place{}, "latitude, a comma and longitude"},
		{"", Place{}, "is no place"},
		{"sixty,1", Place{}, "decimal degrees"},
		{"60,1,2", Place{}, "longitude"},
		{"91,0", Place{}, "latitude 91 is not within"},
		{"0,181", Place{}, "longitude 181 is not within"},
		{"-60S,0", Place{}, "a minus and a letter"},
		{"NaN,0", Place{}, "decimal degrees"},
		{"Inf,0", Place{}, "decimal degrees"},
	} {
		p, err := ParsePlace(x.text)
		if x.wrong != "" {
			assert.ErrorContains(t, err, x.wrong, x.text)
			continue
		}
		require.NoError(t, err, x.text)
		assert.Equal(t, x.place, p, x.text)
		again, err := ParsePlace(p.String())
		require.NoError(t, err)
		assert.Equal(t, p, again)
	}
}

// TestAViewHoldsAllItsPlaces: wherever they are, both sides of the 180th meridian and the poles
// among them, with a margin, and no turn of the earth twice.
func TestAViewHoldsAllItsPlaces(t *testing.T) {
	for name, list := range map[string][]Place{
		"one place":        {{60, 1}},
		"two upon another": {{60, 1}, {60, 1}},
		"islands":          {{60.1, -1.2}, {59.2, -2.9}, {60.8, -0.8}},
		"across 180":       {{-17.7, 178}, {-13.8, -172}, {-21.2, -175.2}},
		"all around":       {{0, -179}, {0, -60}, {0, 60}, {0, 179}},
		"a pole":           {{90, 0}, {85, 100}},
		"a row":            {{10, 0}, {10, 40}},
		"a column":         {{-60, 5}, {70, 5}},
	} {
		t.Run(name, func(t *testing.T) {
			v := Fit(list, 700, 400)
			for _, p := range list {
				x, y := v.XY(p)
				assert.True(t, x >= 0 && x <= 700, "x %g", x)
				assert.True(t, x >= 97 && x <= 603, "x %g", x)
				assert.True(t, y >= 55 && y <= 345, "y %g", y)
			}
			flat := Fit(list, 1100, 100)
			for _, p := range list {
				x, y := flat.XY(p)
				assert.True(t, x >= 0 && x <= 1100 && y >= 13 && y <= 87, "%g, %g of a flat map", x, y)
			}
		})
	}
	// By hand: at 60 degrees a degree of longitude is half as long as one of latitude.
	v := Fit([]Place{{59, 0}, {61, 0}}, 400, 400)
	x, y := v.XY(Place{60, 1})
	x0, y0 := v.XY(Place{60, 0})
	_, up := v.XY(Place{61, 0})
	assert.InDelta(t, 200, x0, 1e-9)
	assert.InDelta(t, 200, y0, 1e-9)
	assert.InDelta(t, 2, (y0-up)/(x-x0), 1e-9)
	assert.InDelta(t, y0, y, 1e-9)
	assert.InDelta(t, 400*0.72/2, y0-up, 1e-9, "two degrees fill what the margins leave")
	// Fiji and Samoa are 10 degrees apart, not 350.
	v = Fit([]Place{{-17, 178}, {-14, -172}}, 400, 400)
	fiji, _ := v.XY(Place{-17, 178})
	samoa, _ := v.XY(Place{-14, -172})
	assert.Less(t, fiji, samoa)
	assert.InDelta(t, -177, math.Mod(v.Middle.Lon+540, 360)-180, 1e-9)
}

func TestAreasAreCutToTheMap(t *testing.T) {
	v := Fit([]Place{{1, 1}, {-1, -1}}, 100, 100)
	square := func(south, west, north, east float64) Ring {
		return Ring{Points: []Place{{south, west}, {south, east}, {north, east}, {north, west}}}
	}
	all := v.Areas([]Ring{square(-50, -50, 50, 50)})
	require.Len(t, all, 1)
	assert.InDelta(t, 100*100, size(all[0].Points), 1, "what is larger fills it")
	assert.Empty(t, v.Areas([]Ring{square(10, 10, 20, 20)}), "what is elsewhere is not seen")
	half := v.Areas([]Ring{square(-50, 0, 50, 50)})
	require.Len(t, half, 1)
	assert.InDelta(t, 50*100, size(half[0].Points), 1)
	hole := v.Areas([]Ring{{Hole: true, Points: square(-0.5, -0.5, 0.5, 0.5).Points}})
	require.Len(t, hole, 1)
	assert.True(t, hole[0].Hole)
	for _, p := range append(all[0].Points, half[0].Points...) {
		assert.True(t, p[0] >= 0 && p[0] <= 100 && p[1] >= 0 && p[1] <= 100)
	}
	// Land that ends at 180 degrees and goes on at -180 is seen whole from there.
	pacific := Fit([]Place{{1, 179}, {-1, -179}}, 100, 100)
	both := pacific.Areas([]Ring{square(-0.5, 178, 0.5, 180), square(-0.5, -180, 0.5, -178)})
	require.Len(t, both, 2)
	_, top := pacific.XY(Place{0.5, 180})
	_, bottom := pacific.XY(Place{-0.5, 180})
	assert.InDelta(t, 100*(bottom-top), size(both[0].Points)+size(both[1].Points), 1)
	// A map that is wider than the earth shows it once.
	flat := Fit([]Place{{60, 0}, {-60, 0}}, 1000, 100)
	once := flat.Areas([]Ring{square(-10, -180, 10, 180)})
	require.Len(t, once, 1)
	west, _ := flat.XY(Place{0, -180})
	assert.InDelta(t, 2*(500-west)*20*(flat.H*0.72/120), size(once[0].Points), 1)
	world := Fit(nil, 720, 360)
	assert.InDelta(t, 720*360, size(world.Areas([]Ring{square(-90, -180, 90, 180)})[0].Points), 1)
}

func size(points [][2]float64) (sum float64) {
	for i, p := range points {
		q := points[(i+1)%len(points)]
		sum += p[0]*q[1] - q[0]*p[1]
	}
	return math.Abs(sum) / 2
}

// A square of two arcs with a hole, one arc walked backwards, in steps of half a degree from -10.
const twoArcs = `{"type":"Topology","transform":{"scale":[0.5,0.5],"translate":[-10,-10]},"objects":{"land":{"type":"GeometryCollection","geometries":[
 {"type":"Polygon","arcs":[[0,-2],[2]]},{"type":"MultiPolygon","arcs":[[[2]]]},{"type":"Point"}]}},
 "arcs":[[[0,0],[40,0],[0,40]],[[0,0],[0,40],[40,0]],[[10,10],[4,0],[0,4],[-4,0],[0,-4]]]}`

func TestAnOutlineIsRead(t *testing.T) {
	list, err := ReadTopology([]byte(twoArcs), "land")
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []Place{{-10, -10}, {-10, 10}, {10, 10}, {10, -10}, {-10, -10}}, list[0].Points)
	assert.False(t, list[0].Hole)
	assert.True(t, list[1].Hole)
	assert.Equal(t, Place{-5, -5}, list[1].Points[0])
	assert.False(t, list[2].Hole)
	plain, err := ReadTopology([]byte(`{"type":"Topology","objects":{"land":{"type":"Polygon","arcs":[[0]]}},"arcs":[[[1,2],[3,4],[5,6]]]}`), "land")
	require.NoError(t, err)
	assert.Equal(t, []Place{{2, 1}, {4, 3}, {6, 5}}, plain[0].Points)
	for text, says := range map[string]string{
		"{": "unexpected end", `{"type":"Topology","objects":{}}`: "no object", `{"type":"Feature","objects":{"land":{}}}`: "no object",
		`{"type":"Topology","objects":{"land":{"type":"Polygon","arcs":[[7]]}},"arcs":[]}`:                   "no arc 7",
		`{"type":"Topology","objects":{"land":{"type":"Polygon","arcs":[[-7]]}},"arcs":[]}`:                  "no arc 6",
		`{"type":"Topology","objects":{"land":{"type":"Polygon","arcs":7}},"arcs":[]}`:                       "read an outline",
		`{"type":"Topology","objects":{"land":{"type":"Polygon","arcs":[[0]]}},"arcs":[[[1],[2]]]}`:          "no two figures",
		`{"type":"Topology","objects":{"land":{"type":"MultiPolygon","arcs":[[0]]}},"arcs":[[[1,2],[2,2]]]}`: "read an outline",
	} {
		_, err := ReadTopology([]byte(text), "land")
		assert.ErrorContains(t, err, says, text)
	}
}
