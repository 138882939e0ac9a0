package app

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hylostat.example/internal/seal"
)

// captureKey gives the key by which this machine, or the stick it was started from, signs what it captures, and makes it once.
func captureKey() (k seal.Key, err error) {
	config, err := os.UserConfigDir()
	if err != nil {
		return k, fmt.Errorf("finding a place for the key to sign with: %w", err)
	}
	file := filepath.Join(config, "hylostat", "record.key")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return makeCaptureKey(file)
	}
	if err != nil {
		return k, fmt.Errorf("reading the key to sign with: %w", err)
	}
	seed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err == nil {
		k, err = seal.FromSeed(seed)
	}
	if err != nil {
		return k, fmt.Errorf("%s is no key to sign with: %w. Move it away to have another made", file, err)
	}
	return k, nil
}

func makeCaptureKey(file string) (k seal.Key, err error) {
	if k, err = seal.New(); err != nil {
		return k, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return k, fmt.Errorf("making a place for the key to sign with: %w", err)
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return k, fmt.Errorf("keeping the key to sign with: %w", err)
	}
	_, err = fmt.Fprintln(f, base64.StdEncoding.EncodeToString(k.Seed()))
	return k, errors.Join(err, f.Sync(), f.Close())
}
