package record

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
)

var now = time.Date(2026, 11, 12, 15, 12, 0, 0, time.UTC)

func file() File {
	id := ata.Identify{Serial: "KVA077M511", Model: "Korvan K4-2000", Sectors: 1000, LogicalSector: 512}
	f := New(now)
	f.Drives = []Drive{{Model: "Korvan K4-2000", Serial: "KVA077M511", Readings: []Reading{{
		ID: "one", At: now, TookMs: 38, Tool: "0.1.0", Place: "north bench", Decoded: map[signal.Name]float64{signal.Pending: 8},
		Pages: FromPages([]reading.Page{
			{Name: reading.PageIdentify, How: "IDENTIFY DEVICE", Bytes: id.Encode()},
			{
				Name: reading.PageAlarm,
				Fault: &drive.Fault{
					Class: drive.FaultNotPassed,
					What:  "SMART RETURN STATUS",
					Cause: "no registers",
					Extra: "Try a direct port.",
				},
			},
		}),
	}}}}
	return f
}

func text(t testing.TB, f File) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Write(&b, f))
	return b.String()
}

func TestAFileComesBackAsItWas(t *testing.T) {
	back, err := Read(strings.NewReader(text(t, file())))
	require.NoError(t, err)
	assert.Equal(t, file(), back)
	_, quick := plain([]byte(text(t, file())))
	assert.True(t, quick)
	pages := back.Drives[0].Readings[0].AsPages()
	assert.Equal(t, "Korvan K4-2000", reading.Decode(pages).Identity.Model)
	assert.Equal(t, "Try a direct port.", pages[1].Fault.Advice())
}

func TestAnythingWrongRefusesTheWholeFileWithItsPlace(t *testing.T) {
	good := text(t, file())
	replace := func(old, with string) string {
		require.Contains(t, good, old)
		return strings.Replace(good, old, with, 1)
	}
	for want, broken := range map[string]string{
		fmt.Sprintf("byte %d: it ends in the middle", len(good)/2): good[:len(good)/2],
		"no whole JSON text": "{]",
		"the record file, version: value must be one of 1, 2, 3": replace(`"version": 1`, `"version": 4`),
		"drives 1, left: ": replace(
			`"readings"`, `"left": {"sweeps": 1, "reworks": 0, "signatures": 0}, "readings"`,
		),
		"the record file, format: value must be":               replace(`"hylostat-record"`, `"another"`),
		"drives 1, readings 1, pages 1, name: 'ata/../x' does": replace(`"ata/identify"`, `"ata/../x"`),
		"drives 1, readings 1, at: '12.11.2026'": replace(
			`"2026-11-12T15:12:00Z",`+"\n     \"took", `"12.11.2026",`+"\n     \"took",
		),
		"drives 1, readings 1: additional properties 'secret'":    replace(`"took_ms"`, `"secret": 1, "took_ms"`),
		"drives 1, readings 1, pages 2, fault: missing property":  replace(`"back": "no registers"`, `"bacK": "no registers"`),
		"its pages are of Korvan K4-2000 KVA077M511, filed under": replace(`"serial": "KVA077M511"`, `"serial": "ANOTHER"`),
		"nested too deeply":               strings.Repeat(`{"a":`, 40) + "1" + strings.Repeat("}", 40),
		"got array, want object":          `[1]`,
		"drives: minItems: got 0, want 1": `{"format":"hylostat-record","version":1,"drives":[]}`,
	} {
		_, err := Read(strings.NewReader(broken))
		var wrong *Error
		if assert.ErrorAs(t, err, &wrong, want) {
			assert.Contains(t, err.Error(), want)
		}
	}
	twice := file()
	twice.Drives[0].Readings = append(twice.Drives[0].Readings, twice.Drives[0].Readings[0])
	_, err := Read(strings.NewReader(text(t, twice)))
	assert.ErrorContains(t, err, `readings 2: reading "one" stands twice`)
	huge := `{"format":"` + strings.Repeat("x", MostBytes) + `"}`
	_, err = Read(strings.NewReader(huge))
	assert.ErrorContains(t, err, fmt.Sprintf("larger than %d bytes", MostBytes))
}

// The quick way has the schema's bounds a second time: what is one beyond a bound is refused all the same.
func TestOneBeyondABoundIsRefused(t *testing.T) {
	long := func(n int) string { return strings.Repeat("x", n) }
	for place, change := range map[string]func(f *File){
		"model":     func(f *File) { f.Drives[0].Model = long(101) },
		"id":        func(f *File) { f.Drives[0].Readings[0].ID = long(101) },
		"took_ms":   func(f *File) { f.Drives[0].Readings[0].TookMs = 86_400_001 },
		"tool":      func(f *File) { f.Drives[0].Readings[0].Tool = long(501) },
		"place":     func(f *File) { f.Drives[0].Readings[0].Place = long(501) },
		"how":       func(f *File) { f.Drives[0].Readings[0].Pages[0].How = long(501) },
		"name":      func(f *File) { f.Drives[0].Readings[0].Pages[0].Name = reading.PageName("ata/" + long(41)) },
		"bytes":     func(f *File) { f.Drives[0].Readings[0].Pages[0].Bytes = make([]byte, 67_501) },
		"what":      func(f *File) { f.Drives[0].Readings[0].Pages[1].Fault.What = long(501) },
		"class":     func(f *File) { f.Drives[0].Readings[0].Pages[1].Fault.Class = "Loud" },
		"pages":     func(f *File) { r := &f.Drives[0].Readings[0]; r.Pages = append(r.Pages, make([]Page, 199)...) },
		"at: '2026": func(f *File) { r := &f.Drives[0].Readings[0]; r.At = r.At.In(time.FixedZone("", 3600)) },
	} {
		f := file()
		change(&f)
		_, err := Read(strings.NewReader(text(t, f)))
		assert.ErrorContains(t, err, place)
	}
}

func TestTheSchemaIsPublishedAsItIsUsed(t *testing.T) {
	var s map[string]any
	require.NoError(t, json.Unmarshal(Schema, &s))
	assert.Equal(t, "urn:hylostat:record:3", s["$id"])
}

// What stays with the writer is said in version 2; a file that leaves nothing is one that earlier programs read.
func TestAFileSaysWhatIsNotInIt(t *testing.T) {
	whole := file()
	whole.Leave(Left{})
	assert.Contains(t, text(t, whole), `"version": 1`)
	part := file()
	part.Leave(Left{Sweeps: 2, Signatures: 1})
	written := text(t, part)
	assert.Contains(t, written, `"version": 2`)
	_, quick := plain([]byte(written))
	assert.True(t, quick)
	back, err := Read(strings.NewReader(written))
	require.NoError(t, err)
	assert.Equal(t, &Left{Sweeps: 2, Signatures: 1}, back.Drives[0].Left)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(text(f, file())))
	left := file()
	left.Leave(Left{Reworks: 1})
	f.Add([]byte(text(f, left)))
	f.Add(
		[]byte(
			`{"format":"hylostat-record","version":1,"drives":[{"model":"m","serial":"s",` +
				`"readings":[{"id":"a","at":"2026-11-12T15:12:00Z","tool":"t","pages":[{"name":"nvme/log-02","bytes":"AAAA"}]}]}]}`,
		),
	)
	for _, doubtful := range []string{
		`"bytes":"","fault":{"class":"a","what":"w","back":"b"}`, `"bytes":null`, `"bytes":"AA==\n"`, `"Bytes":"AAAA"`,
		`"bytes":"AAAA","how":null`,
	} {
		f.Add(
			[]byte(
				`{"format":"hylostat-record","version":1,"drives":[{"model":"m","serial":"s",` +
					`"readings":[{"id":"a","at":"2026-11-12T15:12:00+00:00","took_ms":1.0,"tool":"t",` +
					`"pages":[{"name":"nvme/log-02",` + doubtful + `}]}]}]}`,
			),
		)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if got, err := Read(bytes.NewReader(b)); err == nil {
			_ = Write(&bytes.Buffer{}, got)
		}
		null, err := shallow(b)
		if _, ok := plain(b); ok && !null && err == nil {
			document, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
			require.NoError(t, err)
			require.NoError(t, schema().Validate(document), "the quick way takes nothing that the schema refuses")
		}
	})
}
