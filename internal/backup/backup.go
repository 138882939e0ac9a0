// Package backup makes copies of everything a shop has on a machine while it works, and brings them back. A backup is a tar file (POSIX
// pax), compressed with zstd (RFC 8878) and, for a recipient, encrypted in the age format; its last entry, backup.json, names the others
// with their hashes, so that a backup that was cut off is none. Start with Make and Restore.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"hylostat.example/internal/diskspace"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/audit"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// format is the version of what is in a backup.
const format = 1

// manifestName is the last entry.
const manifestName = "backup.json"

// Manifest is the last entry of a backup.
type Manifest struct {
	Format int            `json:"format"`
	Made   time.Time      `json:"made"`
	Tool   string         `json:"tool"` // the version that made it
	Shop   string         `json:"shop"` // its id
	Audit  shop.AuditHead `json:"audit"`
	Files  []File         `json:"files"`
}

// File is an entry of a backup before the last.
type File struct {
	Name   string `json:"name"` // below the data folder, with slashes
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // hexadecimal
}

// Request is what to copy, and where to.
type Request struct {
	Data       string // the data folder
	File       string // the backup; it is not there yet
	Recipients []age.Recipient
	Tool       string
	Now        time.Time
}

// RecipientsOf reads recipients: public keys as age writes them (age1...) and SSH's are not.
func RecipientsOf(all []string) (recipients []age.Recipient, err error) {
	for _, one := range all {
		r, err := age.ParseRecipients(strings.NewReader(one))
		if err != nil {
			return nil, fmt.Errorf("%q is no recipient of a backup: %w. Give a public key that begins with age1", one, err)
		}
		recipients = append(recipients, r...)
	}
	return recipients, nil
}

// Databases lists those of a data folder, below it: the shop's first, then its benches', by name.
func Databases(data string) ([]string, error) {
	var all []string
	for _, place := range []string{"shop.db", "bench.db", filepath.Join("*", "bench.db")} {
		found, err := filepath.Glob(filepath.Join(globbed(data), place))
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			below, err := filepath.Rel(data, f)
			if err != nil {
				return nil, err
			}
			all = append(all, below)
		}
	}
	if !slices.Contains(all, "shop.db") {
		return nil, fmt.Errorf("there is no shop in %s. Name the folder of yours with --data", data)
	}
	return all, nil
}

// globbed is a folder's name in a pattern.
func globbed(dir string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(dir)
}

// Make makes a backup of a shop, as it stood at one moment, and reads it again. Nothing is left when it fails.
func Make(ctx context.Context, r Request) (m Manifest, err error) {
	if _, err := os.Lstat(r.File); err == nil {
		return m, fmt.Errorf("%s is there already. Name a file that is not: no backup is replaced", r.File)
	}
	databases, err := Databases(r.Data)
	if err != nil {
		return m, err
	}
	if err := room(r.Data, databases, filepath.Dir(r.File)); err != nil {
		return m, err
	}
	beside, err := os.MkdirTemp(filepath.Dir(r.File), ".backup-")
	if err != nil {
		return m, fmt.Errorf("making room for a copy beside %s: %w. Choose another folder", r.File, err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(beside)) }()
	var pairs []sqlite.Pair
	for _, name := range databases {
		to := filepath.Join(beside, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return m, err
		}
		pairs = append(pairs, sqlite.Pair{From: filepath.Join(r.Data, name), To: to})
	}
	if err := sqlite.Copy(ctx, pairs); err != nil {
		return m, err
	}
	renewals, err := copyRenewals(r.Data, beside)
	if err != nil {
		return m, err
	}
	m = Manifest{Format: format, Made: r.Now.UTC(), Tool: r.Tool}
	if m.Shop, m.Audit, err = shopOf(ctx, filepath.Join(beside, "shop.db"), r.Now); err != nil {
		return m, err
	}
	part := filepath.Join(beside, "part")
	together, both := errgroup.WithContext(ctx)
	together.Go(func() error { // is what is copied whole?
		for _, p := range pairs {
			if err := sqlite.ExamineFile(both, p.To); err != nil {
				return fmt.Errorf("no backup is made of what is damaged: %w", err)
			}
		}
		return nil
	})
	var written string
	together.Go(func() (err error) {
		written, err = pack(both, part, beside, append(databases, renewals...), &m, r.Recipients)
		return err
	})
	if err := together.Wait(); err != nil {
		return m, err
	}
	if err := reread(ctx, part, written, len(r.Recipients) > 0); err != nil {
		return m, err
	}
	if err := os.Link(part, r.File); err != nil { // never over one that is there
		if err = os.Rename(part, r.File); err != nil {
			return m, fmt.Errorf("naming the backup: %w", err)
		}
	}
	return m, syncDir(filepath.Dir(r.File))
}

// shopOf gives the id of a shop and the head of its audit, signed where the shop has a key.
func shopOf(ctx context.Context, path string, now time.Time) (id string, h shop.AuditHead, err error) {
	o, end, err := store.Look(path)
	if err != nil {
		return "", h, err
	}
	defer end()
	id, key, err := o.Shop(ctx)
	if err != nil {
		return "", h, err
	}
	h, err = audit.HeadOf(ctx, o, key, moment(now))
	return id, h, err
}

// moment is a clock that stands.
type moment time.Time

// Now implements shop.Clock.
func (m moment) Now() time.Time { return time.Time(m) }

// room tells when there is no room for a copy and what is packed of it.
func room(data string, databases []string, to string) error {
	var bytes int64
	for _, name := range databases {
		for _, of := range []string{name, name + "-wal"} {
			if info, err := os.Stat(filepath.Join(data, of)); err == nil {
				bytes += info.Size()
			}
		}
	}
	free, _, err := diskspace.Of(to)
	if err != nil {
		return fmt.Errorf("looking at the folder of the backup, %s: %w. Choose another", to, err)
	}
	if free < 2*bytes {
		return fmt.Errorf(
			"a backup of %d MB needs twice that while it is made, and %s has %d MB free. Make room, or choose another folder",
			bytes/1e6, to, free/1e6,
		)
	}
	return nil
}

// copyRenewals copies what renewals keep of the drives while they write, a few megabytes at most, and the shop's own authority for TLS.
func copyRenewals(data, to string) (names []string, err error) {
	beside, err := os.OpenRoot(to)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, beside.Close()) }()
	for _, place := range []string{filepath.Join("renewal", "*"), filepath.Join("*", "renewal", "*"), filepath.Join("tls", "*")} {
		found, err := filepath.Glob(filepath.Join(globbed(data), place))
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			body, err := os.ReadFile(f)
			if errors.Is(err, fs.ErrNotExist) { // its run has ended
				continue
			}
			if err != nil {
				return nil, err
			}
			name, err := filepath.Rel(data, f)
			if err != nil {
				return nil, err
			}
			if err := beside.MkdirAll(filepath.Dir(name), 0o700); err != nil {
				return nil, err
			}
			if err := beside.WriteFile(name, body, 0o600); err != nil {
				return nil, err
			}
			names = append(names, name)
		}
	}
	return names, nil
}

// pack writes files of a folder and the manifest, and gives the SHA-256 of what it wrote.
func pack(ctx context.Context, into, dir string, names []string, m *Manifest, to []age.Recipient) (sum string, err error) {
	f, err := os.OpenFile(into, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	all := sha256.New()
	out := io.MultiWriter(f, all)
	closers := []io.Closer(nil)
	if len(to) > 0 {
		sealed, err := age.Encrypt(out, to...)
		if err != nil {
			return "", fmt.Errorf("encrypting: %w", err)
		}
		out, closers = sealed, append(closers, sealed)
	}
	z, err := zstd.NewWriter(out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
	if err != nil {
		return "", err
	}
	t := tar.NewWriter(z)
	closers = append(closers, z, t)
	for _, name := range names {
		one, err := packOne(ctx, t, dir, name, m.Made)
		if err != nil {
			return "", err
		}
		m.Files = append(m.Files, one)
	}
	body, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return "", err
	}
	if err := t.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o600, Size: int64(len(body)), ModTime: m.Made}); err != nil {
		return "", err
	}
	if _, err := t.Write(body); err != nil {
		return "", err
	}
	for _, c := range slices.Backward(closers) {
		if err := c.Close(); err != nil {
			return "", err
		}
	}
	if err := f.Sync(); err != nil {
		return "", fmt.Errorf("writing the backup: %w", err)
	}
	return hex.EncodeToString(all.Sum(nil)), nil
}

func packOne(ctx context.Context, t *tar.Writer, dir, name string, made time.Time) (File, error) {
	f, err := os.Open(filepath.Join(dir, name))
	if err != nil {
		return File{}, err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return File{}, err
	}
	one := File{Name: filepath.ToSlash(name), Bytes: info.Size()}
	if err := t.WriteHeader(&tar.Header{Name: one.Name, Mode: 0o600, Size: one.Bytes, ModTime: made}); err != nil {
		return File{}, err
	}
	sum := hashBeside(sha256.New())
	_, err = io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(t, sum)}, whileWanted{ctx, f}, make([]byte, 1<<20))
	one.SHA256 = sum.end()
	if err != nil {
		return File{}, fmt.Errorf("packing %s: %w", name, err)
	}
	return one, nil
}

// beside hashes what is written while whoever writes goes on.
type beside struct {
	parts chan []byte
	done  chan string
}

func hashBeside(h hash.Hash) *beside {
	b := &beside{make(chan []byte, 4), make(chan string, 1)}
	go func() {
		for part := range b.parts {
			_, _ = h.Write(part) // never fails
		}
		b.done <- hex.EncodeToString(h.Sum(nil))
	}()
	return b
}

func (b *beside) Write(p []byte) (int, error) {
	b.parts <- bytes.Clone(p)
	return len(p), nil
}

// end gives the hash, hexadecimal, of all that was written.
func (b *beside) end() string {
	close(b.parts)
	return <-b.done
}

// whileWanted reads until a context ends.
type whileWanted struct {
	ctx  context.Context //nolint:containedctx // io.Reader has none
	from io.Reader
}

func (r whileWanted) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.from.Read(b)
}

// reread reads a backup from the disk again: all that was written is there and, where it is not for somebody else's key, it opens.
func reread(ctx context.Context, file, written string, sealed bool) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	forgetCached(f)
	sum := sha256.New()
	from := io.TeeReader(whileWanted{ctx, f}, sum)
	if !sealed { // zstd's own checksum tells whether what comes out of it is what went in
		if _, err := unpack(from, false, func(string, int64) (io.WriteCloser, error) { return nothing{}, nil }); err != nil {
			return fmt.Errorf("reading the backup again: %w", err)
		}
	}
	if _, err := io.Copy(io.Discard, from); err != nil {
		return fmt.Errorf("reading the backup again: %w", err)
	}
	if hex.EncodeToString(sum.Sum(nil)) != written {
		return errors.New("the backup does not read as it was written: its disk or its cable fails. Choose another disk")
	}
	return nil
}

type nothing struct{}

func (nothing) Write(b []byte) (int, error) { return len(b), nil }
func (nothing) Close() error                { return nil }

// unpack reads a backup, whatever its files are written to, and holds it against its manifest: names and lengths, and, with hashes, these.
// The error says what is wrong with it.
func unpack(from io.Reader, hashes bool, to func(name string, bytes int64) (io.WriteCloser, error)) (m Manifest, err error) {
	z, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return m, err
	}
	defer z.Close()
	var found []File
	for t := tar.NewReader(z); ; {
		head, err := t.Next()
		if errors.Is(err, io.EOF) {
			return m, errors.New("it has no end: it was cut off, or is no backup")
		}
		if err != nil {
			return m, fmt.Errorf("it cannot be read: it was cut off or changed, or is no backup (%w)", err)
		}
		if head.Name == manifestName {
			if err := json.NewDecoder(io.LimitReader(t, 1<<20)).Decode(&m); err != nil {
				return m, fmt.Errorf("its list of files: %w", err)
			}
			break
		}
		if head.Typeflag != tar.TypeReg || !filepath.IsLocal(filepath.FromSlash(head.Name)) || strings.Count(head.Name, "/") > 2 {
			return m, fmt.Errorf("it has an entry that no backup has: %q", head.Name)
		}
		one, err := unpackOne(t, head, hashes, to)
		if err != nil {
			return m, err
		}
		found = append(found, one)
	}
	if m.Format != format {
		return m, fmt.Errorf("it has format %d, this program knows %d. Use the version that made it, %s", m.Format, format, m.Tool)
	}
	same := func(a, b File) bool {
		return a.Name == b.Name && a.Bytes == b.Bytes && (!hashes || a.SHA256 == b.SHA256)
	}
	if !slices.EqualFunc(found, m.Files, same) {
		return m, errors.New("its files are not those it was made of: it was changed")
	}
	if _, err := io.Copy(io.Discard, z); err != nil {
		return m, fmt.Errorf("its end: %w", err)
	}
	return m, nil
}

func unpackOne(t io.Reader, head *tar.Header, hashes bool, to func(name string, bytes int64) (io.WriteCloser, error)) (File, error) {
	out, err := to(filepath.FromSlash(head.Name), head.Size)
	if err != nil {
		return File{}, err
	}
	one, into := File{Name: head.Name}, io.Writer(out)
	sum := hashBeside(sha256.New())
	if hashes {
		into = io.MultiWriter(out, sum)
	}
	one.Bytes, err = io.CopyBuffer(struct{ io.Writer }{into}, t, make([]byte, 1<<20))
	one.SHA256 = sum.end()
	if err = errors.Join(err, out.Close()); err != nil {
		return File{}, fmt.Errorf("%s: %w", head.Name, err)
	}
	return one, nil
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = d.Close() }()
	if err := d.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) { // some file systems know no such thing
		return err
	}
	return nil
}
