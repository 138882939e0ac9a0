package handover

import (
	"fmt"
	"io"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/boombuler/barcode/qr"

	"hylostat.example/internal/core/drive"
)

// Stock is a kind of label stock.
type Stock struct {
	Name          string
	Width, Height float64 // of one label, mm
	Across, Down  int     // on a sheet of A4; 0: a roll
}

// Stocks are those that are drawn for; the first is the usual one.
var Stocks = []Stock{
	{"62x29", 62, 29, 0, 0}, {"57x32", 57, 32, 0, 0}, {"89x36", 89, 36, 0, 0}, {"a4-24", 70, 37, 3, 8},
}

// StockByName finds one; the usual one for no name.
func StockByName(name string) (Stock, error) {
	for _, s := range Stocks {
		if s.Name == name || name == "" {
			return s, nil
		}
	}
	return Stock{}, fmt.Errorf("there is no label stock %q", name)
}

// A4, in millimetres.
const pageWidth, pageHeight = 210, 297

// LabelPDF draws labels, each on a page of its own, or on sheets.
func LabelPDF(w io.Writer, stock Stock, labels []Label, at time.Time) error {
	width, height := stock.Width, stock.Height
	perPage := 1
	if stock.Across > 0 {
		width, height, perPage = pageWidth, pageHeight, stock.Across*stock.Down
	}
	f := newPaper("Labels", width, height, at)
	for i, l := range labels {
		place := i % perPage
		if place == 0 {
			f.AddPageFormat("P", fpdf.SizeType{Wd: width, Ht: height})
		}
		p := paperPen{Fpdf: f}
		if stock.Across > 0 {
			p.dx = float64(place%stock.Across) * stock.Width
			p.dy = float64(place/stock.Across)*stock.Height + (pageHeight-float64(stock.Down)*stock.Height)/2
		}
		if err := drawLabel(p, stock, l); err != nil {
			return err
		}
	}
	return f.Output(w)
}

// LabelPNG draws a label in one ink, for a label printer of that many dots per inch.
func LabelPNG(w io.Writer, stock Stock, l Label, dpi int) error {
	p := newPicture(stock.Width, stock.Height, float64(dpi))
	if err := drawLabel(p, stock, l); err != nil {
		return err
	}
	return p.save(w)
}

// drawLabel: the code at the left, mark and word, the serial's ending, two lines, a rule, when it was checked.
func drawLabel(p pen, stock Stock, l Label) error {
	const margin, gap = 2.0, 2.5
	inner := stock.Height - 2*margin
	side := min(inner*0.84, stock.Width*0.34)
	if err := drawCode(p, l.Link, margin, margin+(inner-side)/2, side); err != nil {
		return err
	}
	x := margin + side + gap
	room := stock.Width - margin - x
	unit := min(inner/25, room/35) // all is drawn for 35 x 25 mm
	top := margin + (inner-25*unit)/2
	drawMark(p, l.Grade, x, top, 5*unit)
	word := l.Word
	size := 5 * unit * pointsPerMM
	for p.width(size, true, word) > room-6.5*unit {
		size *= 0.95
	}
	p.write(x+6.5*unit, top+4.6*unit, size, true, word)
	ending := 4.6 * unit * pointsPerMM
	useSize := 2.5 * unit * pointsPerMM
	for least := 0.7 * useSize; p.width(useSize, false, l.Use) > room*0.5 && useSize > least; {
		useSize *= 0.95
	}
	use := fit(p, useSize, false, l.Use, room*0.5)
	useWidth := p.width(useSize, false, use)
	for p.width(ending, true, l.Ending) > room-useWidth-1.5*unit {
		ending *= 0.95
	}
	p.write(x, top+10.6*unit, ending, true, l.Ending)
	p.write(x+p.width(ending, true, l.Ending)+1.5*unit, top+10.6*unit, useSize, false, use)
	small := 2.5 * unit * pointsPerMM
	y := top + 14.4*unit
	what := l.Lines[0]
	lines := wrap(p, small, false, what, room)           // the first may take two lines, the last is what to do
	for len(lines) > 2 && strings.Contains(what, "; ") { // the most urgent finding whole, rather than a part of the next
		what = what[:strings.LastIndex(what, "; ")]
		lines = wrap(p, small, false, what, room)
	}
	if len(lines) > 2 {
		lines = []string{lines[0], fit(p, small, false, lines[1]+" "+lines[2], room)}
	}
	for _, line := range append(lines, fit(p, small, false, l.Lines[1], room)) {
		p.write(x, y, small, false, line)
		y += 3.05 * unit
	}
	p.box(x, top+21.5*unit, room, max(0.2, p.dot()))
	p.write(x, top+24.6*unit, small, false, fit(p, small, false, l.Foot, room))
	return nil
}

// drawCode draws a QR code (ISO/IEC 18004) with its quiet zone in a square.
func drawCode(p pen, link string, x, y, side float64) error {
	code, err := qr.Encode(link, qr.M, qr.Unicode)
	if err != nil {
		return fmt.Errorf("making a code of %q: %w", link, err)
	}
	n := code.Bounds().Dx()
	module := side / float64(n+4) // two modules around: the label's edge is white, too
	if dot := p.dot(); dot > 0 {
		module = float64(int(module/dot)) * dot
	}
	x += (side - module*float64(n)) / 2
	y += (side - module*float64(n)) / 2
	if dot := p.dot(); dot > 0 {
		x, y = float64(int(x/dot))*dot, float64(int(y/dot))*dot
	}
	for row := range n {
		for from := 0; from < n; from++ {
			to := from
			for to < n && dark(code.At(to, row).RGBA()) {
				to++
			}
			if to > from {
				p.box(x+float64(from)*module, y+float64(row)*module, float64(to-from)*module, module)
			}
			from = max(from, to)
		}
	}
	return nil
}

func dark(r, _, _, _ uint32) bool { return r < 0x8000 }

// drawMark draws a grade's mark in a square: told by shape alone.
func drawMark(p pen, g drive.Grade, x, y, side float64) {
	s := side / 24
	draw := func(points ...[2]float64) {
		for i := range points {
			points[i] = [2]float64{x + points[i][0]*s, y + points[i][1]*s}
		}
		p.shape(points...)
	}
	switch g {
	case drive.Healthy:
		draw([2]float64{8, 2}, [2]float64{16, 2}, [2]float64{16, 22}, [2]float64{8, 22})
	case drive.Degrading:
		draw([2]float64{15, 2}, [2]float64{22, 2}, [2]float64{9, 22}, [2]float64{2, 22})
	case drive.Replace:
		draw([2]float64{3, 2}, [2]float64{11, 2}, [2]float64{11, 14}, [2]float64{3, 9})
		draw([2]float64{13, 10}, [2]float64{21, 15}, [2]float64{21, 22}, [2]float64{13, 22})
	default:
		for _, top := range []float64{1, 9, 17} {
			octagon := [][2]float64{}
			for _, q := range [][2]float64{{10.8, 0}, {13.2, 0}, {15, 1.8}, {15, 4.2}, {13.2, 6}, {10.8, 6}, {9, 4.2}, {9, 1.8}} {
				octagon = append(octagon, [2]float64{q[0], q[1] + top})
			}
			draw(octagon...)
		}
	}
}
