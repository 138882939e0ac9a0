package handover

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/parquet-go/parquet-go"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// SignalRow is one signal at one reading. Times are UTC.
type SignalRow struct {
	Serial  string    `parquet:"serial,dict,zstd"`
	Model   string    `parquet:"model,dict,zstd"`
	Reading int32     `parquet:"reading,zstd"` // its number in the drive's life
	At      time.Time `parquet:"at,timestamp(millisecond),zstd"`
	Hours   *float64  `parquet:"powered_on_hours,optional,zstd"` // at that reading; absent: the drive does not tell
	Signal  string    `parquet:"signal,dict,zstd"`
	Unit    string    `parquet:"unit,dict,zstd"` // of value; empty: a bare count
	Value   float64   `parquet:"value,zstd"`
}

// SignalsTable is a table of signals over time, one row for each signal a reading gives.
type SignalsTable interface {
	Add(d shop.Drive, m shop.Moment) error
	End() error
}

// rowsOf are a reading's rows.
func rowsOf(d shop.Drive, m shop.Moment, give func(SignalRow) error) error {
	var hours *float64
	if h, ok := m.Signals.Get(signal.PowerOnHours); ok {
		hours = &h
	}
	for def, x := range m.Signals.All() {
		err := give(SignalRow{
			//nolint:gosec // a count
			Serial: d.Identity.Serial, Model: d.Identity.Model, Reading: int32(m.Seq), At: m.At.UTC(), Hours: hours,
			Signal: string(def.Name), Unit: def.Unit, Value: x,
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// group is how many rows of a Parquet file are held at once.
const group = 100_000

// NewSignalsParquet begins a table as an Apache Parquet file. It is written in groups of rows, whatever its size.
func NewSignalsParquet(w io.Writer) SignalsTable {
	return &signalsParquet{out: parquet.NewGenericWriter[SignalRow](w, parquet.MaxRowsPerRowGroup(group))}
}

type signalsParquet struct {
	out  *parquet.GenericWriter[SignalRow]
	rows []SignalRow
}

func (t *signalsParquet) Add(d shop.Drive, m shop.Moment) error {
	err := rowsOf(d, m, func(r SignalRow) error { t.rows = append(t.rows, r); return nil })
	if err == nil && len(t.rows) > 4096 {
		err = t.write()
	}
	return err
}

func (t *signalsParquet) write() error {
	_, err := t.out.Write(t.rows)
	t.rows = t.rows[:0]
	return err
}

func (t *signalsParquet) End() error {
	if err := t.write(); err != nil {
		return err
	}
	return t.out.Close()
}

// NewSignalsCSV begins a table as RFC 4180 has it.
func NewSignalsCSV(w io.Writer) SignalsTable { return &signalsCSV{out: csv.NewWriter(w)} }

type signalsCSV struct {
	out   *csv.Writer
	begun bool
}

// SignalColumns are the columns of both, with what they hold.
var SignalColumns = []struct{ Name, Holds string }{
	{"serial", "of the drive"},
	{"model", "of the drive"},
	{"reading", "its number in the drive's life, from 1"},
	{"at", "when it was taken: UTC; in Parquet a timestamp in milliseconds, in CSV as RFC 3339"},
	{"powered_on_hours", "h, at that reading; absent where the drive does not tell"},
	{"signal", "its name, as docs/signals.md lists them"},
	{"unit", "of the value: h, °C, %, B, sectors ...; empty for a bare count"},
	{"value", "a number"},
}

func (t *signalsCSV) head() error {
	if t.begun {
		return nil
	}
	t.begun = true
	var names []string
	for _, c := range SignalColumns {
		names = append(names, c.Name)
	}
	return t.out.Write(names)
}

func (t *signalsCSV) Add(d shop.Drive, m shop.Moment) error {
	if err := t.head(); err != nil {
		return err
	}
	number := func(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }
	return rowsOf(d, m, func(r SignalRow) error {
		hours := ""
		if r.Hours != nil {
			hours = number(*r.Hours)
		}
		return t.out.Write([]string{
			harmless(r.Serial), harmless(r.Model), fmt.Sprint(r.Reading), r.At.Format(time.RFC3339Nano), hours, r.Signal, r.Unit,
			number(r.Value),
		})
	})
}

func (t *signalsCSV) End() error {
	if err := t.head(); err != nil {
		return err
	}
	t.out.Flush()
	return t.out.Error()
}
