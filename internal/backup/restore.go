package backup

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/benbjohnson/litestream"

	"hylostat.example/internal/diskspace"
	"hylostat.example/internal/shop/audit"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// staging is the folder in a data folder that is filled before anything of it has a place.
const staging = ".restoring"

// Restored is what was brought back.
type Restored struct {
	Manifest Manifest
	Kept     []string // journals of benches that were there and stay: they know more than the copy
	Audited  int      // rows of the audit, each of which follows from the one before
}

// IdentitiesOf reads the private keys of a file, as age writes them.
func IdentitiesOf(file string) ([]age.Identity, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("reading the key of the backup: %w", err)
	}
	defer func() { _ = f.Close() }()
	all, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("%s is no private key of a backup: %w", file, err)
	}
	return all, nil
}

// Restore brings a shop back from a backup, into a folder in which there is none. The caller holds the folder's lock.
func Restore(ctx context.Context, file, data string, keys []age.Identity) (Restored, error) {
	var m Manifest
	r, err := BringBack(ctx, data, func(dir string) error {
		f, err := os.Open(file)
		if err != nil {
			return fmt.Errorf("opening the backup: %w", err)
		}
		defer func() { _ = f.Close() }()
		into, err := os.OpenRoot(dir)
		if err != nil {
			return err
		}
		defer func() { _ = into.Close() }()
		from, err := opened(f, keys)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		m, err = unpack(whileWanted{ctx, from}, true, func(name string, bytes int64) (io.WriteCloser, error) {
			if err := enough(dir, bytes); err != nil {
				return nil, err
			}
			if err := into.MkdirAll(filepath.Dir(name), 0o700); err != nil {
				return nil, err
			}
			out, err := into.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			return synced{out}, err
		})
		if err != nil {
			return fmt.Errorf("%s is not brought back: %w", file, err)
		}
		return nil
	})
	r.Manifest = m
	return r, err
}

// enough tells when a file does not go into a folder.
func enough(dir string, bytes int64) error {
	free, _, err := diskspace.Of(dir)
	if err != nil {
		return err
	}
	if free < bytes {
		return fmt.Errorf("it has a file of %d MB, and there are %d MB free", bytes/1e6, free/1e6)
	}
	return nil
}

// synced is a file that is on the disk once it is closed.
type synced struct{ *os.File }

func (s synced) Close() error { return errors.Join(s.Sync(), s.File.Close()) }

// opened decrypts what is encrypted.
func opened(f io.Reader, keys []age.Identity) (io.Reader, error) {
	from := bufio.NewReader(f)
	head, err := from.Peek(len(armor.Header))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case string(head) == armor.Header:
		return decrypted(armor.NewReader(from), keys)
	case strings.HasPrefix(string(head), "age-encryption.org/"):
		return decrypted(from, keys)
	}
	return from, nil
}

func decrypted(from io.Reader, keys []age.Identity) (io.Reader, error) {
	if len(keys) == 0 {
		return nil, errors.New("it is encrypted. Name the file with its private key, with --key")
	}
	plain, err := age.Decrypt(from, keys...)
	if err != nil {
		return nil, fmt.Errorf("the key does not open it: %w", err)
	}
	return plain, nil
}

// BringBack has a data folder filled with a shop's databases, looks through them, and puts them in their places, the shop's at last. It
// refuses a folder with a shop, before and after. Journals of benches that are there stay. The caller holds the folder's lock.
func BringBack(ctx context.Context, data string, fill func(dir string) error) (r Restored, err error) {
	for _, name := range []string{"shop.db", "shop.db-wal"} {
		if _, err := os.Lstat(filepath.Join(data, name)); err == nil {
			return r, fmt.Errorf(
				"%s has a %s: nothing is brought back over a shop. Choose another folder, or move what is there away", data, name,
			)
		}
	}
	dir := filepath.Join(data, staging)
	if err := os.RemoveAll(dir); err != nil { // of an attempt that was interrupted
		return r, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return r, fmt.Errorf("making room in %s: %w", data, err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	if err := fill(dir); err != nil {
		return r, err
	}
	all, err := Databases(dir)
	if err != nil {
		return r, errors.New("no shop's database is in it")
	}
	for _, name := range all {
		for _, look := range []func(context.Context, string) error{sqlite.ExamineFile, sqlite.References} {
			if err := look(ctx, filepath.Join(dir, name)); err != nil {
				return r, err
			}
		}
	}
	if r.Audited, err = settle(ctx, filepath.Join(dir, "shop.db")); err != nil {
		return r, err
	}
	r.Kept, err = place(dir, data)
	return r, err
}

// settle opens the shop's database, checks its audit, and notes that it was brought back.
func settle(ctx context.Context, path string) (rows int, err error) {
	st, err := store.OpenHow(ctx, path, sqlite.How{Kept: true, WithoutLog: true})
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	v, err := audit.New(nil, st.Storage().Audit).VerifyAudit(ctx)
	if err != nil {
		return 0, err
	}
	if v.Bad != 0 {
		return 0, fmt.Errorf("row %d of its audit does not follow from the one before: it was changed. Take another backup", v.Bad)
	}
	return v.Rows, st.SetBroughtBack(ctx, true)
}

// place moves what was filled to where it belongs, with the owner of the folder: the shop's database at last, so that there is a shop when
// there is all of it.
func place(dir, data string) (kept []string, err error) {
	var files []string
	if err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, path)
		files = append(files, name)
		return err
	}); err != nil {
		return nil, err
	}
	slices.SortStableFunc(files, func(a, b string) int {
		switch {
		case a == "shop.db":
			return 1
		case b == "shop.db":
			return -1
		}
		return strings.Compare(a, b)
	})
	for _, name := range files {
		to := filepath.Join(data, name)
		if _, err := os.Lstat(to); err == nil {
			kept = append(kept, name)
			continue
		}
		if filepath.Base(name) == "bench.db" {
			if _, err := os.Lstat(to + "-wal"); err == nil {
				return kept, fmt.Errorf("%s-wal is there without its database: move it away", to)
			}
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return kept, err
		}
		if err := os.RemoveAll(filepath.Join(filepath.Dir(to), "."+filepath.Base(to)+litestream.MetaDirSuffix)); err != nil {
			return kept, err // how far the copying of the one that was lost was
		}
		for _, owned := range []string{filepath.Join(dir, name), filepath.Dir(to)} {
			if err := GiveTo(owned, data); err != nil {
				return kept, err
			}
		}
		if err := os.Rename(filepath.Join(dir, name), to); err != nil {
			return kept, fmt.Errorf("putting %s in its place: %w", name, err)
		}
		if err := syncDir(filepath.Dir(to)); err != nil {
			return kept, err
		}
	}
	return kept, nil
}
