// Rooms draws the rooms of the house from the imports of its files: each room right of all
// that it knows, with an arrow to whom it asks and who is not asked by another one that it
// asks, too.
//
//	go run ./tools/rooms > docs/architecture.svg
package main

import (
	"fmt"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

const module = "woodlark.example/"

func main() {
	h, err := read(".")
	if err == nil {
		err = h.draw(os.Stdout)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "rooms:", err)
		os.Exit(1)
	}
}

// house is which rooms each room knows.
type house struct{ knows map[string]map[string]bool }

// room is the one that a folder belongs to; empty for what serves only the house.
func room(folder string) string {
	parts := strings.Split(folder, "/")
	switch {
	case parts[0] == "core", parts[0] == "wire", parts[0] == "demo", parts[0] == "web", parts[0] == "cmd":
		return parts[0]
	case parts[0] != "internal" || len(parts) < 2:
		return ""
	case len(parts) > 2 && parts[2] == "apitype": // what callers know, too
		return parts[2]
	case len(parts) > 2 && parts[1] == "kind": // the kinds, beside the contract that they keep
		return "kinds"
	case slices.Contains([]string{"house", "busy", "e2e", "browser", "guardbench"}, parts[1]):
		return ""
	}
	return parts[1]
}

func read(root string) (house, error) {
	h := house{map[string]map[string]bool{}}
	return h, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == "testdata" || d.Name() == "storetest" || strings.HasPrefix(d.Name(), ".") && name != root) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		rel, err := filepath.Rel(root, filepath.Dir(name))
		if err != nil {
			return err
		}
		own := room(filepath.ToSlash(rel))
		if own == "" {
			return nil
		}
		return h.add(own, name)
	})
}

// add takes in a file of a room.
func (h house) add(own, name string) error {
	parsed, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
	if err != nil {
		return err
	}
	if h.knows[own] == nil {
		h.knows[own] = map[string]bool{}
	}
	for _, i := range parsed.Imports {
		if path, is := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), module); is {
			if other := room(path); other != "" && other != own {
				h.knows[own][other] = true
			}
		}
	}
	return nil
}

// columns are the rooms from left to right, each behind all that it knows.
func (h house) columns() [][]string {
	at := map[string]int{}
	var place func(string, []string) int
	place = func(r string, way []string) int {
		if n, is := at[r]; is {
			return n
		}
		if slices.Contains(way, r) {
			return 0 // a circle of folders, though not of packages
		}
		n := 0
		for _, other := range slices.Sorted(maps.Keys(h.knows[r])) { // where there is a circle their order counts
			n = max(n, place(other, append(way, r))+1)
		}
		at[r] = n
		return n
	}
	var list [][]string
	for _, r := range slices.Sorted(maps.Keys(h.knows)) {
		n := place(r, nil)
		for len(list) <= n {
			list = append(list, nil)
		}
		list[n] = append(list[n], r)
	}
	return list
}

// asks are the rooms that a room knows and that none it knows knows, too.
func (h house) asks(r string) (list []string) {
	for _, other := range slices.Sorted(maps.Keys(h.knows[r])) {
		through := false
		for _, third := range slices.Sorted(maps.Keys(h.knows[r])) {
			through = through || third != other && h.reaches(third, other, map[string]bool{r: true})
		}
		if !through {
			list = append(list, other)
		}
	}
	return list
}

func (h house) reaches(from, to string, seen map[string]bool) bool {
	if seen[from] {
		return false
	}
	seen[from] = true
	for _, other := range slices.Sorted(maps.Keys(h.knows[from])) {
		if other == to || h.reaches(other, to, seen) {
			return true
		}
	}
	return false
}

const (
	wide, high   = 86, 32 // a room
	stepX, stepY = 112, 50
	margin       = 24
)

func (h house) draw(w io.Writer) error {
	columns := h.columns()
	most := 0
	for _, c := range columns {
		most = max(most, len(c))
	}
	x, y := map[string]int{}, map[string]int{}
	for n, c := range columns {
		for k, r := range h.ordered(c, y) {
			x[r] = margin + n*stepX
			y[r] = margin + (most-len(c))*stepY/2 + k*stepY
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13">`+"\n", 2*margin+(len(columns)-1)*stepX+wide, 2*margin+(most-1)*stepY+high)
	b.WriteString(`<title>The rooms of the house, and whom each asks</title>` + "\n" + `<rect width="100%" height="100%" fill="#faf6ec"/>` + "\n")
	for _, r := range slices.Sorted(maps.Keys(h.knows)) {
		for _, other := range h.asks(r) {
			x0, y0, x1, y1 := x[r], y[r]+high/2, x[other]+wide, y[other]+high/2
			bend := max(20, (x0-x1)/2)
			fmt.Fprintf(&b, `<path d="M%d %d C%d %d %d %d %d %d" fill="none" stroke="#8a8470"/><circle cx="%d" cy="%d" r="2.5" fill="#8a8470"/>`+"\n", x0, y0, x0-bend, y0, x1+bend, y1, x1, y1, x1, y1)
		}
	}
	for _, r := range slices.Sorted(maps.Keys(h.knows)) {
		fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="3" fill="#fffdf7" stroke="#1c2a4a"/>`, x[r], y[r], wide, high)
		fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="middle" fill="#1c2a4a">%s</text>`+"\n", x[r]+wide/2, y[r]+high/2+5, r)
	}
	b.WriteString("</svg>\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// ordered puts the rooms of a column beside those that they ask.
func (h house) ordered(column []string, y map[string]int) []string {
	middle := func(r string) float64 {
		sum, n := 0, 0
		for _, other := range h.asks(r) {
			sum, n = sum+y[other], n+1
		}
		if n == 0 {
			return 0
		}
		return float64(sum) / float64(n)
	}
	list := slices.Clone(column)
	slices.SortStableFunc(list, func(a, b string) int {
		switch d := middle(a) - middle(b); {
		case d < 0:
			return -1
		case d > 0:
			return 1
		}
		return 0
	})
	return list
}
