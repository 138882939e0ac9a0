package copymap

import (
	"bytes"
	"crypto/sha256"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/core/surface"
)

var header = Header{
	Copy:  Version,
	From:  Source{Model: "Korvan K2-1000", Serial: "KVL026D2VN", Bytes: 1 << 30, Sector: 512, Physical: 4096},
	Image: "2219-6D2VN.image", Began: time.Date(2026, 11, 12, 15, 31, 0, 0, time.UTC), Tool: "hylostat 0.1.0",
}

func extent(t *rapid.T) surface.Extent {
	lba := rapid.Uint64Range(0, 1<<21-1).Draw(t, "lba")
	return surface.Extent{LBA: lba, Sectors: rapid.Uint64Range(1, min(1<<21-lba, 4096)).Draw(t, "sectors")}
}

// What was added is there when the map is opened again, at whatever byte its last line ended; in another run of the machine, all but what
// was copied since it was held last.
func TestAMapIsWhatWasAddedToIt(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		file := filepath.Join(dir, "a.map")
		_ = os.Remove(file)
		here, there := surface.NewMap(1<<21), surface.NewMap(1<<21) // as it is in this run of the machine, and in the next
		var open []surface.Extent
		boot := "one"
		for range rapid.IntRange(1, 4).Draw(t, "times") {
			w, m, err := Open(file, header, boot)
			require.NoError(t, err)
			require.Equal(t, here.Parts(), m.Parts())
			for range rapid.IntRange(0, 12).Draw(t, "lines") {
				p := surface.Part{Extent: extent(t), Kept: surface.Kept(rapid.IntRange(0, 4).Draw(t, "kept"))}
				if p.Kept == surface.Failed || p.Kept == surface.Missing {
					p.Tries, p.Cause = uint8(rapid.IntRange(1, 5).Draw(t, "tries")), surface.Medium
				}
				require.NoError(t, w.Add(p, sha256.Sum256(nil)))
				here.Set(p)
				there.Set(p)
				if p.Kept == surface.Copied {
					open = append(open, p.Extent)
				}
				if rapid.IntRange(0, 5).Draw(t, "held") == 0 {
					require.NoError(t, w.Held())
					open = nil
				}
			}
			require.NoError(t, w.Close())
			if rapid.Bool().Draw(t, "torn") {
				f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
				require.NoError(t, err)
				_, _ = f.WriteString(`{"lba":0,"sectors":2097152,"is":"missing"}`[:rapid.IntRange(1, 42).Draw(t, "bytes")])
				require.NoError(t, f.Close())
			}
			if rapid.Bool().Draw(t, "starts anew") {
				boot += "+"
				for _, e := range open {
					there.Set(surface.Part{Extent: e})
				}
				*here, open = *there, nil
				b, err := os.ReadFile(file)
				require.NoError(t, err)
				_, m, _, err := Read(bytes.NewReader(b), boot)
				require.NoError(t, err)
				require.Equal(t, there.Parts(), m.Parts())
			}
			there = surface.NewMap(1 << 21)
			for _, p := range here.Parts() {
				there.Set(p)
			}
		}
	})
}

func TestTheMapOfAnotherDriveIsRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "a.map")
	w, _, err := Open(file, header, "one")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	other := header
	other.From.Serial = "KVL026D47B"
	_, _, err = Open(file, other, "one")
	var refused *OtherError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, err.Error(), "KVL026D2VN")
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, before, after, "nothing was added to it")
}

func TestWhatIsNoMapIsTold(t *testing.T) {
	good := `{"copy":1,"from":{"bytes":1048576,"sector":512}}` + "\n"
	for text, says := range map[string]string{
		"":                              "first line",
		"no map\n":                      "not that of a map",
		`{"copy":2,"from":{}}` + "\n":   "version 2",
		`{"copy":1,"from":{}}` + "\n":   "no size",
		good + "{\n":                    "line 2: it is no JSON",
		good + `{"is":"found"}` + "\n":  `line 2: "found"`,
		good + `{"is":"copied"}` + "\n": "line 2: it is of no sectors",
		good + `{"is":"failed","sectors":1,"cause":"mood"}` + "\n": `line 2: "mood"`,
		good + string(bytes.Repeat([]byte("x"), 1<<17)) + "\n":     "line 2: it is longer",
	} {
		_, _, _, err := Read(bytes.NewReader([]byte(text)), "")
		assert.ErrorContains(t, err, says, "%.60q", text)
	}
}
