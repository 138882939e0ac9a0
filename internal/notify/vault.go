package notify

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"filippo.io/age"
)

// Vault seals the secrets of routes with a key in a file beside the records, which no backup holds.
type Vault struct {
	path string
	mu   sync.Mutex // guards key
	key  *age.X25519Identity
}

// KeyFile is what the file with the key is called, in the folder of the records.
const KeyFile = "routes.key"

// NewVault opens the vault of a folder. Its key is made when the first secret is sealed.
func NewVault(dir string) *Vault { return &Vault{path: filepath.Join(dir, KeyFile)} }

// opened gives the key; made, where there is none and one is wanted.
func (v *Vault) opened(wanted bool) (*age.X25519Identity, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.key != nil {
		return v.key, nil
	}
	text, err := os.ReadFile(v.path)
	switch {
	case err == nil:
		if v.key, err = age.ParseX25519Identity(string(bytes.TrimSpace(text))); err != nil {
			return nil, fmt.Errorf("the key of the routes' secrets, %s, is damaged: %w", v.path, err)
		}
		return v.key, nil
	case !errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("reading the key of the routes' secrets: %w", err)
	case !wanted:
		return nil, fmt.Errorf("its key is missing: %s", v.path)
	}
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, fmt.Errorf("making a key for the routes' secrets: %w", err)
	}
	file, err := os.OpenFile(v.path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("keeping the key of the routes' secrets: %w", err)
	}
	_, err = file.WriteString(key.String() + "\n")
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return nil, fmt.Errorf("keeping the key of the routes' secrets: %w", errors.Join(err, os.Remove(v.path)))
	}
	v.key = key
	return key, nil
}

// Seal implements tell.Vault.
func (v *Vault) Seal(secret string) ([]byte, error) {
	key, err := v.opened(true)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, key.Recipient())
	if err == nil {
		_, err = io.WriteString(w, secret)
	}
	if err == nil {
		err = w.Close()
	}
	return sealed.Bytes(), err
}

// Open implements tell.Vault.
func (v *Vault) Open(sealed []byte) (string, error) {
	key, err := v.opened(false)
	if err != nil {
		return "", err
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), key)
	if err != nil {
		return "", errors.New("it was sealed with another key")
	}
	secret, err := io.ReadAll(r)
	return string(secret), err
}
