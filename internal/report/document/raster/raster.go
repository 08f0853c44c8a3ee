// Package raster prints what is drawn as PNG, for readers that show no vectors: mail.
//
//	err := raster.PNG(file, plot)
package raster

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"woodlark.example/internal/report/document"
)

// by is how many pixels a unit of a drawing has: for screens of today.
const by = 2.0

var (
	paper  = color.RGBA{255, 253, 247, 255}
	ink    = color.RGBA{27, 42, 71, 255}
	soft   = color.RGBA{86, 96, 122, 255}
	ochre  = color.RGBA{141, 82, 0, 255}
	plum   = color.RGBA{125, 36, 89, 255}
	line   = color.RGBA{221, 213, 195, 255}
	ribbon = color.RGBA{217, 224, 236, 255}
)

// PNG writes what is drawn as PNG.
func PNG(w io.Writer, p document.Drawn) error {
	d := p.Draw()
	letters, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return fmt.Errorf("read the letters: %w", err)
	}
	face, err := opentype.NewFace(letters, &opentype.FaceOptions{Size: 10 * by, DPI: 72})
	if err != nil {
		return fmt.Errorf("read the letters: %w", err)
	}
	c := canvas{image.NewRGBA(image.Rect(0, 0, int(d.W*by), int(d.H*by))), face}
	draw.Draw(c.img, c.img.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	for _, s := range d.Shapes {
		c.shape(s)
	}
	if err := png.Encode(w, c.img); err != nil {
		return fmt.Errorf("write a picture: %w", err)
	}
	return nil
}

type canvas struct {
	img  *image.RGBA
	face font.Face
}

func (c canvas) shape(s document.Shape) {
	switch s.Look {
	case document.Label:
		c.text(s)
	case document.Band:
		c.fill(s.Points, ribbon)
	case document.Flag, document.Half:
		c.fill(s.Points, ochre)
	case document.Land:
		c.fill(s.Points, line)
	case document.Water:
		c.fill(s.Points, paper)
	case document.Dot:
		c.fill(s.Points, ink)
	case document.Gone:
		c.lines(s.Points, 2.2, plum)
	case document.Degraded:
		c.lines(s.Points, 2, ochre)
	case document.Edge:
		c.lines(s.Points, 1.4, ochre)
	case document.Unmeasured:
		c.lines(s.Points, 1, soft)
	case document.Steady:
		c.lines(s.Points, 0.8, ink)
	case document.Told:
		for i := range s.Points {
			c.dashes(s.Points[i], s.Points[(i+1)%len(s.Points)])
		}
	case document.Second:
		c.lines(s.Points, 1.3, ochre)
	case document.Limit:
		c.lines(s.Points, 1, plum)
	case document.Axis:
		c.lines(s.Points, 0.6, line)
	case document.Loss:
		c.lines(s.Points, 2, plum)
	default:
		c.lines(s.Points, 1.3, ink)
	}
}

func (c canvas) text(s document.Shape) {
	d := font.Drawer{Dst: c.img, Src: image.NewUniform(soft), Face: c.face}
	w := d.MeasureString(s.Text)
	x := fixed.Int26_6(s.Points[0][0] * by * 64)
	switch s.Anchor {
	case "middle":
		x -= w / 2
	case "end":
		x -= w
	}
	d.Dot = fixed.Point26_6{X: x, Y: fixed.Int26_6(s.Points[0][1] * by * 64)}
	d.DrawString(s.Text)
}

// fill draws an area; only as much of the picture is worked on as it takes.
func (c canvas) fill(points [][2]float64, with color.Color) {
	low, high := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for _, p := range points {
		for i := range p {
			low[i], high[i] = min(low[i], p[i]*by), max(high[i], p[i]*by)
		}
	}
	box := image.Rect(int(math.Floor(low[0])), int(math.Floor(low[1])), int(math.Ceil(high[0]))+1, int(math.Ceil(high[1]))+1)
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for i, p := range points {
		if x, y := float32(p[0]*by-float64(box.Min.X)), float32(p[1]*by-float64(box.Min.Y)); i == 0 {
			r.MoveTo(x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(c.img, box, image.NewUniform(with), image.Point{})
}

// lines draws a line of a width through points.
func (c canvas) lines(points [][2]float64, width float64, with color.Color) {
	for i := 1; i < len(points); i++ {
		c.stroke(points[i-1], points[i], width, with)
	}
}

func (c canvas) stroke(a, b [2]float64, width float64, with color.Color) {
	dx, dy := b[0]-a[0], b[1]-a[1]
	length := math.Hypot(dx, dy)
	if length == 0 {
		return
	}
	nx, ny := -dy/length*width/2, dx/length*width/2
	// A little longer, so that the joints of steep lines are closed.
	ex, ey := dx/length*width/4, dy/length*width/4
	c.fill([][2]float64{{a[0] + nx - ex, a[1] + ny - ey}, {b[0] + nx + ex, b[1] + ny + ey}, {b[0] - nx + ex, b[1] - ny + ey}, {a[0] - nx - ex, a[1] - ny - ey}}, with)
}

func (c canvas) dashes(a, b [2]float64) {
	const on, off = 3.0, 2.0
	length := math.Hypot(b[0]-a[0], b[1]-a[1])
	for at := 0.0; at < length; at += on + off {
		p, q := at/length, min(1, (at+on)/length)
		c.stroke([2]float64{a[0] + (b[0]-a[0])*p, a[1] + (b[1]-a[1])*p}, [2]float64{a[0] + (b[0]-a[0])*q, a[1] + (b[1]-a[1])*q}, 1, ochre)
	}
}
