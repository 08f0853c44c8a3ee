package raster

import (
	"bytes"
	"image/color"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/report/document"
)

// TestWhereInkIs: the line is where its shape is, loss at the top, and paper elsewhere.
func TestWhereInkIs(t *testing.T) {
	at := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	v, none := 5.0, 0.0
	p := document.Plot{Unit: "ms", From: at, To: at.Add(4 * time.Hour)}
	for i := range 4 {
		p.Points = append(p.Points, document.PlotPoint{At: at.Add(time.Duration(i) * time.Hour), Span: time.Hour, Value: &v, Low: &none, High: &none})
	}
	p.Points[2].Lost = 1
	var b bytes.Buffer
	require.NoError(t, PNG(&b, p))
	img, err := png.Decode(&b)
	require.NoError(t, err)
	assert.Equal(t, 1440, img.Bounds().Dx())
	is := func(want color.RGBA, x, y float64) bool {
		r, g, b, _ := img.At(int(x*by), int(y*by)).RGBA()
		return uint8(r>>8) == want.R && uint8(g>>8) == want.G && uint8(b>>8) == want.B
	}
	var lines, loss []document.Shape
	for _, s := range p.Draw().Shapes {
		switch s.Look {
		case document.Trace:
			lines = append(lines, s)
		case document.Loss:
			loss = append(loss, s)
		}
	}
	a, c := lines[0].Points[0], lines[0].Points[1]
	assert.True(t, is(ink, (a[0]+c[0])/2, (a[1]+c[1])/2))
	assert.True(t, is(paper, (a[0]+c[0])/2, (a[1]+c[1])/2+6))
	assert.True(t, is(plum, loss[0].Points[0][0], loss[0].Points[1][1]-3))
	assert.True(t, is(paper, loss[0].Points[0][0], loss[0].Points[1][1]+5))
	assert.True(t, is(paper, 3, 3))
}
