// Package attack tries what was seen to get through: each test is an attack, and wants to be refused.
package attack_test

import (
	"context"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/app"
	"hylostat.example/internal/bench/sim"
)

// serve runs a service on a folder until it answers, and gives what kept it from that.
func serve(t *testing.T, dir string, change func(o *app.Options)) error {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	o := app.Options{
		Dir: dir, Shop: "Saltmarsh Lane", Bench: "north bench", Factor: 60, Source: sim.New(sim.NewClock(60), "", "one"),
		Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Ready: func(string) { cancel() },
		Damaged: func(string) { cancel() },
	}
	if change != nil {
		change(&o)
	}
	return app.Serve(ctx, o)
}

func create(o *app.Options) { o.Create = true }

// files is a folder's content by name, what says only that it is in use aside.
func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == "lock" || filepath.Ext(path) == ".db-shm" {
			return err
		}
		b, err := os.ReadFile(path)
		all[path[len(dir):]] = string(b)
		return err
	}))
	return all
}

// A folder from which something was taken is not taken for a shop in which everybody may do everything.
func TestNothingMissingMeansANewShop(t *testing.T) {
	none := t.TempDir()
	require.ErrorContains(t, serve(t, none, nil), "hylostat shop create")
	assert.NoFileExists(t, filepath.Join(none, "shop.db"))
	require.NoError(t, serve(t, none, create))

	in := func(dir, name string) string { return filepath.Join(dir, name) }
	for what, row := range map[string]struct {
		does   func(dir string) error
		wanted string
	}{
		"its records gone":      {func(dir string) error { return os.Remove(in(dir, "shop.db")) }, "shop.db is missing"},
		"its records emptied":   {func(dir string) error { return os.Truncate(in(dir, "shop.db"), 0) }, "shop.db is empty"},
		"its records cut short": {func(dir string) error { return os.Truncate(in(dir, "shop.db"), 70) }, "shop.db, damaged: "},
		"its bench's gone":      {func(dir string) error { return os.Remove(in(dir, "bench.db")) }, "bench.db is missing"},
		"its bench's emptied":   {func(dir string) error { return os.Truncate(in(dir, "bench.db"), 0) }, "bench.db is empty"},
		"its records' head lost": {
			func(dir string) error { return overwriteAt(in(dir, "shop.db"), 0, make([]byte, 4096)) }, "is not a whole database",
		},
	} {
		for way, how := range map[string]func(*app.Options){"": nil, ", created": create} {
			t.Run(what+way, func(t *testing.T) {
				dir := t.TempDir()
				require.NoError(t, serve(t, dir, create))
				require.NoError(t, row.does(dir))
				before := files(t, dir)
				require.ErrorContains(t, serve(t, dir, how), row.wanted)
				after := files(t, dir)
				assert.ElementsMatch(t, slices.Collect(maps.Keys(before)), slices.Collect(maps.Keys(after)), "nothing was made")
				for name := range before {
					assert.Len(t, after[name], len(before[name]), "%s is as it was", name)
				}
			})
		}
	}
	require.ErrorContains(t, app.CreateShop(t.Context(), none, "", ""), "there is a shop in")
}

// Files that were taken while the service ran, without the log of what was written last.
func TestALostLogIsSaid(t *testing.T) {
	for _, lost := range []string{"shop.db", "bench.db"} {
		t.Run(lost, func(t *testing.T) {
			dir, copied := t.TempDir(), t.TempDir()
			require.NoError(t, serve(t, dir, func(o *app.Options) {
				o.Create = true
				ready := o.Ready
				o.Ready = func(address string) {
					for name, content := range files(t, dir) {
						if name != "/"+lost+"-wal" {
							assert.NoError(t, os.WriteFile(filepath.Join(copied, name), []byte(content), 0o600))
						}
					}
					ready(address)
				}
			}))
			err := serve(t, copied, nil)
			require.ErrorContains(t, err, lost+" was copied or left while it was in use")
			require.ErrorContains(t, err, "--rejoin")
			require.NoError(t, serve(t, copied, func(o *app.Options) { o.Rejoin = true }))
		})
	}
}

// Nobody has to be entered in an open shop to do anything: so no other machine reaches it.
func TestAnOpenShopIsServedToThisMachineAlone(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, app.CreateShop(t.Context(), dir, "", ""))
	for _, listen := range []string{"0.0.0.0:0", ":0", "[::]:0", "203.0.113.7:0"} {
		err := serve(t, dir, func(o *app.Options) { o.Listen = listen })
		require.ErrorContains(t, err, "the shop is open", listen)
		require.ErrorContains(t, err, "--listen 127.0.0.1:0", listen)
	}
	for _, listen := range []string{"127.0.0.1:0", "localhost:0"} {
		require.NoError(t, serve(t, dir, func(o *app.Options) { o.Listen = listen }), listen)
	}
	closed := t.TempDir()
	require.NoError(t, app.CreateShop(t.Context(), closed, "Maud", "kelp and gravel, twice"))
	err := serve(t, closed, func(o *app.Options) { o.Listen = "203.0.113.7:0" })
	assert.ErrorContains(t, err, "listening on 203.0.113.7:0", "whoever closed the shop may ask for more")
}
