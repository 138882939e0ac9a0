package backup

import (
	"errors"
	"fmt"
	"os"

	"filippo.io/age"
)

// NewKey makes a pair of keys for encrypted backups (X25519, as age has them): the private one goes into a file that is not there yet and
// that only its owner can read; the public one is given.
func NewKey(file string) (recipient string, err error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fmt.Errorf("writing the key: %w. Name a file that is not there", err)
	}
	_, err = fmt.Fprintf(f, "# private key of backups; public key: %s\n%s\n", key.Recipient(), key)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", errors.Join(fmt.Errorf("writing the key: %w", err), os.Remove(file))
	}
	return key.Recipient().String(), nil
}
