// Package vector is for tests that hold what comes out today against what was written down, in a text that people can read. Of structures
// that go over a wire it writes what each command and page is in bytes, which of their bits say something, and what is made of them. After
// a wanted change, read the difference: go test ./internal/core/ata -update, of the one room.
package vector

import (
	"encoding/hex"
	"flag"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write what comes out today to testdata")

// Filled gives every exported field below v a value of its own, none of them zero: numbers whose bytes all differ, up to most where it is
// not 0, texts, and two entries for each list. Fields named in but are left alone.
func Filled[T any](most uint64, but ...string) T {
	var v T
	f := filler{most: most, sign: -1, but: but}
	f.fill(reflect.ValueOf(&v).Elem())
	return v
}

// filler gives fields values.
type filler struct {
	last    byte // of the bytes given
	most    uint64
	sign    int64
	but     []string                       // fields left alone
	instead map[reflect.Type]reflect.Value // what a type is given
	whole   bool                           // what pointers point to, times and broken numbers too
}

func (f *filler) number(size int) (x uint64) {
	for range size {
		f.last = f.last%247 + 1
		x = x<<8 | uint64(f.last)
	}
	if f.most > 0 && x > f.most {
		x = x%f.most + 1
	}
	return x
}

func (f *filler) fill(v reflect.Value) {
	if given, ok := f.instead[v.Type()]; ok {
		v.Set(given)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		if at, ok := v.Addr().Interface().(*time.Time); ok && f.whole {
			*at = time.Date(2026, 9, 1, 8, int(f.number(1)), 0, 0, time.UTC)
			return
		}
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && !slices.Contains(f.but, field.Name) {
				f.fill(v.Field(i))
			}
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		f.fill(v.Index(0))
		f.fill(v.Index(1))
	case reflect.Array:
		for i := range v.Len() {
			f.fill(v.Index(i))
		}
	case reflect.Bool:
		v.SetBool(true)
	case reflect.String:
		v.SetString(fmt.Sprintf("%c%d", 'A'+f.number(1)%26, f.last))
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(f.sign * int64(f.number(int(v.Type().Size()))) % 120)
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(f.number(int(v.Type().Size())))
	case reflect.Float64:
		if f.whole {
			v.SetFloat(float64(f.number(1)) + 0.5)
		}
	case reflect.Pointer:
		if f.whole {
			v.Set(reflect.New(v.Type().Elem()))
			f.fill(v.Elem())
		}
	default:
	}
}

// Book is what is written down.
type Book struct {
	t    *testing.T
	file string
	text strings.Builder
}

// Open begins a book; Close holds it against a file of testdata.
func Open(t *testing.T, name string) *Book { return &Book{t: t, file: "testdata/" + name} }

// Line writes one line.
func (b *Book) Line(format string, args ...any) { fmt.Fprintf(&b.text, format+"\n", args...) }

// Head begins a part.
func (b *Book) Head(title string) { b.Line("\n== %s", title) }

// Close compares, or writes anew.
func (b *Book) Close() {
	if *update {
		require.NoError(b.t, os.MkdirAll("testdata", 0o755))
		require.NoError(b.t, os.WriteFile(b.file, []byte(b.text.String()), 0o644))
		return
	}
	written, err := os.ReadFile(b.file)
	require.NoError(b.t, err)
	was, is := strings.Split(string(written), "\n"), strings.Split(b.text.String(), "\n")
	part, told := "", 0
	for i := range max(len(was), len(is)) {
		line := func(all []string) string {
			if i < len(all) {
				return all[i]
			}
			return "(nothing)"
		}
		if strings.HasPrefix(line(was), "== ") {
			part = line(was)
		}
		if line(was) != line(is) {
			b.t.Errorf("%s, line %d, under %q\n  it was %s\n  now is %s", b.file, i+1, part, line(was), line(is))
			if told++; told == mostTold {
				b.t.Fatalf("and perhaps more; after a wanted change write it anew with -update, and read the difference")
			}
		}
	}
}

// mostTold is of how many lines a test tells that they differ.
const mostTold = 5

// RoundTrip writes a page down and holds that decoding takes back what encoding made, places aside. seal makes a page right again of which
// a bit was turned; nil: it has no checksum.
func RoundTrip[T any](b *Book, title string, v T, encode func(T) []byte, decode func([]byte) (T, error), seal func([]byte)) {
	page := encode(v)
	got, err := decode(page)
	assert.NoError(b.t, err, title)
	assert.Equal(b.t, say(v, false), say(got, false), "%s: decoding is the inverse of encoding", title)
	Page(b, title, page, decode, seal)
}

// Page writes down a page's bytes, below each the bits of it that change what is made of the page, then what is made of it, and the lengths
// at which a cut page says something else than one that is a byte shorter. Lines of zeros that say nothing are left out; * is more of the
// same.
func Page[T any](b *Book, title string, page []byte, decode func([]byte) (T, error), seal func([]byte)) {
	outcome := func(page []byte) string {
		v, err := decode(page)
		return say(v, true) + fault(err)
	}
	b.Head(fmt.Sprintf("%s, %d bytes", title, len(page)))
	whole, last, same := outcome(page), "", false
	for at := 0; at < len(page); at += 16 {
		line := page[at:min(at+16, len(page))]
		telling := make([]byte, len(line))
		for i := range line {
			for bit := range 8 {
				turned := append([]byte(nil), page...)
				turned[at+i] ^= 1 << bit
				if seal != nil {
					seal(turned)
				}
				if outcome(turned) != whole {
					telling[i] |= 1 << bit
				}
			}
		}
		text := fmt.Sprintf("% x\n      %s", line, strings.ReplaceAll(hexes(telling), "00", ".."))
		switch {
		case strings.Trim(string(line)+string(telling), "\x00") == "":
		case text != last:
			b.Line("%04x  %s", at, text)
		case !same:
			b.Line("*")
		}
		last, same = text, text == last
	}
	b.Line("%s", strings.TrimSpace(whole))
	var at []string
	was := ""
	for n := range len(page) + 1 {
		if is := outcome(append([]byte(nil), page[:n]...)); is != was {
			was, at = is, append(at, fmt.Sprint(n))
		}
	}
	b.Line("cut: says something else from %s", strings.Join(at, " "))
}

func hexes(b []byte) string {
	all := make([]string, len(b))
	for i := range b {
		all[i] = hex.EncodeToString(b[i : i+1])
	}
	return strings.Join(all, " ")
}

var digits = regexp.MustCompile(`\d+`)

func fault(err error) string {
	if err == nil {
		return ""
	}
	return " error: " + digits.ReplaceAllString(strings.ReplaceAll(err.Error(), "\n", "; "), "n")
}

// Say prints what is not zero, numbers without a sign in hexadecimal.
func Say(v any) string { return say(v, true) }

// say prints what is not zero. Places are where in a page something stands.
func say(v any, places bool) string {
	var b strings.Builder
	put(&b, reflect.ValueOf(v), places)
	return b.String()
}

func put(b *strings.Builder, v reflect.Value, places bool) {
	switch v.Kind() {
	case reflect.Struct:
		b.WriteString("{")
		first := true
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if v.Field(i).IsZero() || !places && f.Name == "Offset" {
				continue
			}
			if !first {
				b.WriteString(" ")
			}
			first = false
			b.WriteString(f.Name + ":")
			put(b, v.Field(i), places)
		}
		b.WriteString("}")
	case reflect.Slice, reflect.Array:
		if v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8 {
			fmt.Fprintf(b, "%x", v.Bytes())
			return
		}
		b.WriteString("[")
		for i := range v.Len() {
			if v.Index(i).IsZero() && v.Kind() == reflect.Array {
				continue
			}
			if i > 0 {
				b.WriteString(" ")
			}
			if v.Kind() == reflect.Array {
				fmt.Fprintf(b, "%d:", i)
			}
			put(b, v.Index(i), places)
		}
		b.WriteString("]")
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uint:
		fmt.Fprintf(b, "%X", v.Uint())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		fmt.Fprintf(b, "%d", v.Int())
	case reflect.Bool:
		fmt.Fprintf(b, "%v", v.Bool())
	case reflect.String:
		fmt.Fprintf(b, "%q", v.String())
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			b.WriteString("none")
			return
		}
		put(b, v.Elem(), places)
	case reflect.Map:
		entries := make([]string, 0, v.Len())
		for _, key := range v.MapKeys() {
			var e strings.Builder
			put(&e, key, places)
			e.WriteString(":")
			put(&e, v.MapIndex(key), places)
			entries = append(entries, e.String())
		}
		slices.Sort(entries)
		b.WriteString("{" + strings.Join(entries, " ") + "}")
	default:
		fmt.Fprintf(b, "%v", v)
	}
}
