package app

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/backup"
	"hylostat.example/internal/client"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/store"
)

// audited tells whether the audit has a row with words.
func audited(t *testing.T, c *client.Client, words string) bool {
	t.Helper()
	all, err := c.Audit(t.Context(), contract.ListAuditParams{})
	require.NoError(t, err)
	return slices.ContainsFunc(all, func(a contract.Audited) bool { return strings.Contains(a.Text.Words, words) })
}

// A backup made while checks run is of one moment; what is brought back is whole, and trusts nothing that may have ended since.
func TestABackupIsTheShopAtOneMoment(t *testing.T) {
	t.Parallel()
	ctx, dir, to := t.Context(), t.TempDir(), t.TempDir()
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	c, end := serveDemo(t, dir, 2000, nil)
	require.NotNil(t, c)
	for _, serial := range []string{"7M4R9", "6D40P"} {
		ordered(t, c, serial)
	}
	open := true
	intakes, err := c.Intakes(ctx, contract.ListIntakesParams{Open: &open})
	require.NoError(t, err)
	at := slices.IndexFunc(intakes, func(i contract.Intake) bool { return i.Release == nil && i.Serial != nil })
	require.GreaterOrEqual(t, at, 0)
	released := *intakes[at].Serial
	_, err = c.RecordRelease(ctx, released, contract.ReleaseRequest{Scope: "mend", Owner: "Ida Pellwick, by telephone", By: "Dov"})
	require.NoError(t, err)
	for n := range 8 {
		file := filepath.Join(to, fmt.Sprintf("%d.tar.zst.age", n))
		m, err := backup.Make(ctx, backup.Request{Data: dir, File: file, Recipients: []age.Recipient{key.Recipient()}, Now: time.Now()})
		require.NoError(t, err)
		back := filepath.Join(to, fmt.Sprint(n))
		_, err = backup.Restore(ctx, file, back, nil)
		require.ErrorContains(t, err, "it is encrypted")
		got, err := backup.Restore(ctx, file, back, []age.Identity{key})
		require.NoError(t, err)
		require.EqualValues(t, m.Audit.Rows, got.Audited)
		e, err := backup.Examine(ctx, back, time.Now().AddDate(10, 0, 0))
		require.NoError(t, err)
		require.Empty(t, e.Wrong)
		_, err = backup.Restore(ctx, file, back, []age.Identity{key})
		require.ErrorContains(t, err, "nothing is brought back over a shop")
	}
	info, err := os.Stat(filepath.Join(to, "0.tar.zst.age"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, end())

	back := filepath.Join(to, "7")
	for _, f := range []string{"drives.json", "field.json"} { // the simulated drives are not the shop's
		body, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(back, f), body, 0o600))
	}
	c, end = serveDemo(t, back, 2000, nil)
	require.NotNil(t, c)
	d, err := c.Drive(ctx, released)
	require.NoError(t, err)
	require.NotNil(t, d.Intake)
	assert.Nil(t, d.Intake.Release, "what its owner took back meanwhile is not known")
	assert.True(t, audited(t, c, "The records were brought back from a copy"))
	assert.True(t, audited(t, c, "the release is void"))
	require.NoError(t, end())
	c, end = serveDemo(t, back, 2000, nil)
	require.NotNil(t, c)
	_, err = c.RecordRelease(ctx, released, contract.ReleaseRequest{Scope: "mend", Owner: "Ida Pellwick, by telephone", By: "Dov"})
	require.NoError(t, err)
	require.NoError(t, end())
	c, end = serveDemo(t, back, 2000, nil)
	require.NotNil(t, c)
	d, err = c.Drive(ctx, released)
	require.NoError(t, err)
	assert.NotNil(t, d.Intake.Release, "that is done once")
	require.NoError(t, end())
}

// smallShop makes a shop with nothing in it.
func smallShop(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, CreateShop(t.Context(), dir, "Maud", "a long enough secret"))
	return dir
}

// A backup that was cut off, changed or made up is not brought back, and leaves nothing behind.
func TestABackupThatIsNotWholeIsRefused(t *testing.T) {
	t.Parallel()
	ctx, dir, to := t.Context(), smallShop(t), t.TempDir()
	file := filepath.Join(to, "whole.tar.zst")
	_, err := backup.Make(ctx, backup.Request{Data: dir, File: file, Now: time.Now()})
	require.NoError(t, err)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	refused := func(name string, body []byte) {
		t.Helper()
		bad, data := filepath.Join(to, "bad"), filepath.Join(to, "data")
		require.NoError(t, os.WriteFile(bad, body, 0o600))
		require.NoError(t, os.MkdirAll(data, 0o700))
		_, err := backup.Restore(ctx, bad, data, nil)
		require.Error(t, err, name)
		left, err := os.ReadDir(data)
		require.NoError(t, err)
		require.Empty(t, left, name)
	}
	unpacked := func(body []byte) []byte {
		z, err := zstd.NewReader(nil)
		require.NoError(t, err)
		defer z.Close()
		all, _ := z.DecodeAll(body, nil) // of what is broken, nothing
		return all
	}
	for at := 0; at < len(whole); at += len(whole)/40 + 1 {
		refused(fmt.Sprint("cut off at ", at), whole[:at])
		changed := bytes.Clone(whole)
		changed[at] ^= 0x10
		if !bytes.Equal(unpacked(changed), unpacked(whole)) { // the same can be packed in several ways
			refused(fmt.Sprint("changed at ", at), changed)
		}
	}
	// Entries of one that was unpacked and packed again, some of them changed
	again := func(change func(name string, body []byte) (string, []byte)) []byte {
		var out bytes.Buffer
		in, err := zstd.NewReader(bytes.NewReader(whole))
		require.NoError(t, err)
		defer in.Close()
		z, err := zstd.NewWriter(&out)
		require.NoError(t, err)
		from, into := tar.NewReader(in), tar.NewWriter(z)
		for {
			head, err := from.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			body, err := io.ReadAll(from)
			require.NoError(t, err)
			head.Name, body = change(head.Name, body)
			head.Size = int64(len(body))
			require.NoError(t, into.WriteHeader(head))
			_, err = into.Write(body)
			require.NoError(t, err)
		}
		require.NoError(t, into.Close())
		require.NoError(t, z.Close())
		return out.Bytes()
	}
	same := again(func(name string, body []byte) (string, []byte) { return name, body })
	good := filepath.Join(to, "good")
	require.NoError(t, os.WriteFile(good, same, 0o600))
	_, err = backup.Restore(ctx, good, filepath.Join(to, "brought back"), nil)
	require.NoError(t, err)
	refused("a row", again(func(name string, body []byte) (string, []byte) {
		return name, bytes.Replace(body, []byte("Maud"), []byte("Maut"), 1)
	}))
	refused("a path out of the folder", again(func(name string, body []byte) (string, []byte) {
		if name == "shop.db" {
			name = "../shop.db"
		}
		return name, body
	}))
	refused("another format", again(func(name string, body []byte) (string, []byte) {
		return name, bytes.Replace(body, []byte(`"format": 1`), []byte(`"format": 2`), 1)
	}))
	assert.NoFileExists(t, filepath.Join(to, "shop.db"))
}

// What would be lost or mixed is refused: a backup that is there, a shop that is there, and the log of another one.
func TestNothingIsWrittenOverByABackup(t *testing.T) {
	t.Parallel()
	ctx, dir, to := t.Context(), smallShop(t), t.TempDir()
	file := filepath.Join(to, "one.tar.zst")
	backUp := func(dir string) error {
		_, err := backup.Make(ctx, backup.Request{Data: dir, File: file, Now: time.Now()})
		return err
	}
	require.NoError(t, backUp(dir))
	require.ErrorContains(t, backUp(dir), "is there already")
	_, err := backup.Restore(ctx, file, dir, nil)
	require.ErrorContains(t, err, "nothing is brought back over a shop")
	data := filepath.Join(to, "data")
	require.NoError(t, os.MkdirAll(data, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(data, "shop.db-wal"), []byte("of another"), 0o600))
	_, err = backup.Restore(ctx, file, data, nil)
	require.ErrorContains(t, err, "shop.db-wal")
	// Of what is damaged none is made
	path := filepath.Join(dir, "shop.db")
	body, err := os.ReadFile(path)
	require.NoError(t, err)
	copy(body[5*4096:6*4096], bytes.Repeat([]byte{0xA5}, 4096))
	require.NoError(t, os.WriteFile(path, body, 0o600))
	require.NoError(t, os.Remove(file))
	require.Error(t, backUp(dir))
	left, err := os.ReadDir(to)
	require.NoError(t, err)
	assert.Len(t, left, 1, "the folder of before, and no part of a backup")
}

// A service makes backups by itself, keeps so many, and goes on after one that failed.
func TestBackupsAreMadeByThemselves(t *testing.T) {
	t.Parallel()
	dir, to := smallShop(t), t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		folder := filepath.Join(to, "backups")
		var log bytes.Buffer
		p := backup.Plan{Folder: folder, Every: 24 * time.Hour, Keep: 3}
		begin := func() {
			go p.Run(ctx, dir, Version, slog.New(slog.NewTextHandler(&log, nil)))
			synctest.Wait()
		}
		made := func() (names []string) {
			all, err := os.ReadDir(folder)
			require.NoError(t, err)
			for _, f := range all {
				names = append(names, f.Name())
			}
			return names
		}
		begin()
		first := made()
		require.Len(t, first, 1)
		stop()
		synctest.Wait()
		ctx, stop = context.WithCancel(t.Context())
		defer stop()
		time.Sleep(time.Hour)
		begin()
		assert.Equal(t, first, made(), "the next one is due in 23 hours")
		require.NoError(t, os.WriteFile(filepath.Join(folder, "hylostat-of another-20200101T000000Z.tar.zst"), nil, 0o600))
		time.Sleep(23 * time.Hour)
		synctest.Wait()
		assert.Len(t, made(), 3)
		time.Sleep(72 * time.Hour)
		synctest.Wait()
		all := made()
		assert.Len(t, all, 4, "three and another shop's")
		assert.NotContains(t, all, first[0], "the oldest went")
		require.NoError(t, os.Rename(filepath.Join(dir, "shop.db"), filepath.Join(dir, "away")))
		time.Sleep(24 * time.Hour)
		synctest.Wait()
		assert.Contains(t, log.String(), "a backup was not made")
		assert.Equal(t, all, made())
		require.NoError(t, os.Rename(filepath.Join(dir, "away"), filepath.Join(dir, "shop.db")))
		time.Sleep(time.Hour)
		synctest.Wait()
		assert.NotEqual(t, all, made(), "it is tried again after an hour")
	})
}

// What is not as it should be in the records is found.
func TestAnExaminationFindsWhatIsWrong(t *testing.T) {
	t.Parallel()
	ctx, dir := t.Context(), smallShop(t)
	wrong := func() string {
		e, err := backup.Examine(ctx, dir, time.Now())
		require.NoError(t, err)
		return strings.Join(e.Wrong, "\n")
	}
	path := filepath.Join(dir, "shop.db")
	assert.Empty(t, wrong())
	require.NoError(t, os.Chmod(path, 0o644))
	assert.Contains(t, wrong(), "can be read by others")
	require.NoError(t, os.Chmod(path, 0o600))
	edit := func(query string) {
		db := rawly(t, path)
		_, err := db.Exec(query)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	edit(`DROP TRIGGER audit_stays`)
	edit(`UPDATE audit SET by = 'Nobody' WHERE seq = 1`)
	assert.Contains(t, wrong(), "row 1 of the audit does not follow")
	edit(`INSERT INTO bench (name, id, taken) VALUES ('attic', 'x', 7)`)
	assert.Contains(t, wrong(), "attic/bench.db is not there")
	edit(`INSERT INTO drive (id, model, serial, identity, duty, first_seen) VALUES (9, 'K4', 'KVA', '{}', '', 0);
		INSERT INTO drive_now (drive, grade, verdict_seq, margin, margin_share, findings, first, readings, last_at)
		VALUES (9, 3, 1, '', 0.5, 1, '', 1, 0)`)
	assert.Contains(t, wrong(), "1 drives that no search finds")
	assert.NotContains(t, wrong(), "in the wrong place")
	edit(`UPDATE drive SET urgency = 3 WHERE id = 9`)
	assert.Contains(t, wrong(), "1 drives that lists have in the wrong place")
	edit(`INSERT INTO session (hash, person, seen, begun) VALUES (x'00', 'gone', 0, 0)`)
	assert.Contains(t, wrong(), "a row of session refers to one of person that is not there")
	st, err := store.Open(ctx, path)
	require.NoError(t, err)
	require.NoError(t, st.Close())
}
