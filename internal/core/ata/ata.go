// Package ata decodes and encodes the structures of the ATA command set: IDENTIFY DEVICE, SMART data and thresholds, the
// self-test log, the summary error log, and the registers of a command. It performs no I/O and knows nothing of how a
// command travels; package sat wraps it for SCSI transports. Start with Identify and AttributePage.
//
// A decoder never panics. It returns what it could read together with an error that joins one *FormatError per broken
// part; only a page shorter than its structure gives nothing else.
//
// Sources: ACS-4 (INCITS 529) for everything with a clause number. The attribute and threshold tables are older than ACS,
// which calls their bytes vendor specific; their layout is the one the trade has kept since ATA-3 (X3.298-1997, 8.41).
package ata

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// PageSize is the size of every page this package reads, in bytes.
const PageSize = 512

var le = binary.LittleEndian

// FormatError says where a page breaks its own format.
type FormatError struct {
	Structure string // "SMART data"
	Offset    int    // byte offset of the first wrong byte
	Reason    string
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("%s, byte %d: %s", e.Structure, e.Offset, e.Reason)
}

// Place gives the byte and the reason, for whoever shows the page.
func (e *FormatError) Place() (structure string, offset int, reason string) {
	return e.Structure, e.Offset, e.Reason
}

func checkLength(structure string, b []byte) error {
	if len(b) < PageSize {
		return &FormatError{structure, len(b), fmt.Sprintf("ends after %d of %d bytes", len(b), PageSize)}
	}
	return nil
}

// checkSum wants the 512 bytes to add up to zero (ACS-4 9.1: two's complement of the sum of the first 511).
func checkSum(structure string, b []byte) error {
	var sum byte
	for _, x := range b[:PageSize] {
		sum += x
	}
	if sum != 0 {
		return &FormatError{structure, PageSize - 1, fmt.Sprintf("checksum %#02x, right would be %#02x", b[PageSize-1], b[PageSize-1]-sum)}
	}
	return nil
}

func setSum(b []byte) {
	b[PageSize-1] = 0
	var sum byte
	for _, x := range b[:PageSize] {
		sum += x
	}
	b[PageSize-1] = -sum
}

// FormatErrors lists the parts an error of this package joins.
func FormatErrors(err error) []*FormatError {
	if err == nil {
		return nil
	}
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		var all []*FormatError
		for _, e := range many.Unwrap() {
			all = append(all, FormatErrors(e)...)
		}
		return all
	}
	if one, ok := errors.AsType[*FormatError](err); ok {
		return []*FormatError{one}
	}
	return nil
}

// text reads an ATA string: two characters a word, the first in the upper byte, padded with blanks (ACS-4 3.4.9).
func text(b []byte) string {
	out := make([]byte, len(b))
	for i := 0; i+1 < len(b); i += 2 {
		out[i], out[i+1] = b[i+1], b[i]
	}
	return strings.Trim(string(out), " \x00")
}

func putText(b []byte, s string) {
	padded := []byte(s + strings.Repeat(" ", len(b)))[:len(b)]
	for i := 0; i+1 < len(b); i += 2 {
		b[i], b[i+1] = padded[i+1], padded[i]
	}
}
