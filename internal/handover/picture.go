package handover

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"

	"github.com/boombuler/barcode/qr"
)

// codePixels is how many pixels a module of a code's picture has; codeQuiet how many modules are around it (ISO/IEC 18004, 6.3.8).
const codePixels, codeQuiet = 4, 4

// CodePicture draws a text as a QR code: a PNG, black on white.
func CodePicture(text string) ([]byte, error) {
	code, err := qr.Encode(text, qr.M, qr.Unicode)
	if err != nil {
		return nil, fmt.Errorf("making a code: %w", err)
	}
	n := code.Bounds().Dx()
	side := (n + 2*codeQuiet) * codePixels
	picture := image.NewPaletted(image.Rect(0, 0, side, side), color.Palette{color.White, color.Black})
	for y := range side {
		for x := range side {
			column, row := x/codePixels-codeQuiet, y/codePixels-codeQuiet
			if column >= 0 && row >= 0 && column < n && row < n && dark(code.At(column, row).RGBA()) {
				picture.SetColorIndex(x, y, 1)
			}
		}
	}
	var b bytes.Buffer
	err = png.Encode(&b, picture)
	return b.Bytes(), err
}
