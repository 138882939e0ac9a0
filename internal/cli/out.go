package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// plain writes for a terminal, where a no-break space would keep what is copied from being found or typed again: it stands as a plain
// one. It remembers the first write that failed.
type plain struct {
	io.Writer
	wrong error
}

// raw is what plain writes to.
func raw(w io.Writer) io.Writer {
	if p, ok := w.(*plain); ok {
		return p.Writer
	}
	return w
}

func (p *plain) Write(b []byte) (int, error) {
	if _, err := p.Writer.Write(bytes.ReplaceAll(b, []byte("\u00a0"), []byte(" "))); err != nil {
		if p.wrong == nil {
			p.wrong = err
		}
		return 0, err
	}
	return len(b), nil
}

// failed tells that not everything could be written.
func (p *plain) failed() error {
	if p.wrong == nil {
		return nil
	}
	return fmt.Errorf("writing the answer: %w. Not all of it was written", p.wrong)
}

// saveWith writes a file beside its place and then moves it there: no half file stands under the name. What is no regular file is not
// replaced by one: a printer and a pipe are written to, a disk is refused, and a link is followed. "-" is out.
func saveWith(out io.Writer, path string, write func(w io.Writer) error) error {
	if path == "-" {
		return write(out)
	}
	wrong := func(err error) error { return fmt.Errorf("writing %s: %w. Choose another place with -o", path, err) }
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
