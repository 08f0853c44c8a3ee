package pdf_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/report/document"
	"woodlark.example/internal/report/document/pdf"
)

var made = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)

// printed is a document as a file, and what its reader reads.
func printed(t *testing.T, a document.About, d document.Document) (file []byte, text string) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, pdf.Print(&b, a, made, d))
	name := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, os.WriteFile(name, b.Bytes(), 0o600))
	out, err := exec.Command("pdftotext", "-layout", name, "-").Output()
	require.NoError(t, err, "is poppler-utils there?")
	return b.Bytes(), string(out)
}

func TestAllPartsAreRead(t *testing.T) {
	v := 6.5
	var d document.Document
	d.Say("%s  %s", document.Strong("northquay → holm"), document.Faint("IPv4"))
	d.Say("  %s since Monday", document.Changed("◆ degraded"))
	d.Section("Figures")
	d.Field("answered", "60 of 60")
	d.Add(document.Finding{Sign: "!", Text: "It got worse.", Advice: "Call them."})
	d.Add(document.Table{Columns: []document.Column{{Name: "measure"}, {Name: "before", Right: true}}, Rows: [][]string{{"RTT", "6.5 ms ± 0.1"}}})
	d.Add(document.Picture{Lines: []string{"a──┬──b", "   └──c"}})
	d.Add(document.Mirror{There: "there", Back: "back", Most: 2, Rows: []document.MirrorRow{{At: 1, There: document.Side{Value: 1, Known: true, Says: "1 Mbit/s"}}}})
	d.Add(document.Cells{Rows: []document.CellRow{{Name: "192.0.2.0/28", Cells: "x..x"}}, Legend: "x answered"})
	d.Add(document.Plot{Title: "Median round trip", Unit: "ms", From: made, To: made.Add(24 * time.Hour), Points: []document.PlotPoint{{At: made, Span: time.Hour, Value: &v}, {At: made.Add(time.Hour), Span: time.Hour, Value: &v, Lost: 0.5}}})
	file, text := printed(t, document.About{Title: "Degraded paths", Subject: "A week", Made: "Made by hand."}, d)
	for _, says := range []string{"Degraded paths", "A week", "northquay → holm", "IPv4", "degraded since Monday", "Figures", "answered", "60 of 60", "It got worse.", "Call them.", "measure", "6.5 ms ± 0.1", "└──c", "1 Mbit/s", "x answered", "Median round trip", "Made by hand."} {
		assert.Contains(t, text, says)
	}
	assert.Regexp(t, `Made by hand\. +1 ?/ ?1\n`, text)
	assert.Contains(t, string(file), "/Lang (en)")
	fonts := regexp.MustCompile(`/FontFile2`).FindAll(file, -1)
	assert.NotEmpty(t, fonts, "the letters are inside")
	assert.NotContains(t, string(file), "/Subtype /Type1", "none is of the reader's")
	info, err := exec.Command("pdfinfo", filepath.Join(write(t, file), "x.pdf")).Output()
	require.NoError(t, err)
	assert.Regexp(t, `Title: +Degraded paths`, string(info))
}

func write(t *testing.T, file []byte) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.pdf"), file, 0o600))
	return dir
}

// TestNothingRunsOffThePage: long rows, long words and many rows; the head of a table comes
// again on each page, and a row is whole.
func TestNothingRunsOffThePage(t *testing.T) {
	rows := [][]string{}
	for i := range 300 {
		rows = append(rows, []string{fmt.Sprintf("row%03d", i), strings.Repeat("word ", 30) + "last", strings.Repeat("x", 200)})
	}
	var d document.Document
	d.Add(document.Table{Columns: []document.Column{{Name: "thename"}, {Name: "words"}, {Name: "letters"}}, Rows: rows})
	file, text := printed(t, document.About{Title: "Long"}, d)
	pages := strings.Count(text, "\f")
	assert.Greater(t, pages, 10)
	assert.Equal(t, pages, strings.Count(text, "thename"))
	for i := range 300 {
		assert.Contains(t, text, fmt.Sprintf("row%03d", i))
	}
	assert.Equal(t, 300, strings.Count(text, "last"))
	assert.Equal(t, 300*200, strings.Count(strings.Split(text, "Characters")[0], "x"))
	assert.Regexp(t, fmt.Sprintf("%d ?/ ?%d", pages, pages), text)
	box, err := exec.Command("pdftotext", "-bbox", filepath.Join(write(t, file), "x.pdf"), "-").Output()
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`xMax="([0-9.]+)" yMax="([0-9.]+)"`).FindAllStringSubmatch(string(box), -1) {
		var x, y float64
		_, err := fmt.Sscan(m[1], &x)
		require.NoError(t, err)
		_, err = fmt.Sscan(m[2], &y)
		require.NoError(t, err)
		if x > 595.3-30 || y > 841.9-20 {
			t.Fatalf("a word ends at %v, %v", x, y)
		}
	}
}

// TestLettersThatAreMissing are shown as such, and never end it.
func TestLettersThatAreMissing(t *testing.T) {
	var d document.Document
	d.Say("海 😀 héllo Ångström Привет\x00\t\u202f!")
	_, text := printed(t, document.About{Title: "海"}, d)
	assert.Contains(t, text, "héllo Ångström Привет")
	assert.Contains(t, text, "□ □ héllo")
	assert.Contains(t, text, "lack are shown as □")
}
