//go:build unix

package app

import "golang.org/x/sys/unix"

// keepToUs has no file that this process makes be read by others.
func keepToUs() { unix.Umask(0o077) }
