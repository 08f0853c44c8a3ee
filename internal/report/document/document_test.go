package document_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/report/document"
)

// whole is a document with each part.
func whole() document.Document {
	var d document.Document
	d.Say("%s  from %s", document.Strong("holm"), "quay")
	d.Say("    a line that belongs to it")
	d.Section("What was found")
	d.Add(document.Finding{Sign: "◆", Text: "It is slow.", Advice: "Look."}, document.Finding{Sign: "›", Text: "That is all."})
	d.Field("answered", "%d of %d", 3, 4)
	d.Gap()
	d.Add(document.Table{Indent: 2, Columns: []document.Column{{Name: "path"}, {Name: "RTT", Right: true}, {Name: "note", Width: 6}, {Name: "end"}},
		Rows: [][]string{{document.Strong("a → b"), "9.5 ms", "", "x"}, {"long one", document.Lost("10.2 ms"), "", "y"}}})
	d.Add(document.Beside([]string{"there", "back"}, [][]string{{"received", "1", "2"}, {"lost", "–", ""}}))
	d.Add(document.Mirror{There: "there", Back: "back", Most: 2, Rows: []document.MirrorRow{{At: 0, There: document.Side{Value: 1, Known: true, Says: "1"}, Back: document.Side{Says: "nothing"}}}})
	d.Add(document.Cells{Rows: []document.CellRow{{Name: "192.0.2.0", Cells: "▪·" + document.Lost("○")}}, Legend: "▪ answers"})
	d.Add(document.Picture{Lines: []string{"▁▂▃"}})
	d.Records = document.RecordsOf([]string{"target", "rtt_ms"}, [][]string{{"holm, the far one", "9.5"}, {"pier", ""}})
	return d
}

func TestText(t *testing.T) {
	want := `holm  from quay
    a line that belongs to it

What was found
  ◆ It is slow.
    Look.
  › That is all.
  answered   3 of 4

  path          RTT  note    end
  a → b      9.5 ms          x
  long one  10.2 ms          y
            there  back
  received  1      2
` + "                                            there │ back\n" + `      0s               1             ▪▪▪▪▪▪▪▪▪▪▪▪ │                          nothing
  192.0.2.0       ▪·○
  ▪ answers
▁▂▃
`
	assert.Equal(t, want, document.String(document.Ink{}, whole()))
	coloured := document.String(document.NewInk(true), whole())
	assert.Contains(t, coloured, "\x1b[1mholm\x1b[")
	assert.Contains(t, coloured, "\x1b[38;5;125m10.2 ms\x1b[")
	assert.Equal(t, want, plain(coloured), "colours change no place")
}

// plain leaves out what colours.
func plain(s string) string {
	var b strings.Builder
	inside := false
	for _, r := range s {
		switch {
		case r == '\x1b':
			inside = true
		case inside:
			inside = r != 'm'
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func TestRecords(t *testing.T) {
	var b strings.Builder
	require.NoError(t, document.CSV(&b, document.Join(whole(), whole())))
	assert.Equal(t, "target,rtt_ms\n\"holm, the far one\",9.5\npier,\n\"holm, the far one\",9.5\npier,\n", b.String(), "of several there is one heading")
	b.Reset()
	require.NoError(t, document.CSV(&b, document.Document{Records: document.Records{Columns: []string{"a"}}}))
	assert.Equal(t, "a\n", b.String(), "none are a heading alone")
	require.Error(t, document.CSV(full{}, whole()))
	require.Error(t, document.Text(full{}, document.Ink{}, whole()))
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left") }

// TestMarksStayWhatTheyAre: a text from outside cannot colour what is behind it.
func TestMarksStayWhatTheyAre(t *testing.T) {
	evil := "a" + document.Lost("b")[:3] + "c"
	assert.Equal(t, document.Strong("ac"), document.Strong(evil))
	assert.Empty(t, document.Faint(""))
}

func TestListsWithNothing(t *testing.T) {
	d := document.Of(document.Table{Columns: []document.Column{{Name: "a"}}}, document.Records{Columns: []string{"a"}}).OrSay(0, "There is none.")
	assert.Equal(t, "There is none.\n", document.String(document.Ink{}, d))
	dense := document.Table{Columns: []document.Column{{Name: "a"}, {Name: "b"}}, Rows: [][]string{{"1", ""}, {"2", ""}}}.Dense()
	assert.Equal(t, [][]string{{"1"}, {"2"}}, dense.Rows)
	assert.Len(t, dense.Columns, 1)
}
