// Package copymap reads and writes the map of a copy, which lies beside its image: JSON Lines, one object on each line, in the order in
// which things happened. The first line is the Header. Every other line says one thing, by its word "is":
//
//   - "copied": the sectors from lba on are in the image, at the same place; sum is the BLAKE3 of their bytes, in hexadecimal;
//   - "skipped": left for later, and not tried; "to come": as if nobody had tried;
//   - "failed": a read that held them failed, tries times; it is tried again; "missing": given up. cause says how the last read ended;
//   - "held": the destination was told to keep what it has, and all "copied" lines before this one rely on that;
//   - "opened": somebody goes on with the copy; boot is the machine's run in which that was.
//
// A later line replaces what an earlier one said of the same sectors. Who adds to a map while a machine runs relies on its kernel to keep
// both files; what was not held before another run of the machine counts as not copied. Start with Open.
package copymap

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"hylostat.example/internal/core/surface"
)

// Version is that of the format.
const Version = 1

// Header is what a map is of.
type Header struct {
	Copy  int       `json:"copy"` // Version
	From  Source    `json:"from"`
	Image string    `json:"image"` // the name of the file beside it; empty: the copy is on a drive
	To    *Source   `json:"to,omitempty"`
	Began time.Time `json:"began"`
	Tool  string    `json:"tool"`
}

// Source is a drive, as a map names it.
type Source struct {
	Model    string `json:"model"`
	Serial   string `json:"serial"`
	Bytes    uint64 `json:"bytes"`
	Sector   uint32 `json:"sector"`   // bytes of a logical sector
	Physical uint32 `json:"physical"` // bytes of a physical one
}

// Sum is the BLAKE3 of what one read brought.
type Sum [32]byte

type line struct {
	LBA     uint64 `json:"lba"`
	Sectors uint64 `json:"sectors,omitempty"`
	Is      string `json:"is"`
	Sum     string `json:"sum,omitempty"`
	Cause   string `json:"cause,omitempty"`
	Tries   uint8  `json:"tries,omitempty"`
	Boot    string `json:"boot,omitempty"`
}

const (
	isHeld   = "held"
	isOpened = "opened"
)

// mostLine bounds a line.
const mostLine = 4 << 10

// Read reads a map. What was not held in a run of the machine other than boot is taken for to come; with no boot everything is believed.
// end is the place after the last whole line: a line that was being written when the machine ended is left out. It errs where a line is
// no line of a map, and says which.
func Read(r io.Reader, boot string) (h Header, m *surface.Map, end int64, err error) {
	lines := bufio.NewReaderSize(r, 64<<10)
	first, err := next(lines)
	if err != nil {
		return h, nil, 0, fmt.Errorf("its first line: %w", err)
	}
	if err := json.Unmarshal(first, &h); err != nil || h.Copy == 0 {
		return h, nil, 0, errors.New("its first line is not that of a map")
	}
	if h.Copy > Version {
		return h, nil, 0, fmt.Errorf("it is of version %d, and this program knows %d", h.Copy, Version)
	}
	if h.From.Sector == 0 || h.From.Bytes < uint64(h.From.Sector) {
		return h, nil, 0, errors.New("its first line gives no size of the drive")
	}
	end = int64(len(first)) + 1
	b := book{m: surface.NewMap(h.From.Bytes / uint64(h.From.Sector))}
	for n := 2; ; n++ {
		text, err := next(lines)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err == nil {
			err = b.take(text)
		}
		if err != nil {
			return h, nil, 0, fmt.Errorf("line %d: %w", n, err)
		}
		end += int64(len(text)) + 1
	}
	if boot != "" && b.boot != boot {
		b.distrust()
	}
	return h, b.m, end, nil
}

// next gives a line without its end; io.ErrUnexpectedEOF: one that has none.
func next(r *bufio.Reader) ([]byte, error) {
	text, err := r.ReadSlice('\n')
	switch {
	case errors.Is(err, io.EOF) && len(text) > 0:
		return nil, io.ErrUnexpectedEOF
	case errors.Is(err, bufio.ErrBufferFull), len(text) > mostLine:
		return nil, fmt.Errorf("it is longer than %d bytes", mostLine)
	case err != nil:
		return nil, err
	}
	return bytes.Clone(text[:len(text)-1]), nil
}

// book follows the lines of a map.
type book struct {
	m    *surface.Map
	boot string
	open []surface.Extent // copied, and not held
}

func (b *book) take(text []byte) error {
	var l line
	if err := json.Unmarshal(text, &l); err != nil {
		return errors.New("it is no JSON object of a map")
	}
	switch l.Is {
	case isHeld:
		b.open = b.open[:0]
		return nil
	case isOpened:
		if b.boot != "" && b.boot != l.Boot {
			b.distrust()
		}
		b.boot = l.Boot
		return nil
	}
	p, err := l.part()
	if err != nil {
		return err
	}
	b.m.Set(p)
	if p.Kept != surface.Copied {
		return nil
	}
	if n := len(b.open); n > 0 && b.open[n-1].End() == p.LBA {
		b.open[n-1].Sectors += p.Sectors
	} else {
		b.open = append(b.open, p.Extent)
	}
	return nil
}

// distrust takes back what was copied and not held.
func (b *book) distrust() {
	for _, e := range b.open {
		b.m.Set(surface.Part{Extent: e})
	}
	b.open = b.open[:0]
}

func (l line) part() (p surface.Part, err error) {
	p = surface.Part{Extent: surface.Extent{LBA: l.LBA, Sectors: l.Sectors}, Tries: l.Tries}
	known := false
	for _, k := range []surface.Kept{surface.ToCome, surface.Skipped, surface.Failed, surface.Missing, surface.Copied} {
		if k.String() == l.Is {
			p.Kept, known = k, true
		}
	}
	if !known {
		return p, fmt.Errorf("%q is no word of a map", l.Is)
	}
	if l.Cause != "" {
		if p.Cause, known = surface.ParseCause(l.Cause); !known {
			return p, fmt.Errorf("%q is no cause", l.Cause)
		}
	}
	if l.Sectors == 0 || l.LBA+l.Sectors < l.LBA {
		return p, errors.New("it is of no sectors")
	}
	return p, nil
}

// Writer adds to a map.
type Writer struct {
	f    *os.File
	size int64 // of its whole lines
}

// Open goes on with the map in a file, or begins one where there is none. boot names this run of the machine. It errs with *OtherError when
// the map is of another drive or image.
func Open(file string, h Header, boot string) (w *Writer, m *surface.Map, err error) {
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, nil, fmt.Errorf("opening the map: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
		}
	}()
	w = &Writer{f: f}
	stat, err := f.Stat()
	if err != nil {
		return nil, nil, fmt.Errorf("opening the map: %w", err)
	}
	whole := int64(0) // of the map, in bytes
	if stat.Size() > 0 {
		var was Header
		if was, m, whole, err = Read(f, boot); err != nil {
			return nil, nil, fmt.Errorf("the map %s: %w", file, err)
		}
		if was.From != h.From || was.Image != h.Image {
			return nil, nil, &OtherError{file, was}
		}
	}
	if err := f.Truncate(whole); err != nil {
		return nil, nil, fmt.Errorf("opening the map: %w", err)
	}
	w.size = whole
	if whole == 0 {
		m = surface.NewMap(h.From.Bytes / uint64(h.From.Sector))
		if err := w.add(h); err != nil {
			return nil, nil, err
		}
	}
	return w, m, w.add(line{Is: isOpened, Boot: boot})
}

// OtherError says that a map is there already, and of something else.
type OtherError struct {
	File string
	Was  Header
}

func (e *OtherError) Error() string {
	of := e.Was.From
	return fmt.Sprintf("the map %s is that of %s %s of %d bytes, image %q", e.File, of.Model, of.Serial, of.Bytes, e.Was.Image)
}

// Add says what became of a part; sum is given of what was copied.
func (w *Writer) Add(p surface.Part, sum Sum) error {
	l := line{LBA: p.LBA, Sectors: p.Sectors, Is: p.Kept.String(), Tries: p.Tries}
	switch p.Kept {
	case surface.Copied:
		l.Sum, l.Tries = hex.EncodeToString(sum[:]), 0
	case surface.Failed, surface.Missing:
		l.Cause = p.Cause.String()
	default:
	}
	return w.add(l)
}

// Held says that all that was copied so far is kept by the destination, and has the map kept.
func (w *Writer) Held() error {
	if err := w.add(line{Is: isHeld}); err != nil {
		return err
	}
	return w.f.Sync()
}

// add writes a line in one piece, or none of it.
func (w *Writer) add(v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("writing the map: %w", err)
	}
	n, err := w.f.WriteAt(append(b, '\n'), w.size)
	if err != nil {
		return fmt.Errorf("writing the map: %w", errors.Join(err, w.f.Truncate(w.size)))
	}
	w.size += int64(n)
	return nil
}

// Close lets go of the file.
func (w *Writer) Close() error { return w.f.Close() }

// Summed is what one line says was copied.
type Summed struct {
	surface.Extent
	Sum Sum
}

// Sums gives what was copied and still counts by the map, line by line. Of places that were copied more than once the later line counts.
func Sums(r io.Reader, m *surface.Map, each func(line int, k Summed) error) error {
	lines := bufio.NewReaderSize(r, 64<<10)
	if _, err := next(lines); err != nil {
		return fmt.Errorf("its first line: %w", err)
	}
	for n := 2; ; n++ {
		text, err := next(lines)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		var l line
		if err := json.Unmarshal(text, &l); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if l.Is != surface.Copied.String() {
			continue
		}
		k := Summed{Extent: surface.Extent{LBA: l.LBA, Sectors: l.Sectors}}
		b, err := hex.DecodeString(l.Sum)
		if err != nil || len(b) != len(k.Sum) {
			return fmt.Errorf("line %d: its sum is none", n)
		}
		copy(k.Sum[:], b)
		if slices.ContainsFunc(m.In(k.Extent), func(p surface.Part) bool { return p.Kept != surface.Copied }) {
			continue // taken back later
		}
		if err := each(n, k); err != nil {
			return err
		}
	}
}
