package document

import "strings"

// Marks are how parts of a text are meant; a printer shows them as it can. They do not nest.
const (
	ends    = '\uE000' // of private use, so that no text has them
	strong  = '\uE001'
	faint   = '\uE002'
	changed = '\uE003'
	lost    = '\uE004'
)

func marked(mark rune, text string) string {
	if text == "" {
		return ""
	}
	return string(mark) + strings.Map(func(r rune) rune {
		if isMark(r) {
			return -1
		}
		return r
	}, text) + string(ends)
}

func isMark(r rune) bool { return r >= ends && r <= lost }

// Strong is for what is read first.
func Strong(text string) string { return marked(strong, text) }

// Faint is for what is read last.
func Faint(text string) string { return marked(faint, text) }

// Changed marks what is other than it was, or was refused.
func Changed(text string) string { return marked(changed, text) }

// Lost marks what was lost.
func Lost(text string) string { return marked(lost, text) }

// Mark is how a run of text is meant.
type Mark rune

// The marks.
const (
	IsPlain   Mark = 0
	IsStrong       = Mark(strong)
	IsFaint        = Mark(faint)
	IsChanged      = Mark(changed)
	IsLost         = Mark(lost)
)

// Run is a stretch of text that is meant in one way.
type Run struct {
	Text string
	Mark Mark
}

// Runs are those of a text with marks.
func Runs(text string) (list []Run) {
	var now strings.Builder
	as := IsPlain
	flush := func() {
		if now.Len() > 0 {
			list = append(list, Run{now.String(), as})
			now.Reset()
		}
	}
	for _, r := range text {
		if !isMark(r) {
			now.WriteRune(r)
			continue
		}
		flush()
		if as = Mark(r); r == ends {
			as = IsPlain
		}
	}
	flush()
	return list
}
