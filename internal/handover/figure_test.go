package handover

import (
	"bytes"
	"image/png"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/shop"
)

// swept is a sweep of a small drive, three quarters done, with one unreadable sector.
func swept(t *testing.T) (shop.Sweep, check.Found) {
	t.Helper()
	g, err := surface.NewGeometry(512<<20, 512, 4096, 0, 7200, 0)
	require.NoError(t, err)
	w := surface.New(g, nil)
	for range 384 {
		r, ok := w.Next()
		require.True(t, ok)
		o := surface.Outcome{Took: 7 * time.Millisecond}
		if r.Number == 100 {
			o.Took = 90 * time.Millisecond
		}
		w.Tell(r, o)
	}
	var d check.Found
	for n := range w.Ribbon().Blocks() {
		d.Blocks = append(d.Blocks, check.Block{Number: n, Cells: w.Ribbon().PackBlock(n)})
	}
	d.Heat = []check.Heat{{Share: 0.1, Celsius: 36}, {Share: 0.6, Celsius: 41}}
	return shop.Sweep{
		Sweep: check.Sweep{
			Run:      7,
			Kind:     check.WholeSweep,
			Standing: check.Standing{Geometry: g, Share: 0.75, Unreadable: 1, Slow: 1, Confirmed: 1},
		},
	}, d
}

func TestAFigureSaysWhatTheSweepFound(t *testing.T) {
	one, d := swept(t)
	var b bytes.Buffer
	require.NoError(t, SweepFigure(&b, SVG, "KVA077M4Q2", one, d))
	for _, words := range []string{
		"KVA077M4Q2", "run 7", "goes on", "1 sector cannot be read.", "1 place is slow, twice.", "537 MB", "not swept", "32 slow",
		"41 °C", "Revolutions lost",
	} {
		assert.True(t, strings.Contains(b.String(), words), words)
	}
	assert.Less(t, b.Len(), 400_000)
}

func TestAFigureIsAPictureOfItsSize(t *testing.T) {
	one, d := swept(t)
	var b bytes.Buffer
	require.NoError(t, SweepFigure(&b, PNG, "KVA077M4Q2", one, d))
	picture, err := png.Decode(&b)
	require.NoError(t, err)
	assert.Equal(t, figureWidth*96/72, picture.Bounds().Dx())
	dark := 0 // the slow place is drawn in the ink of its class
	for x := range picture.Bounds().Dx() {
		for y := range picture.Bounds().Dy() {
			if r, g, bl, _ := picture.At(x, y).
				RGBA(); r>>8 == 0x44 && g>>8 == 0x40 && bl>>8 == 0x3A ||
				r>>8 == 0x16 && g>>8 == 0x15 && bl>>8 == 0x14 {
				dark++
			}
		}
	}
	assert.Positive(t, dark)
}

func TestABrokenRibbonIsNoFigure(t *testing.T) {
	one, d := swept(t)
	d.Blocks[0].Cells = d.Blocks[0].Cells[1:]
	err := SweepFigure(&bytes.Buffer{}, SVG, "KVA077M4Q2", one, d)
	require.Error(t, err)
	assert.True(t, strings.Contains(err.Error(), "run 7"))
}
