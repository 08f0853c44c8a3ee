package geo

import (
	"encoding/json"
	"fmt"
)

type topology struct {
	Type      string              `json:"type"`
	Arcs      [][][]float64       `json:"arcs"`
	Objects   map[string]geometry `json:"objects"`
	Transform *struct {
		Scale     [2]float64 `json:"scale"`
		Translate [2]float64 `json:"translate"`
	} `json:"transform"`
}

type geometry struct {
	Type       string          `json:"type"`
	Arcs       json.RawMessage `json:"arcs"`
	Geometries []geometry      `json:"geometries"`
}

// ReadTopology reads the areas of an object of a file of TopoJSON, such as land. Points and lines
// are left out: they are no areas.
func ReadTopology(data []byte, object string) ([]Ring, error) {
	var t topology
	if err := json.Unmarshal(data, &t); err != nil {
		return nil, fmt.Errorf("read an outline: %w", err)
	}
	g, found := t.Objects[object]
	if t.Type != "Topology" || !found {
		return nil, fmt.Errorf("read an outline: there is no object %q of a topology in it", object)
	}
	arcs, err := t.places()
	if err != nil {
		return nil, err
	}
	return rings(nil, g, arcs)
}

// places are the arcs in degrees. Where there is a transform, points are whole steps from the one
// before.
func (t topology) places() ([][]Place, error) {
	out := make([][]Place, len(t.Arcs))
	for i, arc := range t.Arcs {
		var x, y float64
		for _, p := range arc {
			if len(p) < 2 {
				return nil, fmt.Errorf("read an outline: a point of arc %d has no two figures", i)
			}
			if t.Transform == nil {
				out[i] = append(out[i], Place{p[1], p[0]})
				continue
			}
			x, y = x+p[0], y+p[1]
			out[i] = append(out[i], Place{y*t.Transform.Scale[1] + t.Transform.Translate[1], x*t.Transform.Scale[0] + t.Transform.Translate[0]})
		}
	}
	return out, nil
}

func rings(list []Ring, g geometry, arcs [][]Place) ([]Ring, error) {
	var polygons [][][]int
	switch g.Type {
	case "GeometryCollection":
		for _, x := range g.Geometries {
			var err error
			if list, err = rings(list, x, arcs); err != nil {
				return nil, err
			}
		}
		return list, nil
	case "Polygon":
		polygons = make([][][]int, 1)
		if err := json.Unmarshal(g.Arcs, &polygons[0]); err != nil {
			return nil, fmt.Errorf("read an outline: %w", err)
		}
	case "MultiPolygon":
		if err := json.Unmarshal(g.Arcs, &polygons); err != nil {
			return nil, fmt.Errorf("read an outline: %w", err)
		}
	}
	for _, polygon := range polygons {
		for n, indexes := range polygon {
			r := Ring{Hole: n > 0}
			for _, i := range indexes {
				back := i < 0 // the arc of the complement, from its end
				if back {
					i = ^i
				}
				if i >= len(arcs) {
					return nil, fmt.Errorf("read an outline: there is no arc %d", i)
				}
				r.Points = joined(r.Points, arcs[i], back)
			}
			list = append(list, r)
		}
	}
	return list, nil
}

// joined appends an arc, whose first point is the last that is there already.
func joined(points, arc []Place, back bool) []Place {
	for n := range arc {
		p := arc[n]
		if back {
			p = arc[len(arc)-1-n]
		}
		if n > 0 || len(points) == 0 {
			points = append(points, p)
		}
	}
	return points
}
