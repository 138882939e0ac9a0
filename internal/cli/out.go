package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"unicode/utf8"

	"hylostat.example/internal/visible"
)

// plain writes for a terminal, where a no-break space would keep what is copied from being found or typed again: it stands as a plain
// one. What is not seen, of a drive's or a person's words, is made visible; but for what makes a word bold. It remembers the first write
// that failed.
type plain struct {
	io.Writer
	wrong error
	begun []byte // of a character whose end has not come
}

// raw is what plain writes to.
func raw(w io.Writer) io.Writer {
	if p, ok := w.(*plain); ok {
		return p.Writer
	}
	return w
}

func (p *plain) Write(b []byte) (int, error) {
	all := append(p.begun, b...)
	whole := len(all)
	for i := max(0, whole-utf8.UTFMax); i < whole; i++ {
		if utf8.RuneStart(all[i]) && !utf8.FullRune(all[i:]) {
			whole = i
			break
		}
	}
	p.begun = bytes.Clone(all[whole:])
	return len(b), p.write(all[:whole])
}

const boldOn, boldOff = "\x1b[1m", "\x1b[0m"

func (p *plain) write(b []byte) error {
	parts := strings.Split(strings.ReplaceAll(string(b), boldOff, boldOn), boldOn)
	marks := ours.FindAllString(string(b), -1)
	var out strings.Builder
	for i, part := range parts {
		out.WriteString(visible.Text(strings.ReplaceAll(part, "\u00a0", " ")))
		if i < len(marks) {
			out.WriteString(marks[i])
		}
	}
	if _, err := io.WriteString(p.Writer, out.String()); err != nil {
		if p.wrong == nil {
			p.wrong = err
		}
		return err
	}
	return nil
}

// ours are the only sequences for a terminal that are passed on.
var ours = regexp.MustCompile(`\x1b\[[01]m`)

// failed tells that not everything could be written.
func (p *plain) failed() error {
	if len(p.begun) > 0 {
		_ = p.write(p.begun) // failed tells
		p.begun = nil
	}
	if p.wrong == nil {
		return nil
	}
	return fmt.Errorf("writing the answer: %w. Not all of it was written", p.wrong)
}

// reason is why a file could not be read or written, without its name, which stands before it.
func reason(err error) error {
	if p, ok := errors.AsType[*fs.PathError](err); ok {
		return p.Err
	}
	return err
}

// saveWith writes a file beside its place and then moves it there: no half file stands under the name. What is no regular file is not
// replaced by one: a printer and a pipe are written to, a disk is refused, and a link is followed. "-" is out.
func saveWith(out io.Writer, path string, write func(w io.Writer) error) error {
	if path == "-" {
		return write(out)
	}
	wrong := func(err error) error {
		return fmt.Errorf("writing %s: %w. Choose another place with -o", path, reason(err))
	}
	place, mode, err := placeOf(path)
	if err != nil {
		return wrong(err)
	}
	switch {
	case mode.IsRegular():
	case mode&fs.ModeDevice != 0 && mode&fs.ModeCharDevice == 0:
		return wrong(errors.New("it is a disk or a part of one, and would be overwritten"))
	case mode.IsDir():
		return wrong(errors.New("it is a folder"))
	default:
		f, err := os.OpenFile(place, os.O_WRONLY, 0)
		if err != nil {
			return wrong(err)
		}
		if err := errors.Join(write(f), f.Close()); err != nil {
			return wrong(err)
		}
		return nil
	}
	next, err := os.CreateTemp(filepath.Dir(place), ".hylostat-*")
	if err != nil {
		return wrong(err)
	}
	err = errors.Join(write(next), next.Sync(), next.Chmod(0o644), next.Close())
	if err == nil {
		err = os.Rename(next.Name(), place)
	}
	if err != nil {
		_ = os.Remove(next.Name())
		return wrong(err)
	}
	return nil
}

// placeOf follows links to where a file is or would be, and tells what is there; nothing is a regular file.
func placeOf(path string) (place string, mode fs.FileMode, err error) {
	place = path
	for range 40 { // as many as the kernel follows
		info, err := os.Lstat(place)
		if errors.Is(err, fs.ErrNotExist) {
			return place, 0, nil
		}
		if err != nil {
			return place, 0, err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return place, info.Mode(), nil
		}
		to, err := os.Readlink(place)
		if err != nil {
			return place, 0, err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(place), to)
		}
		place = to
	}
	return place, 0, errors.New("too many links")
}
