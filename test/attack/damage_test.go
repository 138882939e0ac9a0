package attack_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
)

// filled makes a shop of 400 drives.
func filled(t *testing.T, dir string) {
	t.Helper()
	require.NoError(t, app.CreateShop(t.Context(), dir, "", ""))
	st, err := store.Open(t.Context(), filepath.Join(dir, "shop.db"))
	require.NoError(t, err)
	require.NoError(t, st.Write(t.Context(), func(tx store.Tx) error {
		for n := range 400 {
			d := shop.Drive{
				Identity: drive.Identity{
					Key: drive.Key{Model: "Korvan K4-2000", Serial: fmt.Sprintf("KVA07%05d", n)}, Interface: drive.ATA,
				},
				Duty: drive.Everyday, FirstSeen: time.Now(),
			}
			if err := tx.SaveDrive(t.Context(), &d); err != nil {
				return err
			}
			if err := tx.SaveNow(t.Context(), d.ID, shop.Now{Grade: drive.Healthy, Readings: 1, LastAt: time.Now()}); err != nil {
				return err
			}
		}
		return nil
	}))
	require.NoError(t, st.Close())
}

// spoil puts other bytes into a page of a database that holds these words, as a disk does that mixes its sectors up.
func spoil(t *testing.T, path, words string, page func(was []byte) []byte) {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	const size = 4096
	for at := 0; at+size <= len(b); at += size {
		if is := b[at : at+size]; at > 0 && bytes.Contains(is, []byte(words)) {
			require.NoError(t, overwriteAt(path, int64(at), page(is)))
			return
		}
	}
	t.Fatalf("no page of %s holds %s", path, words)
}

func overwriteAt(path string, at int64, b []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteAt(b, at)
	return err
}

// One page of garbage in the records: of 51 drives 5 were listed, as if there were no others.
func TestDamageIsNeverServedAsTruth(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 2))
	for name, page := range map[string]func([]byte) []byte{
		"garbage": func(was []byte) []byte {
			for i := range was {
				was[i] = byte(random.Uint32())
			}
			return was
		},
		"zeros":           func(was []byte) []byte { return make([]byte, len(was)) },
		"fewer rows":      func(was []byte) []byte { return append([]byte{0x0D, 0, 0, 0, 0, 0x10, 0, 0}, was[8:]...) },
		"a page's halves": func(was []byte) []byte { return append(bytes.Clone(was[2048:]), was[:2048]...) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			filled(t, dir)
			spoil(t, filepath.Join(dir, "shop.db"), "KVA0700200", page)
			before := files(t, dir)
			ctx, end := context.WithCancel(t.Context())
			defer end()
			ready, done := make(chan string, 1), make(chan error, 1)
			go func() {
				done <- serve(t, dir, func(o *app.Options) {
					stop := o.Ready
					o.Damaged = func(address string) {
						ready <- address
						context.AfterFunc(ctx, func() { stop(address) })
					}
				})
			}()
			var address string
			select {
			case address = <-ready:
			case err := <-done:
				require.NoError(t, err)
			}
			for path, want := range map[string]string{
				"/": "The records are damaged", "/drives": "The records are damaged", "/api/v1/drives": `"title":"The records are damaged"`,
			} {
				q, err := http.NewRequestWithContext(ctx, http.MethodGet, address+path, http.NoBody)
				require.NoError(t, err)
				q.Header.Set("Accept", "text/html")
				r, err := http.DefaultClient.Do(q)
				require.NoError(t, err)
				body, err := io.ReadAll(r.Body)
				require.NoError(t, err)
				_ = r.Body.Close()
				assert.Equal(t, http.StatusServiceUnavailable, r.StatusCode, path)
				assert.Contains(t, string(body), want, path)
			}
			end()
			require.ErrorAs(t, <-done, new(*sqlite.DamagedError))
			after := files(t, dir)
			assert.Equal(t, before["/shop.db"], after["/shop.db"], "nothing was written to it")
		})
	}
}

// The same while the service runs: from then on nothing is served.
func TestDamageThatIsMetEndsTheService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	filled(t, dir)
	p := begin(t, dir)
	for _, words := range []string{"KVA0700100", "KVA0700200", "KVA0700300"} {
		spoil(t, filepath.Join(dir, "shop.db"), words, func(was []byte) []byte { return bytes.Repeat([]byte{0xA5}, len(was)) })
	}
	met := false
	for n := range 400 {
		_, err := p.Drive(t.Context(), fmt.Sprintf("KVA07%05d", n))
		if met = met || err != nil; met {
			refused(t, err, http.StatusServiceUnavailable, "damaged")
		}
	}
	require.True(t, met)
	_, err := p.Drives(t.Context(), contract.ListDrivesParams{})
	refused(t, err, http.StatusServiceUnavailable, "damaged")
}
