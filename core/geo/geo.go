// Package geo puts places of the earth on a flat map, and clips outlines to it.
//
//	v := geo.Fit(places, 720, 400)
//	x, y := v.XY(geo.Place{Lat: 60.15, Lon: -1.14})
//	shapes := v.Areas(land)
package geo

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Place is a point of the earth in degrees, north and east positive (WGS 84).
type Place struct{ Lat, Lon float64 }

// Check says why there is no such place.
func (p Place) Check() error {
	switch {
	case math.IsNaN(p.Lat) || math.Abs(p.Lat) > 90:
		return fmt.Errorf("latitude %g is not within -90 and 90 degrees", p.Lat)
	case math.IsNaN(p.Lon) || math.Abs(p.Lon) > 180:
		return fmt.Errorf("longitude %g is not within -180 and 180 degrees", p.Lon)
	}
	return nil
}

// String writes a place as ParsePlace reads it.
func (p Place) String() string {
	return strconv.FormatFloat(p.Lat, 'f', -1, 64) + "," + strconv.FormatFloat(p.Lon, 'f', -1, 64)
}

// ParsePlace reads latitude and longitude in decimal degrees, such as 60.15,-1.14. A letter N, S,
// E or W may stand behind each, or a degree sign.
func ParsePlace(text string) (p Place, err error) {
	lat, lon, found := strings.Cut(text, ",")
	if !found {
		return p, fmt.Errorf("%.40q is no place: latitude, a comma and longitude in degrees are, such as 60.15,-1.14", text)
	}
	if p.Lat, err = degrees(lat, "N", "S"); err != nil {
		return p, fmt.Errorf("latitude %.40q: %w", lat, err)
	}
	if p.Lon, err = degrees(lon, "E", "W"); err != nil {
		return p, fmt.Errorf("longitude %.40q: %w", lon, err)
	}
	return p, p.Check()
}

func degrees(text, plus, minus string) (float64, error) {
	t := strings.ToUpper(strings.TrimSpace(text))
	sign := 1.0
	for letter, s := range map[string]float64{plus: 1, minus: -1} {
		if rest, is := strings.CutSuffix(t, letter); is {
			t, sign = rest, s
			if strings.HasPrefix(strings.TrimSpace(rest), "-") {
				return 0, errors.New("a minus and a letter do not go together")
			}
			break
		}
	}
	t = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(t), "°"))
	v, err := strconv.ParseFloat(t, 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		return 0, errors.New("decimal degrees are wanted, such as 60.15 or -1.14")
	}
	return sign * v, nil
}

// Ring is the outline of an area, or of a hole in one. Its last point leads to its first.
type Ring struct {
	Hole   bool
	Points []Place
}

// View is a map of equal scale along its middle parallel and all meridians (equirectangular): of
// an island or a country it has the shape that is seen from above.
type View struct {
	W, H   float64
	Middle Place
	scale  float64 // units a degree of latitude
	narrow float64 // of a degree of longitude
}

const (
	leastSpan = 0.6  // degrees of latitude that are seen at least, so that one place has a surrounding
	margin    = 0.14 // of the map at each side
	finest    = 0.35 // units between points that are drawn
)

// Fit is the view of a width and height in which all places are, around the shorter way: places at
// both sides of the 180th meridian are next to each other. Without places it is of all the earth.
func Fit(places []Place, w, h float64) View {
	v := View{W: w, H: h}
	south, north := -90.0, 90.0
	west, span := -180.0, 360.0
	if len(places) > 0 {
		south, north = 90, -90
		for _, p := range places {
			south, north = min(south, p.Lat), max(north, p.Lat)
		}
		west, span = around(places)
	}
	v.Middle = Place{(south + north) / 2, west + span/2}
	v.narrow = max(0.15, math.Cos(v.Middle.Lat*math.Pi/180))
	high, wide := max(leastSpan, north-south), max(leastSpan/v.narrow, span)
	inner := 1 - 2*margin
	if len(places) == 0 {
		inner = 1
	}
	v.scale = min(h*inner/high, w*inner/(wide*v.narrow))
	return v
}

// around is where the shortest stretch of longitudes that holds all begins, and how long it is.
func around(places []Place) (west, span float64) {
	lons := make([]float64, len(places))
	for i, p := range places {
		lons[i] = math.Mod(p.Lon+540, 360) - 180
	}
	slices.Sort(lons)
	west, gap := lons[0], lons[0]+360-lons[len(lons)-1]
	for i := 1; i < len(lons); i++ {
		if d := lons[i] - lons[i-1]; d > gap {
			west, gap = lons[i], d
		}
	}
	return west, 360 - gap
}

// XY is where a place stands, from the upper left corner.
func (v View) XY(p Place) (x, y float64) {
	d := math.Mod(p.Lon-v.Middle.Lon+540, 360) - 180
	if d < -180 {
		d += 360
	}
	return v.at(d, p.Lat)
}

func (v View) at(east, lat float64) (x, y float64) {
	return v.W/2 + east*v.narrow*v.scale, v.H/2 - (lat-v.Middle.Lat)*v.scale
}

// Area is what is seen of a ring.
type Area struct {
	Hole   bool
	Points [][2]float64
}

// Areas are rings as far as they are seen, with no more points than can be told apart.
func (v View) Areas(rings []Ring) (list []Area) {
	// Of a map that is wider than the earth the sides are empty: one that begins anew is none.
	half := min(v.W/2, 180*v.narrow*v.scale)
	reach := half/(v.narrow*v.scale) + 1
	for _, r := range rings {
		west, east := math.Inf(1), math.Inf(-1)
		for _, p := range r.Points {
			west, east = min(west, p.Lon), max(east, p.Lon)
		}
		// The same land is seen again a turn further.
		for turn := -360.0; turn <= 360; turn += 360 {
			off := turn - v.Middle.Lon
			if west+off > reach || east+off < -reach {
				continue
			}
			points := make([][2]float64, len(r.Points))
			for i, p := range r.Points {
				points[i][0], points[i][1] = v.at(p.Lon+off, p.Lat)
			}
			if points = thin(clip(points, v.W/2-half, v.W/2+half, v.H)); isArea(points) {
				list = append(list, Area{r.Hole, points})
			}
		}
	}
	return list
}

// clip cuts an area to what is seen, one side after the other (Sutherland and Hodgman).
func clip(points [][2]float64, left, right, h float64) [][2]float64 {
	for _, side := range []struct {
		axis  int
		bound float64
		above bool
	}{{0, left, true}, {0, right, false}, {1, 0, true}, {1, h, false}} {
		inside := func(p [2]float64) bool { return (p[side.axis] >= side.bound) == side.above }
		var kept [][2]float64
		for i, p := range points {
			q := points[(i+len(points)-1)%len(points)]
			if inside(p) != inside(q) {
				t := (side.bound - q[side.axis]) / (p[side.axis] - q[side.axis])
				cut := [2]float64{q[0] + t*(p[0]-q[0]), q[1] + t*(p[1]-q[1])}
				cut[side.axis] = side.bound
				kept = append(kept, cut)
			}
			if inside(p) {
				kept = append(kept, p)
			}
		}
		points = kept
	}
	return points
}

// isArea reports whether something is left of an area but its edge.
func isArea(points [][2]float64) bool {
	west, east, top, bottom := math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
	for _, p := range points {
		west, east, top, bottom = min(west, p[0]), max(east, p[0]), min(top, p[1]), max(bottom, p[1])
	}
	return len(points) > 2 && east-west > finest && bottom-top > finest
}

// thin leaves out points that lie upon the one before.
func thin(points [][2]float64) [][2]float64 {
	out := points[:0]
	for i, p := range points {
		if i == 0 || i == len(points)-1 || math.Hypot(p[0]-out[len(out)-1][0], p[1]-out[len(out)-1][1]) >= finest {
			out = append(out, p)
		}
	}
	return out
}
