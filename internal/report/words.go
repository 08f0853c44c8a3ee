// Package report is how results read: each as a document, which is printed as text or as CSV;
// and as JSON.
package report

import (
	"fmt"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report/document"
)

// Ends writes a path's two ends.
func Ends(p apitype.Path) string { return endsOf(p.From, p.To, p.Family, p.Via) }

func endsOf(from, to string, family int, via string) string {
	return document.Strong(from+" → "+to) + document.Faint(fmt.Sprintf("  IPv%d%s", family, otherVia(via)))
}

func otherVia(via string) string {
	if via == "" || via == "icmp" {
		return ""
	}
	return " by " + via
}

// When writes a time for a reader in a zone: the weekday helps for the last
// days, the year for what is long ago.
func When(t time.Time, zone *time.Location) string {
	t = t.In(zone)
	if time.Since(t) > 300*24*time.Hour {
		return t.Format("2 Jan 2006 15:04")
	}
	return t.Format("Mon 2 Jan 15:04")
}
