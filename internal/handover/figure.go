// Package handover makes what leaves the shop: so far the figure of a sweep, as SVG or PNG. Start with SweepFigure.
package handover

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"sync"

	xfont "golang.org/x/image/font"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Format is the file format of a figure.
type Format string

// The formats.
const (
	SVG Format = "svg"
	PNG Format = "png"
)

// The figure's measures, in points: the same picture as in the console, for paper. Ink alone tells everything, so that it
// reads in black and white.
const (
	figureWidth  = 1240
	figureHeight = 640
	gutter       = 96
	plotWidth    = 1024
	titleHeight  = 56
	overview     = 64
	heatTop      = 72
	heatHeight   = 36
	rowsFrom     = 136
	pitch        = 52
	rowCount     = 8
)

// Colours of the light theme; the classes of slowness from the drive's own pace to the slowest.
var (
	ink     = color.NRGBA{0x1B, 0x1C, 0x1E, 0xFF}
	ink2    = color.NRGBA{0x4A, 0x4A, 0x48, 0xFF}
	edge    = color.NRGBA{0x85, 0x7F, 0x70, 0xFF}
	rule    = color.NRGBA{0xD8, 0xD3, 0xC4, 0xFF}
	well    = color.NRGBA{0xF2, 0xEF, 0xE6, 0xFF}
	paper   = color.NRGBA{0xFF, 0xFF, 0xFF, 0xFF}
	bad     = color.NRGBA{0x6E, 0x07, 0x22, 0xFF}
	classes = [surface.Classes]color.NRGBA{
		{
			0xDD,
			0xD8,
			0xCA,
			0xFF,
		},
		{0xBD, 0xB6, 0xA4, 0xFF},
		{0x97, 0x90, 0x7E, 0xFF},
		{0x6D, 0x67, 0x59, 0xFF},
		{0x44, 0x40, 0x3A, 0xFF},
		{0x16, 0x15, 0x14, 0xFF},
	}
)

// sheet draws in points from the top left.
type sheet struct {
	draw.Canvas
	fonts text.Handler
}

func (s sheet) point(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(figureHeight - y)}
}

func (s sheet) line(c color.Color, width float64, points ...[2]float64) {
	all := make([]vg.Point, len(points))
	for i, p := range points {
		all[i] = s.point(p[0], p[1])
	}
	s.StrokeLines(draw.LineStyle{Color: c, Width: vg.Length(width)}, all)
}

func (s sheet) box(c color.Color, x, y, w, h float64) {
	s.FillPolygon(c, []vg.Point{s.point(x, y), s.point(x+w, y), s.point(x+w, y+h), s.point(x, y+h)})
}

// write writes a text whose baseline is at y; right has it end at x.
func (s sheet) write(x, y, size float64, bold, right bool, c color.Color, words string) {
	weight := font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}
	if bold {
		weight.Weight = xfont.WeightBold
	}
	style := draw.TextStyle{Color: c, Font: weight, Handler: s.fonts, YAlign: draw.YBottom}
	if right {
		style.XAlign = draw.XRight
	}
	s.FillText(style, s.point(x, y), words)
}

// SweepFigure draws a sweep: speed over the whole surface, temperature, and eight rows of cells.
func SweepFigure(w io.Writer, format Format, serial string, one shop.Sweep, d check.Found) error {
	ribbon := surface.NewRibbon(one.Standing.Geometry)
	for _, b := range d.Blocks {
		if err := ribbon.UnpackBlock(b.Number, b.Cells); err != nil {
			return fmt.Errorf("drawing the sweep of run %d: %w", one.Run, err)
		}
	}
	var canvas vg.CanvasWriterTo
	if format == PNG {
		canvas = vgimg.PngCanvas{
			Canvas: vgimg.NewWith(vgimg.UseWH(figureWidth, figureHeight), vgimg.UseDPI(96), vgimg.UseBackgroundColor(paper)),
		}
	} else {
		canvas = vgsvg.NewWith(vgsvg.UseWH(figureWidth, figureHeight))
	}
	s := sheet{draw.New(canvas), text.Plain{Fonts: font.NewCache(faces())}}
	s.box(paper, 0, 0, figureWidth, figureHeight)
	figure{s, ribbon, one.Standing, d.Heat}.all(serial, one)
	_, err := canvas.WriteTo(w)
	return err
}

// figure is one sweep on its sheet.
type figure struct {
	sheet
	ribbon *surface.Ribbon
	sweep  check.Standing
	heat   []check.Heat
}

func (f figure) all(serial string, one shop.Sweep) {
	when := "goes on"
	if !one.Ended.IsZero() {
		when = one.Ended.UTC().Format("2 Jan 2006, 15:04 UTC")
	}
	f.write(gutter, 26, 18, true, false, ink, serial)
	f.write(
		gutter, 44, 12, false, false, ink2,
		fmt.Sprintf("%s, run %d, %s. %s", one.Kind.Title(), one.Run, when, strings.Join(wording.All(f.sweep.Says(one.Once)), " ")),
	)
	top := f.top()
	f.overview(top)
	f.temperature()
	for r := range rowCount {
		f.row(r, top)
	}
	f.legend()
}

// legend says what the shades mean.
func (f figure) legend() {
	title, words := "Revolutions lost", []string{"under ½", "to 2", "to 4", "to 8", "to 16", "more"}
	if f.sweep.Geometry.RPM == 0 {
		title, words = "Times the local pace", []string{"under 2", "to 4", "to 8", "to 16", "to 64", "more"}
	}
	y := float64(titleHeight + rowsFrom + rowCount*pitch + 18)
	f.write(gutter, y, 11, false, false, ink2, title)
	for class, w := range words {
		x := gutter + 128 + float64(class)*80
		f.box(classes[class], x, y-11, 12, 12)
		f.write(x+18, y, 11, false, false, ink2, w)
	}
	f.notch(gutter+620, y-8, 1)
	f.write(gutter+634, y, 11, false, false, ink2, "unreadable")
}

// top is the end of the one scale of speed, bytes per second.
func (f figure) top() float64 {
	high := 0.0
	for _, c := range f.ribbon.Cells() {
		high = math.Max(high, c.Speed())
	}
	for step := 1e7; ; step *= 10 {
		for _, n := range []float64{1, 2, 2.5, 5} {
			if n*step >= high {
				return n * step
			}
		}
	}
}

// merged is some cells as one mark; the worst wins.
type merged struct {
	speed  float64
	worst  int // -1: nothing swept
	unread uint32
}

func (f figure) merge(from, to int) merged {
	m := merged{worst: -1}
	for _, c := range f.ribbon.Cells()[min(from, len(f.ribbon.Cells())):min(to, len(f.ribbon.Cells()))] {
		if v := c.Speed(); v > 0 && (m.speed == 0 || v < m.speed) {
			m.speed = v
		}
		if c.Swept() {
			m.worst = max(m.worst, int(c.Worst))
		}
		m.unread += c.Unread
	}
	return m
}

// place writes a position on the surface.
func (f figure) place(share float64) string {
	bytes := float64(f.sweep.Geometry.Bytes())
	if bytes >= 1e10 {
		return wording.Number(math.Round(share*bytes/1e9)) + " GB"
	}
	return wording.Number(math.Round(share*bytes/1e6)) + " MB"
}

func (f figure) overview(top float64) {
	y := float64(titleHeight)
	n := len(f.ribbon.Cells())
	f.line(rule, 1, [2]float64{gutter, y}, [2]float64{gutter + plotWidth, y})
	f.line(edge, 1, [2]float64{gutter, y + overview}, [2]float64{gutter + plotWidth, y + overview})
	f.write(gutter-8, y+10, 11, false, true, ink2, wording.Number(top/1e6)+" MB/s")
	f.write(gutter-8, y+overview, 11, false, true, ink2, "0")
	var curve [][2]float64
	for x := range plotWidth {
		m := f.merge(x*n/plotWidth, max(x*n/plotWidth+1, (x+1)*n/plotWidth))
		if m.speed > 0 {
			curve = append(curve, [2]float64{gutter + float64(x) + 0.5, y + overview*(1-m.speed/top)})
		}
		if m.unread > 0 {
			f.notch(gutter+float64(x), y+overview, -1)
		}
	}
	if len(curve) > 1 {
		f.line(ink, 1.5, curve...)
	}
}

func (f figure) temperature() {
	y := float64(titleHeight + heatTop)
	at := func(celsius int) float64 {
		return y + heatHeight*(1-(math.Min(math.Max(float64(celsius), 20), 60)-20)/40)
	}
	f.box(well, gutter, at(45), plotWidth, at(35)-at(45))
	f.line(edge, 1, [2]float64{gutter, y + heatHeight}, [2]float64{gutter + plotWidth, y + heatHeight})
	f.write(gutter-8, y+24, 11, false, true, ink2, "20 to 60 °C")
	var curve [][2]float64
	for _, h := range f.heat {
		curve = append(curve, [2]float64{gutter + h.Share*plotWidth, at(h.Celsius)})
	}
	if len(curve) > 1 {
		f.line(ink, 1.5, curve...)
	}
	for i := range 5 {
		x := gutter + float64(i)*plotWidth/4
		f.line(edge, 1, [2]float64{x, y + heatHeight}, [2]float64{x, y + heatHeight + 4})
		f.write(x+[]float64{0, 20, 20, 20, 0}[i], y+heatHeight+16, 11, false, i > 0, ink2, f.place(float64(i)/4))
	}
	if n := len(f.heat); n > 0 {
		f.write(gutter+plotWidth+8, y+24, 11, false, false, ink2, fmt.Sprintf("%d °C", f.heat[n-1].Celsius))
	}
}

func (f figure) row(r int, top float64) {
	y := float64(titleHeight + rowsFrom + r*pitch)
	n := (len(f.ribbon.Cells()) + rowCount - 1) / rowCount
	first := r * n
	f.write(gutter-8, y+36, 11, false, true, ink2, f.place(float64(first)/float64(len(f.ribbon.Cells()))))
	f.line(rule, 1, [2]float64{gutter, y + 20}, [2]float64{gutter + plotWidth, y + 20})
	var curve [][2]float64
	var cuts []float64
	run, from := -1, 0 // cells of one class in a row are one box: seams between boxes would show
	flush := func(class, to int) {
		if run >= 0 && to > from {
			height := 16.0
			if run >= surface.SlowFrom {
				height = 20
			}
			f.box(classes[run], gutter+float64(from), y+24, float64(to-from), height)
		}
		run, from = class, to
	}
	for x := range plotWidth {
		m := f.merge(first+x*n/plotWidth, min(first+n, max(first+x*n/plotWidth+1, first+(x+1)*n/plotWidth)))
		at := gutter + float64(x)
		if m.speed > 0 {
			curve = append(curve, [2]float64{at + 0.5, y + 20*(1-m.speed/top)})
		}
		if m.worst != run {
			flush(m.worst, x)
		}
		if m.unread > 0 {
			cuts = append(cuts, at)
		}
	}
	flush(-1, plotWidth)
	if len(curve) > 1 {
		f.line(ink, 1, curve...)
	}
	f.line(
		edge, 1, [2]float64{gutter, y + 24}, [2]float64{gutter + plotWidth, y + 24}, [2]float64{gutter + plotWidth, y + 40},
		[2]float64{gutter, y + 40}, [2]float64{gutter, y + 24},
	)
	for _, x := range cuts {
		f.box(paper, x-2, y+23, 4, 18)
		f.notch(x, y+18, 1)
		f.notch(x, y+46, -1)
	}
	slow := 0
	for _, c := range f.ribbon.Cells()[min(first, len(f.ribbon.Cells())):min(first+n, len(f.ribbon.Cells()))] {
		if c.Swept() && c.Worst >= surface.SlowFrom {
			slow++
		}
	}
	whole := f.merge(first, first+n)
	words, c := fmt.Sprintf("%d slow", slow), ink2
	switch {
	case whole.worst < 0 && whole.unread == 0:
		words = "not swept"
	case whole.unread > 0:
		words, c = fmt.Sprintf("%d unreadable", whole.unread), bad
	}
	f.write(gutter+plotWidth+8, y+36, 11, whole.unread > 0, false, c, words)
}

// notch points at an unreadable place, down (1) or up (-1).
func (f figure) notch(x, y, towards float64) {
	f.FillPolygon(bad, []vg.Point{f.point(x-6, y), f.point(x+6, y), f.point(x, y+7*towards)})
}

// faces are the fonts that figures are lettered in: those of the papers.
var faces = sync.OnceValue(func() font.Collection {
	regular, bold := fonts()
	sans := font.Font{Typeface: "Liberation", Variant: "Sans"}
	heavy := sans
	heavy.Weight = xfont.WeightBold
	return font.Collection{{Font: sans, Face: regular}, {Font: heavy, Face: bold}}
})
