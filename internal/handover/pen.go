package handover

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"
	"strings"
	"sync"
	"time"
	"unicode"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// pen draws in black on white, in millimetres from the top left. Sizes of type are in points. What a PDF and a picture show is
// drawn once, with one of two pens.
type pen interface {
	box(x, y, w, h float64)
	shape(points ...[2]float64)
	write(x, y, size float64, bold bool, words string) // y is the baseline
	width(size float64, bold bool, words string) float64
	dot() float64 // the smallest step that is sharp; 0: any
}

const pointsPerMM = 72 / 25.4

// paperPen draws on a page of a PDF.
type paperPen struct {
	*fpdf.Fpdf
	dx, dy float64 // of the label on its sheet
}

// newPaper begins a PDF with pages of a size in millimetres. It carries the moment it was made for and none of its own, so that
// the same content makes the same file.
func newPaper(title string, w, h float64, at time.Time) *fpdf.Fpdf {
	f := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: w, Ht: h}})
	f.SetMargins(0, 0, 0)
	f.SetAutoPageBreak(false, 0)
	f.SetCellMargin(0)
	f.SetCatalogSort(true)
	f.SetCreationDate(at)
	f.SetModificationDate(at)
	f.SetTitle(title, true)
	f.SetCreator("Hylostat", true)
	f.SetLang("en")
	f.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	f.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	return f
}

func (p paperPen) font(size float64, bold bool) {
	style := ""
	if bold {
		style = "B"
	}
	p.SetFont("sans", style, size)
}

func (p paperPen) box(x, y, w, h float64) {
	p.SetFillColor(0, 0, 0)
	p.Rect(p.dx+x, p.dy+y, w, h, "F")
}

func (p paperPen) shape(points ...[2]float64) {
	all := make([]fpdf.PointType, len(points))
	for i, q := range points {
		all[i] = fpdf.PointType{X: p.dx + q[0], Y: p.dy + q[1]}
	}
	p.SetFillColor(0, 0, 0)
	p.Polygon(all, "F")
}

func (p paperPen) write(x, y, size float64, bold bool, words string) {
	p.font(size, bold)
	p.Text(p.dx+x, p.dy+y, printable(words))
}

func (p paperPen) width(size float64, bold bool, words string) float64 {
	p.font(size, bold)
	return p.GetStringWidth(printable(words))
}

func (p paperPen) dot() float64 { return 0 }

// picturePen draws on a picture.
type picturePen struct {
	*image.Gray
	dpi   float64
	faces map[[2]float64]font.Face
}

func newPicture(w, h, dpi float64) *picturePen {
	p := &picturePen{
		image.NewGray(image.Rect(0, 0, int(math.Round(w/25.4*dpi)), int(math.Round(h/25.4*dpi)))),
		dpi,
		map[[2]float64]font.Face{},
	}
	draw.Draw(p.Gray, p.Bounds(), image.White, image.Point{}, draw.Src)
	return p
}

func (p *picturePen) at(mm float64) float64 { return mm / 25.4 * p.dpi }

func (p *picturePen) dot() float64 { return 25.4 / p.dpi }

func (p *picturePen) box(x, y, w, h float64) {
	r := image.Rect(int(math.Round(p.at(x))), int(math.Round(p.at(y))), int(math.Round(p.at(x+w))), int(math.Round(p.at(y+h))))
	draw.Draw(p.Gray, r, image.Black, image.Point{}, draw.Src)
}

func (p *picturePen) shape(points ...[2]float64) {
	v := vector.NewRasterizer(p.Bounds().Dx(), p.Bounds().Dy())
	for i, q := range points {
		if x, y := float32(p.at(q[0])), float32(p.at(q[1])); i == 0 {
			v.MoveTo(x, y)
		} else {
			v.LineTo(x, y)
		}
	}
	v.ClosePath()
	v.Draw(p.Gray, p.Bounds(), image.Black, image.Point{})
}

func (p *picturePen) face(size float64, bold bool) font.Face {
	key := [2]float64{size, 0}
	if bold {
		key[1] = 1
	}
	if p.faces[key] == nil {
		regular, strong := fonts()
		if bold {
			regular = strong
		}
		face, err := opentype.NewFace(regular, &opentype.FaceOptions{Size: size, DPI: p.dpi, Hinting: font.HintingFull})
		if err != nil { // only a nonsensical size fails
			panic(fmt.Sprintf("type of %f points: %v", size, err))
		}
		p.faces[key] = face
	}
	return p.faces[key]
}

func (p *picturePen) write(x, y, size float64, bold bool, words string) {
	d := font.Drawer{
		Dst:  p.Gray,
		Src:  image.Black,
		Face: p.face(size, bold),
		Dot:  fixed.P(int(math.Round(p.at(x))), int(math.Round(p.at(y)))),
	}
	d.DrawString(printable(words))
}

func (p *picturePen) width(size float64, bold bool, words string) float64 {
	return float64(font.MeasureString(p.face(size, bold), printable(words))) / 64 / p.dpi * 25.4
}

// save writes the picture in one ink, with its size on paper in it (PNG, third edition, 11.3.4.3: pHYs, pixels per metre).
func (p *picturePen) save(w io.Writer) error {
	ink := image.NewPaletted(p.Bounds(), color.Palette{color.White, color.Black})
	for i, y := range p.Pix {
		if y < 128 {
			ink.Pix[i] = 1
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, ink); err != nil {
		return err
	}
	const headerEnd = 8 + 12 + 13 // signature and IHDR
	chunk := make([]byte, 4+9)
	copy(chunk, "pHYs")
	perMetre := uint32(math.Round(p.dpi / 0.0254))
	binary.BigEndian.PutUint32(chunk[4:], perMetre)
	binary.BigEndian.PutUint32(chunk[8:], perMetre)
	chunk[12] = 1
	var size, sum [4]byte
	binary.BigEndian.PutUint32(size[:], 9)
	binary.BigEndian.PutUint32(sum[:], crc32.ChecksumIEEE(chunk))
	for _, part := range [][]byte{b.Bytes()[:headerEnd], size[:], chunk, sum[:], b.Bytes()[headerEnd:]} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	return nil
}

// fonts are the two cuts everything is written in.
var fonts = sync.OnceValues(func() (regular, bold *sfnt.Font) {
	parse := func(ttf []byte) *sfnt.Font {
		f, err := opentype.Parse(ttf)
		if err != nil {
			panic(fmt.Sprintf("the type that is built in: %v", err))
		}
		return f
	}
	return parse(liberationsansregular.TTF), parse(liberationsansbold.TTF)
})

// notPrintable stands where the type has no letter.
const notPrintable = '□'

// printable replaces what cannot be written on paper: letters the type does not have, and control characters.
func printable(s string) string {
	regular, _ := fonts()
	var buffer sfnt.Buffer
	return strings.Map(func(r rune) rune {
		if r == '\u00A0' || r == '\u202F' {
			return '\u00A0'
		}
		if r < 0x7F && r >= 0x20 {
			return r
		}
		if i, err := regular.GlyphIndex(&buffer, r); err != nil || i == 0 || unicode.IsControl(r) || r > 0xFFFF {
			if unicode.Is(unicode.Mn, r) || unicode.IsControl(r) {
				return -1
			}
			return notPrintable
		}
		return r
	}, s)
}

// wrap breaks a text into lines of at most a width; a word that is wider is broken in itself.
func wrap(p pen, size float64, bold bool, words string, width float64) []string {
	var lines []string
	line := ""
	for _, word := range strings.FieldsFunc(words, func(r rune) bool { return r == ' ' || r == '\n' || r == '\t' }) {
		joined := word
		if line != "" {
			joined = line + " " + word
		}
		if p.width(size, bold, joined) <= width {
			line = joined
			continue
		}
		if line != "" {
			lines = append(lines, line)
		}
		line = word
		for p.width(size, bold, line) > width {
			part := cut(p, size, bold, line, width)
			lines, line = append(lines, part), line[len(part):]
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// cut is as much of a text as fits, one letter at least.
func cut(p pen, size float64, bold bool, words string, width float64) string {
	end := 0
	for i, r := range words {
		next := i + len(string(r))
		if end > 0 && p.width(size, bold, words[:next]) > width {
			break
		}
		end = next
	}
	return words[:end]
}

// fit shortens a text to a width, with an ellipsis where something is missing.
func fit(p pen, size float64, bold bool, words string, width float64) string {
	if p.width(size, bold, words) <= width {
		return words
	}
	return strings.TrimRight(cut(p, size, bold, words, width-p.width(size, bold, "…")), " ,;") + "…"
}
