package kind

import (
	"io"
	"time"

	"woodlark.example/internal/report/document"
)

// Page is where results are written, and how.
type Page struct {
	To     io.Writer
	Format string // text, json, csv, or one of the kind's own
	Ink    document.Ink
	Zone   *time.Location // of the reader
}

// Print writes results.
func (k *Kind) Print(p Page, results []any) error {
	if k.Write != nil {
		if did, err := k.Write(p.To, p.Format, results); did || err != nil {
			return err
		}
	}
	switch p.Format {
	case "text":
		return document.Text(p.To, p.Ink, k.Document(results, p.Zone))
	case "csv":
		return document.CSV(p.To, k.Document(results, p.Zone))
	}
	var all any = results
	if k.JSON != nil {
		all = k.JSON(results)
	}
	return document.JSON(p.To, all)
}

// OneAlone is the JSON of kinds of which one result alone is no list.
func OneAlone(results []any) any {
	if len(results) == 1 {
		return results[0]
	}
	return results
}
