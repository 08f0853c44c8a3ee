package cli

import "woodlark.example/internal/report/document"

// write writes something in the format that was asked for: as it is in JSON, or how it reads.
func (c *call) write(v any, doc document.Document) error {
	switch c.format {
	case "json":
		return document.JSON(c.out, v)
	case "csv":
		return document.CSV(c.out, doc)
	}
	return document.Text(c.out, c.ink, doc)
}

// strong is what is read first, and faint what is read last.
func (c *call) strong(text string) string { return c.ink.Paint(document.Strong(text)) }

func (c *call) faint(text string) string { return c.ink.Paint(document.Faint(text)) }
