package made

import (
	"archive/tar"
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
)

//go:embed testdata/version-0.1.tar.zst
var before []byte

// Before gives a folder with the records of a shop that version 0.1 left when it was killed: three runs that had ended and their sweeps,
// an extended check in its self-test, and an overwrite at a third of the drive with an intent open. Its simulated clock goes on from where
// it stood, faster by a factor.
func Before(t *testing.T, factor float64) string {
	t.Helper()
	dir := t.TempDir()
	z, err := zstd.NewReader(bytes.NewReader(before))
	require.NoError(t, err)
	defer z.Close()
	for files := tar.NewReader(z); ; {
		head, err := files.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		body, err := io.ReadAll(files)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.Base(head.Name)), body, 0o600))
	}
	Rewind(t, dir, factor)
	return dir
}

// Rewind has the simulated clock of such a folder stand where version 0.1 left it.
func Rewind(t *testing.T, dir string, factor float64) {
	t.Helper()
	memory := map[string]any{}
	file := filepath.Join(dir, "drives.json")
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(body, &memory))
	memory["clock"] = sim.Clock{Wall: time.Now(), Start: time.Date(2026, 11, 27, 13, 14, 0, 0, time.UTC), Factor: factor}
	body, err = json.Marshal(memory)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, body, 0o600))
}
