package handover

import (
	"bytes"
	"encoding/csv"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
)

// A table of signals says the same as Parquet and as CSV, whatever its length, and names its columns.
func TestATableOfSignalsIsReadBack(t *testing.T) {
	t.Parallel()
	d := shop.Drive{Identity: drive.Identity{Key: drive.Key{Model: "=Korvan K4-2000", Serial: "KVA077M511"}}}
	begin := time.Date(2027, 2, 1, 12, 0, 0, 123e6, time.UTC)
	var columnar, plain bytes.Buffer
	tables := []SignalsTable{NewSignalsParquet(&columnar), NewSignalsCSV(&plain)}
	const readings = 60_000 // more rows than a group has
	for n := range readings {
		s := signal.Set{signal.Pending: {Number: float64(n), Available: true}, signal.PercentageUsed: {Number: 83.5, Available: true}}
		if n%2 == 0 {
			s[signal.PowerOnHours] = signal.Value{Number: float64(1000 + n), Available: true}
		}
		m := shop.Moment{Moment: verdict.Moment{Seq: n + 1, At: begin.Add(time.Duration(n) * time.Minute), Signals: signal.ValuesOf(s)}}
		for _, table := range tables {
			require.NoError(t, table.Add(d, m))
		}
	}
	for _, table := range tables {
		require.NoError(t, table.End())
	}
	rows, err := parquet.Read[SignalRow](bytes.NewReader(columnar.Bytes()), int64(columnar.Len()))
	require.NoError(t, err)
	lines, err := csv.NewReader(&plain).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, readings*5/2)
	require.Len(t, lines, len(rows)+1)
	for i, c := range SignalColumns {
		assert.Equal(t, c.Name, lines[0][i])
	}
	file, err := parquet.OpenFile(bytes.NewReader(columnar.Bytes()), int64(columnar.Len()))
	require.NoError(t, err)
	assert.Len(t, file.RowGroups(), 2)
	for i, f := range file.Schema().Fields() {
		assert.Equal(t, SignalColumns[i].Name, f.Name())
	}
	assert.Equal(t, []string{
		"KVA077M511", "'=Korvan K4-2000", "1", "2027-02-01T12:00:00.123Z", "1000", rows[0].Signal, rows[0].Unit, "0",
	}, append(lines[1][:7:7], "0"))
	last := rows[len(rows)-1]
	assert.Equal(t, begin.Add((readings-1)*time.Minute), last.At.UTC())
	assert.Nil(t, last.Hours)
	assert.EqualValues(t, readings, last.Reading)
	sum := 0.0
	for _, r := range rows {
		if r.Signal == string(signal.Pending) {
			sum += r.Value
		}
	}
	assert.InDelta(t, float64(readings)*(readings-1)/2, sum, 0)
}
