// Package report writes results for people and machines: text for a terminal,
// JSON and CSV.
package report

import (
	"fmt"
	"io"
	"time"

	"github.com/fatih/color"

	"woodlark.example/internal/api/apitype"
)

// Ink is how text is coloured: not at all unless at a terminal. Ochre and plum
// are of the palette of 256 colours, to be read on light and on dark grounds.
type Ink struct {
	strong, faint, ochre, plum *color.Color
	colours                    bool
}

// NewInk returns an ink that colours or not.
func NewInk(colours bool) Ink {
	i := Ink{color.New(color.Bold), color.New(color.Faint), color.New(38, 5, 136), color.New(38, 5, 125), colours}
	for _, c := range []*color.Color{i.strong, i.faint, i.ochre, i.plum} {
		if colours {
			c.EnableColor()
		} else {
			c.DisableColor()
		}
	}
	return i
}

// Colours reports whether it colours.
func (i Ink) Colours() bool { return i.colours }

// Strong is for what is read first.
func (i Ink) Strong(s string) string { return i.strong.Sprint(s) }

// Faint is for what is read last.
func (i Ink) Faint(s string) string { return i.faint.Sprint(s) }

// State is a path's state by mark and word, and colour where there is any.
func (i Ink) State(state string) string {
	switch state {
	case "degraded":
		return i.ochre.Sprint("◆ degraded")
	case "lost":
		return i.plum.Sprint("⊖ lost")
	case "unmeasured":
		return i.faint.Sprint("◌ unmeasured")
	}
	return "● steady"
}

// Lost marks what was lost.
func (i Ink) Lost(s string) string { return i.plum.Sprint(s) }

// Refused marks what was refused.
func (i Ink) Refused(s string) string { return i.ochre.Sprint(s) }

// Ends writes a path's two ends.
func (i Ink) Ends(p apitype.Path) string { return i.ends(p.From, p.To, p.Family, p.Via) }

func (i Ink) ends(from, to string, family int, via string) string {
	return i.Strong(from+" → "+to) + i.Faint(fmt.Sprintf("  IPv%d%s", family, otherVia(via)))
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

// lines writes formatted lines and keeps the first error.
type lines struct {
	w   io.Writer
	err error
}

func (l *lines) put(format string, args ...any) {
	if l.err == nil {
		_, l.err = fmt.Fprintf(l.w, format+"\n", args...)
	}
}
