package sites

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"woodlark.example/core/geo"
	"woodlark.example/internal/kind"
)

// headings are the columns that are taken, by all names that they go by. Those of "" are what
// lists of sites have beside, and are passed over.
var headings = map[string]string{"name": "name", "site": "name", "latitude": "lat", "lat": "lat", "lat_deg": "lat", "longitude": "lon", "lon": "lon", "lon_deg": "lon", "targets": "targets", "note": "note", "agents": "", "paths": "", "said": ""}

// ReadCSV reads sites from CSV (RFC 4180) with a line of headings: name, latitude and longitude in
// degrees, targets with blanks between, note. All but the name may be left out. The error, which
// wraps kind.ErrInvalid, names each bad line.
func ReadCSV(r io.Reader) ([]Site, error) {
	in := csv.NewReader(r)
	in.FieldsPerRecord = -1
	in.TrimLeadingSpace = true
	head, err := in.Read()
	if err != nil {
		return nil, fmt.Errorf("%w: sites come as CSV with a line of headings: name, latitude, longitude, targets, note", kind.ErrInvalid)
	}
	at := map[string]int{}
	for i, h := range head {
		h = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		column, known := headings[h]
		if !known {
			return nil, fmt.Errorf("%w: there is no column %q; name, latitude, longitude, targets and note are known", kind.ErrInvalid, kind.Shorten(h))
		}
		if _, twice := at[column]; twice && column != "" {
			return nil, fmt.Errorf("%w: the column %q is there twice", kind.ErrInvalid, h)
		}
		at[column] = i
	}
	if _, known := at["name"]; !known {
		return nil, fmt.Errorf("%w: the column name is missing", kind.ErrInvalid)
	}
	var list []Site
	var errs []error
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var s Site
		if err == nil {
			if s, err = siteOf(row, head, at); err != nil {
				line, _ := in.FieldPos(0)
				err = fmt.Errorf("line %d: %w", line, err)
			}
		}
		if err == nil {
			list = append(list, s)
		} else if errs = append(errs, err); len(errs) == 20 {
			break
		}
	}
	if len(errs) > 0 {
		return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, errors.Join(errs...))
	}
	return list, nil
}

func siteOf(row, head []string, at map[string]int) (s Site, err error) {
	if len(row) != len(head) {
		return s, fmt.Errorf("%d fields instead of %d", len(row), len(head))
	}
	field := func(name string) string {
		if i, is := at[name]; is {
			return strings.TrimSpace(row[i])
		}
		return ""
	}
	s = Site{Name: field("name"), Note: field("note")}
	s.Targets = strings.FieldsFunc(field("targets"), func(r rune) bool { return strings.ContainsRune(" ;\t\n", r) })
	lat, lon := field("lat"), field("lon")
	switch {
	case (lat == "") != (lon == ""):
		return s, fmt.Errorf("site %q: latitude and longitude belong together", s.Name)
	case lat != "":
		p, err := geo.ParsePlace(lat + "," + lon)
		if err != nil {
			return s, fmt.Errorf("site %q: %w", s.Name, err)
		}
		s.At = &p
	}
	return s, s.check()
}

// WriteCSV writes sites as ReadCSV reads them.
func WriteCSV(w io.Writer, list []Site) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	_ = out.Write([]string{"name", "latitude", "longitude", "targets", "note"})
	for _, s := range list {
		lat, lon := "", ""
		if s.At != nil {
			lat, lon, _ = strings.Cut(s.At.String(), ",")
		}
		_ = out.Write([]string{s.Name, lat, lon, strings.Join(slices.Sorted(slices.Values(s.Targets)), " "), s.Note})
	}
	out.Flush()
	return out.Error()
}
