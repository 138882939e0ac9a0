// Package record is the format of record files: what drives said, as they said it, to be carried from one machine to another.
// The published schema, record.schema.json, is the format; Read holds every file against it, most of them by plain. It stands apart
// from the rest of
// handover because a machine without a service writes such files, too. Start with File.
package record

import (
	"bytes"
	"cmp"
	_ "embed" // the schema
	jsonv1 "encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/seal"
)

// Schema is the published JSON Schema of the format.
//
//go:embed record.schema.json
var Schema []byte

// Bounds of a file, and what every one begins with.
const (
	format = "hylostat-record"
	// A file is written as the lowest version that can say what is in it: earlier programs read version 1.
	versionPlain, versionLeft, versionFolded = 1, 2, 3

	MostBytes = 64 << 20
	mostDepth = 12 // of nested objects and arrays
)

// File is a record file.
type File struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	Written time.Time `json:"written,omitzero"`
	Drives  []Drive   `json:"drives"`
	// Signature is by whoever wrote the file, of all the rest of it; nil: it is not signed.
	Signature *seal.Signature `json:"signature,omitempty"`

	// SignedBy names the key of a good signature, once the file is read; empty: it is not signed.
	SignedBy string `json:"-"`
}

// Sign signs a file as it stands.
func (f *File) Sign(k seal.Key) error {
	body, err := f.signed()
	if err != nil {
		return err
	}
	s := k.Sign(seal.Record, body)
	f.Signature, f.SignedBy = &s, k.Name()
	return nil
}

// signed is what the signature is of: the file without it, as it is written without spaces.
func (f File) signed() ([]byte, error) {
	f.Signature = nil
	return jsonv1.Marshal(f)
}

// verify tells whose the signature is. A file whose signature is broken is refused.
func (f *File) verify() error {
	if f.Signature == nil {
		return nil
	}
	body, err := f.signed()
	if err == nil {
		f.SignedBy, err = f.Signature.Verify(seal.Record, body)
	}
	if err != nil {
		return &Error{"signature", err.Error()}
	}
	return nil
}

// New is an empty file.
func New(now time.Time) File {
	return File{Format: format, Version: versionPlain, Written: now.UTC().Truncate(time.Second), Drives: []Drive{}}
}

// Drive is a drive with its readings, oldest first.
type Drive struct {
	Model    string    `json:"model"`
	Serial   string    `json:"serial"`
	Readings []Reading `json:"readings"`
	Left     *Left     `json:"left,omitempty"` // what is known of the drive where the file was written and is not in it; version 2
}

// Left is how much of each stays with the shop that wrote a file: runs and signatures are a shop's own acts, with its own numbers and
// people.
type Left struct {
	Sweeps     int `json:"sweeps"`
	Reworks    int `json:"reworks"`
	Signatures int `json:"signatures"`
}

// Leave notes what is not in the file of its last drive; nothing makes no note.
func (f *File) Leave(l Left) {
	if l != (Left{}) {
		f.Version, f.Drives[len(f.Drives)-1].Left = max(f.Version, versionLeft), &l
	}
}

// Fold notes at which times, by reading, its last drive was read without more being kept of it.
func (f *File) Fold(times map[string][]time.Time) {
	d := &f.Drives[len(f.Drives)-1]
	for i := range d.Readings {
		if at := times[d.Readings[i].ID]; len(at) > 0 {
			f.Version, d.Readings[i].Folded = versionFolded, at
		}
	}
}

// Key is the drive's name.
func (d Drive) Key() drive.Key {
	return drive.Key{Model: cmp.Or(drive.Name(d.Model), "(blank)"), Serial: cmp.Or(drive.Name(d.Serial), "(blank)")}
}

// Reading is the pages a drive sent at one moment.
type Reading struct {
	ID      string                  `json:"id"`
	At      time.Time               `json:"at"`
	TookMs  int64                   `json:"took_ms"`
	Tool    string                  `json:"tool"`
	Place   string                  `json:"place,omitempty"`
	Origin  string                  `json:"origin,omitempty"` // of a reading that came to the writer in a file: whose signature that had
	Pages   []Page                  `json:"pages"`
	Decoded map[signal.Name]float64 `json:"decoded,omitempty"`
	// Folded is when the drive was read between the reading before and this one: only clocks and temperatures moved, and the writer keeps
	// no more of it; version 3.
	Folded []time.Time `json:"folded,omitempty"`
}

// Page is one page: bytes as the drive sent them, or why there are none.
type Page struct {
	Name  reading.PageName `json:"name"`
	How   string           `json:"how,omitempty"`
	Bytes []byte           `json:"bytes,omitempty"`
	Fault *Fault           `json:"fault,omitempty"`
}

// Fault is why a page has no bytes.
type Fault struct {
	Class  drive.FaultClass `json:"class"`
	What   string           `json:"what"`
	Cause  string           `json:"back"`
	Advice string           `json:"advice,omitempty"`
}

// FromPages makes the pages of a file.
func FromPages(all []reading.Page) []Page {
	out := make([]Page, len(all))
	for i, p := range all {
		out[i] = Page{Name: p.Name, How: p.How, Bytes: p.Bytes}
		switch {
		case p.Fault != nil:
			out[i].Bytes, out[i].Fault = nil, &Fault{p.Fault.Class, p.Fault.What, p.Fault.Cause, p.Fault.Extra}
		case p.Bytes == nil: // an answer of no bytes is an answer
			out[i].Fault = &Fault{Class: drive.FaultBadAnswer, What: p.How, Cause: "an answer without bytes"}
		}
	}
	return out
}

// AsPages makes pages to decode.
func (r Reading) AsPages() []reading.Page {
	out := make([]reading.Page, len(r.Pages))
	for i, p := range r.Pages {
		out[i] = reading.Page{Name: p.Name, How: p.How, Bytes: p.Bytes}
		if p.Fault != nil {
			out[i].Fault = &drive.Fault{Class: p.Fault.Class, What: p.Fault.What, Cause: p.Fault.Cause, Extra: p.Fault.Advice}
		}
	}
	return out
}

// Error says why a file is refused, and where in it.
type Error struct {
	Place  string // "drives 1, readings 3, pages 2, bytes"; empty for the file as a whole
	Reason string
}

func (e *Error) Error() string {
	if e.Place == "" {
		return "the record file: " + e.Reason
	}
	return fmt.Sprintf("the record file, %s: %s", e.Place, e.Reason)
}

var schema = sync.OnceValue(func() *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err == nil {
		c := jsonschema.NewCompiler()
		c.AssertContent()
		if err = c.AddResource("record.schema.json", document); err == nil {
			var s *jsonschema.Schema
			if s, err = c.Compile("record.schema.json"); err == nil {
				return s
			}
		}
	}
	panic("record: the embedded schema: " + err.Error()) // a test reads it, so a release cannot get here
})

// Read reads a whole file and holds it against the schema. A file that breaks it anywhere is refused whole, as an *Error.
func Read(in io.Reader) (File, error) {
	text, err := io.ReadAll(io.LimitReader(in, MostBytes+1))
	if err != nil {
		return File{}, fmt.Errorf("reading the record file: %w", err)
	}
	if len(text) > MostBytes {
		return File{}, &Error{"", fmt.Sprintf("it is larger than %d bytes", MostBytes)}
	}
	null, err := shallow(text)
	if err != nil {
		return File{}, err
	}
	if !null {
		if f, ok := plain(text); ok {
			return f, errors.Join(f.consistent(), f.verify())
		}
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		place := ""
		if wrong, ok := errors.AsType[*jsonv1.SyntaxError](err); ok {
			place = fmt.Sprintf("byte %d", wrong.Offset)
		}
		return File{}, &Error{place, "it is no whole JSON text: " + err.Error()}
	}
	if err := schema().Validate(document); err != nil {
		return File{}, violation(err)
	}
	var f File
	if err := jsonv1.Unmarshal(text, &f); err != nil {
		return File{}, &Error{"", err.Error()}
	}
	return f, errors.Join(f.consistent(), f.verify())
}

// plain reads a file, without a null, that breaks the schema nowhere, as nearly all do. It never takes one that does, but it may
// leave one that does not: what is doubtful here, like an empty text, is for the schema itself to say, which costs several times as
// much and tells where the file is wrong.
func plain(text []byte) (f File, ok bool) {
	if err := json.Unmarshal(text, &f, json.RejectUnknownMembers(true)); err != nil {
		return f, false
	}
	return f, f.within()
}

// Bounds of the schema that is held against every file. Bytes are of what they stand for.
const (
	mostDrives, mostReadings, mostPages, mostDecoded, mostFolded = 1000, 20000, 200, 200, 1000
	longestText, longestName                                     = 500, 100
	longestPage                                                  = 66_000
	longestTook                                                  = 24 * 60 * 60 * 1000
	mostLeft                                                     = 1_000_000
)

var (
	idForm    = regexp.MustCompile(`^[A-Za-z0-9._-]{1,100}$`)
	pageForm  = regexp.MustCompile(`^(ata|nvme|scsi|image)/[a-z0-9-]{1,40}$`)
	faultForm = regexp.MustCompile(`^[a-z_]{1,40}$`)
)

// within reports whether a file is certainly within the schema's bounds.
func (f File) within() bool {
	if f.Format != format || f.Version < versionPlain || f.Version > versionFolded ||
		!f.Written.IsZero() && f.Written.Location() != time.UTC || len(f.Drives) == 0 ||
		len(f.Drives) > mostDrives || f.Signature != nil && (len(f.Signature.Key) != 32 || len(f.Signature.Value) != 64) {
		return false
	}
	names := map[reading.PageName]bool{} // they repeat
	for i := range f.Drives {
		d := &f.Drives[i]
		if !isText(d.Model, longestName) || !isText(d.Serial, longestName) || len(d.Readings) == 0 || len(d.Readings) > mostReadings {
			return false
		}
		if l := d.Left; l != nil &&
			(f.Version < versionLeft || min(l.Sweeps, l.Reworks, l.Signatures) < 0 || max(l.Sweeps, l.Reworks, l.Signatures) > mostLeft) {
			return false
		}
		for j := range d.Readings {
			if !d.Readings[j].within(names) || len(d.Readings[j].Folded) > 0 && f.Version < versionFolded {
				return false
			}
		}
	}
	return true
}

func (r *Reading) within(names map[reading.PageName]bool) bool {
	if !idForm.MatchString(r.ID) || r.At.IsZero() || r.At.Location() != time.UTC || r.TookMs < 0 || r.TookMs > longestTook ||
		!isText(
			r.Tool, longestText,
		) || len(r.Place) > longestText || len(r.Origin) > longestText || len(r.Pages) == 0 || len(r.Pages) > mostPages ||
		len(r.Decoded) > mostDecoded || len(r.Folded) > mostFolded || slices.ContainsFunc(r.Folded, func(t time.Time) bool {
		return t.IsZero() || t.Location() != time.UTC
	}) {
		return false
	}
	for i := range r.Pages {
		p := &r.Pages[i]
		if !names[p.Name] {
			if !pageForm.MatchString(string(p.Name)) {
				return false
			}
			names[p.Name] = true
		}
		if len(p.How) > longestText || len(p.Bytes) > longestPage || len(p.Bytes) == 0 && p.Fault == nil ||
			p.Bytes != nil && p.Fault != nil {
			return false
		}
		if x := p.Fault; x != nil &&
			(!faultForm.MatchString(string(x.Class)) || !isText(x.What, longestText) || !isText(x.Cause, longestText) ||
				len(x.Advice) > longestText) {
			return false
		}
	}
	return true
}

func isText(s string, longest int) bool { return s != "" && len(s) <= longest }

// shallow refuses what is nested deeper than the format is, before anything is built of it, and reports whether a null stands in it.
func shallow(text []byte) (null bool, err error) {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"':
			end := closing(text[i+1:])
			if end < 0 {
				return null, &Error{fmt.Sprintf("byte %d", len(text)), "it ends in the middle"}
			}
			i += 1 + end
		case 'n': // no other word of JSON has one
			null = true
		case '{', '[':
			if depth++; depth > mostDepth {
				return null, &Error{fmt.Sprintf("byte %d", i+1), "it is nested too deeply"}
			}
		case '}', ']':
			depth--
		}
	}
	if depth > 0 {
		return null, &Error{fmt.Sprintf("byte %d", len(text)), "it ends in the middle"}
	}
	return null, nil
}

// closing is where the text that begins here ends; -1 when it does not.
func closing(text []byte) int {
	for from := 0; ; {
		at := bytes.IndexByte(text[from:], '"')
		if at < 0 {
			return -1
		}
		at += from
		escapes := 0
		for escapes < at-from && text[at-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
			return at
		}
		from = at + 1
	}
}

// violation finds the deepest cause of a schema error and says where it is.
func violation(err error) error {
	v, ok := errors.AsType[*jsonschema.ValidationError](err)
	if !ok {
		return &Error{"", err.Error()}
	}
	for len(v.Causes) > 0 {
		v = v.Causes[0]
	}
	return &Error{place(v.InstanceLocation), v.ErrorKind.LocalizedString(message.NewPrinter(language.English))}
}

// place puts the parts of a location into words, counting from 1.
func place(parts []string) string {
	var words []string
	for _, p := range parts {
		var n int
		if _, err := fmt.Sscanf(p, "%d", &n); err == nil && len(words) > 0 {
			words[len(words)-1] += fmt.Sprintf(" %d", n+1)
			continue
		}
		words = append(words, p)
	}
	return strings.Join(words, ", ")
}

// consistent checks what a schema cannot: the pages must be of the drive they are filed under, and an id stands once.
func (f File) consistent() error {
	seen := map[string]bool{}
	for i, d := range f.Drives {
		for j, r := range d.Readings {
			at := fmt.Sprintf("drives %d, readings %d", i+1, j+1)
			if seen[r.ID] {
				return &Error{at, fmt.Sprintf("reading %q stands twice", r.ID)}
			}
			seen[r.ID] = true
			if key := reading.Named(r.AsPages()); key.IsValid() && key != d.Key() {
				return &Error{at, fmt.Sprintf("its pages are of %s, filed under %s", key, d.Key())}
			}
		}
	}
	return nil
}

// Write writes a file, indented so that people can read it.
func Write(out io.Writer, f File) error {
	e := jsonv1.NewEncoder(out)
	e.SetIndent("", " ")
	return e.Encode(f)
}
