package handover

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// File is one file of an archive.
type File struct {
	Name, About string
	Body        []byte
}

const archiveHead = `The whole record of one drive, in open formats.

Check it with:  sha256sum --check SHA256SUMS

`

// Archive writes files as a ZIP, with a text that says what each is, and their checksums.
func Archive(w io.Writer, files []File, at time.Time) error {
	about, sums := archiveHead, ""
	for _, f := range files {
		about += fmt.Sprintf("%-22s %s\n", f.Name, f.About)
	}
	about += fmt.Sprintf("\nMade on %s.\n", at.UTC().Format("2 January 2006, 15:04 UTC"))
	files = append([]File{{Name: "README.txt", Body: []byte(about)}}, files...)
	for _, f := range files {
		sums += fmt.Sprintf("%x  %s\n", sha256.Sum256(f.Body), f.Name)
	}
	files = append(files, File{Name: "SHA256SUMS", Body: []byte(sums)})
	z := zip.NewWriter(w)
	for _, f := range files {
		part, err := z.CreateHeader(&zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: at.UTC()})
		if err != nil {
			return fmt.Errorf("adding %s to the archive: %w", f.Name, err)
		}
		if _, err := part.Write(f.Body); err != nil {
			return fmt.Errorf("adding %s to the archive: %w", f.Name, err)
		}
	}
	return z.Close()
}

// SignalsCSV writes every signal of every reading: one row a reading, one column a signal. An empty cell is not available.
func SignalsCSV(w io.Writer, moments []shop.Moment) error {
	c := csv.NewWriter(w)
	head := []string{"reading", "at"}
	for _, def := range signal.Registry {
		head = append(head, string(def.Name))
	}
	if err := c.Write(head); err != nil {
		return err
	}
	for _, m := range moments {
		row := []string{strconv.Itoa(m.Seq), m.At.UTC().Format(time.RFC3339)}
		for _, def := range signal.Registry {
			row = append(row, optionalNumber(m.Signals, def.Name))
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}
