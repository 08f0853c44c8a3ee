package document

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func plotOf(values ...float64) Plot {
	at := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	p := Plot{Title: "RTT <of> it", Unit: "ms", From: at, To: at.Add(10 * time.Hour)}
	for i, v := range values {
		x := PlotPoint{At: at.Add(time.Duration(i) * time.Hour), Span: time.Hour}
		if v >= 0 {
			x.Value = &v
		}
		p.Points = append(p.Points, x)
	}
	return p
}

func (d Drawing) of(l Look) (list []Shape) {
	for _, s := range d.Shapes {
		if s.Look == l {
			list = append(list, s)
		}
	}
	return list
}

func TestWherePointsLie(t *testing.T) {
	p := plotOf(0, 10, 5, -1, 10)
	d := p.Draw()
	lines := d.of(Trace)
	require.Len(t, lines, 2, "what was not measured is a gap")
	w := plotWidth - plotLeft - plotRight
	assert.InDelta(t, plotLeft+w*0.05, lines[0].Points[0][0], 0.01, "the middle of the first hour of ten")
	assert.InDelta(t, plotHeight-plotBottom, lines[0].Points[0][1], 0.01)
	assert.InDelta(t, plotTop, lines[0].Points[1][1], 0.01)
	assert.InDelta(t, (plotTop+plotHeight-plotBottom)/2, lines[0].Points[2][1], 0.01)
	assert.InDelta(t, plotLeft+w*0.45, lines[1].Points[0][0], 0.01)
}

func TestLossHangsFromTheTop(t *testing.T) {
	p := plotOf(5, 5, 5)
	p.Points[1].Lost, p.Points[2].Lost = 0.25, 1
	loss := p.Draw().of(Loss)
	require.Len(t, loss, 2)
	length := func(s Shape) float64 { return s.Points[1][1] - s.Points[0][1] }
	assert.InDelta(t, plotTop, loss[0].Points[0][1], 0.01)
	assert.InDelta(t, 25, length(loss[0]), 0.01)
	assert.InDelta(t, mostLong, length(loss[1]), 0.01)
}

func TestHeights(t *testing.T) {
	for _, x := range []struct {
		values []float64
		says   string
	}{
		{[]float64{0, 10}, "0 2 4 6 8 10"}, {[]float64{100, 101}, "100 100.2 100.4 100.6 100.8 101"}, {[]float64{7}, "0 2 4 6 8"}, {[]float64{0}, "0 0.2 0.4 0.6 0.8 1"}, {[]float64{24, 6}, "0 5 10 15 20 25"}, {nil, ""},
	} {
		_, _, ticks := plotOf(x.values...).heights()
		var says []string
		for _, v := range ticks {
			says = append(says, fmt.Sprintf("%.6g", v))
		}
		assert.Equal(t, x.says, strings.Join(says, " "), "%v", x.values)
	}
}

// TestMidnightsOfADayOf23Hours stand where they are.
func TestMidnightsOfADayOf23Hours(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	p := Plot{From: time.Date(2026, 3, 27, 12, 0, 0, 0, zone), To: time.Date(2026, 3, 31, 12, 0, 0, 0, zone), Zone: zone}
	midnights := 0
	for _, h := range p.hours() {
		if h.says == h.at.Format("2 Jan") {
			midnights++
			assert.Equal(t, 0, h.at.Hour())
		}
	}
	assert.Equal(t, 4, midnights)
	assert.LessOrEqual(t, len(p.hours()), 9)
}

// TestAPageNeedsNothingElse: it is whole, nothing in it is fetched or run, and what is written
// in it stays text.
func TestAPageNeedsNothingElse(t *testing.T) {
	low, high := 1.0, 2.0
	p := plotOf(1, 2)
	p.Points[0].Low, p.Points[0].High = &low, &high
	p.Spans = []PlotSpan{{p.From, p.To, `"worse" & so`}}
	p.Flags = []PlotFlag{{p.From, "moved"}}
	d := Document{Parts: []Part{Line{2, Strong("<script>alert(1)</script>")}, Section{"A & B"}, Field{"name", "says"}, Field{"other", "too"}, Finding{"!", "text", "advice"},
		Table{Columns: []Column{{Name: "n", Right: true}}, Rows: [][]string{{"<b>"}}}, Picture{[]string{"a<b"}}, Gap{}, p}}
	var b bytes.Buffer
	require.NoError(t, HTML(&b, About{Title: "T & <x>", Made: "<i>"}, d))
	text := b.String()
	for _, never := range []string{"<script", "http:", "https:", "<img", "<link", "<i>"} {
		assert.NotContains(t, text, never)
	}
	for _, says := range []string{"&lt;script&gt;", "<html lang=\"en\">", "<title>T &amp; &lt;x&gt;</title>", "<dt>name</dt><dd>says</dd>\n<dt>other", "a&lt;b", "aria-label=\"RTT &lt;of&gt; it\"", "&#34;worse&#34; &amp; so", "class=\"band\"", "class=\"flag\""} {
		assert.Contains(t, text, says)
	}
	// Well formed but for the elements that have no end.
	body := strings.ReplaceAll(text[strings.Index(text, "<body>"):strings.Index(text, "</html>")], "<br>", "<br/>")
	dec := xml.NewDecoder(strings.NewReader(body))
	for {
		if _, err := dec.Token(); err != nil {
			assert.Equal(t, "EOF", err.Error())
			break
		}
	}
}

func TestAPlotAsText(t *testing.T) {
	assert.Contains(t, String(Ink{}, Document{Parts: []Part{plotOf(1, 8)}}), "▁")
	assert.Empty(t, strings.TrimSpace(String(Ink{}, Document{Parts: []Part{plotOf()}})))
}
