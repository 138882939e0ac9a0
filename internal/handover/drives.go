package handover

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"

	"hylostat.example/internal/shop"
)

// DrivesCSV writes drives as a table (RFC 4180), one after the other: there may be a great many. Cells that a spreadsheet would take
// for a formula begin with an apostrophe.
type DrivesCSV struct {
	out  *csv.Writer
	head bool
}

// NewDrivesCSV begins a table.
func NewDrivesCSV(w io.Writer) *DrivesCSV { return &DrivesCSV{out: csv.NewWriter(w)} }

// Add writes a row.
func (t *DrivesCSV) Add(d shop.Drive) error {
	t.begin()
	id, now := d.Identity, d.Now
	row := []string{
		id.Serial,
		id.Model,
		id.Firmware,
		string(id.Interface),
		string(id.Medium),
		fmt.Sprint(id.Bytes),
		string(d.Duty),
		now.Stands().String(),
		now.Grade.String(),
		"",
		fmt.Sprint(now.Findings),
		now.First,
		now.Margin,
		"",
		"",
		fmt.Sprint(now.Readings),
		"",
		"",
		d.FirstSeen.Format(time.RFC3339),
	}
	if now.Signed != nil {
		row[9] = now.Signed.By
	}
	if now.HasHours {
		row[13] = strconv.FormatFloat(now.Hours, 'f', -1, 64)
	}
	if now.HasTemp {
		row[14] = strconv.FormatFloat(now.Temperature, 'f', -1, 64)
	}
	if !now.LastAt.IsZero() && now.Readings > 0 {
		row[16] = now.LastAt.Format(time.RFC3339)
	}
	row[17] = now.Bay.String()
	for i := range row {
		row[i] = harmless(row[i])
	}
	return t.out.Write(row)
}

func (t *DrivesCSV) begin() {
	if t.head {
		return
	}
	t.head = true
	_ = t.out.Write([]string{ // End tells what went wrong
		"serial", "model", "firmware", "interface", "medium", "bytes", "duty", "verdict", "judged", "signed by",
		"findings", "why", "tightest margin", "powered on h", "temperature °C", "readings", "last read", "bay", "first seen",
	})
}

// End ends the table; one without drives has its head alone.
func (t *DrivesCSV) End() error {
	t.begin()
	t.out.Flush()
	return t.out.Error()
}
