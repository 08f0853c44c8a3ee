package document

import (
	"encoding/csv"
	"io"
)

// CSV prints the records of a document (RFC 4180), under the names of their columns.
func CSV(w io.Writer, d Document) error {
	out := csv.NewWriter(w)
	if err := out.Write(d.Records.Columns); err != nil {
		return err
	}
	if d.Records.Rows != nil {
		for row := range d.Records.Rows {
			if err := out.Write(row); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}
