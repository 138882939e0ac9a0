package store

import (
	"crypto/rand"
	"fmt"
	mathrand "math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
)

// watchedDay reads a drive every hour, n times: clocks and a temperature move, and now and then more. It gives what was stored.
func watchedDay(t *testing.T, s *Store, d shop.Drive, n int) []shop.Reading {
	t.Helper()
	r := mathrand.New(mathrand.NewPCG(7, uint64(n)))
	pages := []reading.Page{page(reading.PageIdentify, 1), page(reading.PageAttributes, 2), page(reading.PageStatistics, 0)}
	set := signal.Set{signal.Pending: {Available: true}}
	at := now
	var all []shop.Reading
	for i := range n {
		at = at.Add(time.Hour + time.Duration(r.IntN(5000))*time.Millisecond)
		one := shop.Reading{
			Drive: d.ID, At: at, Took: time.Duration(r.IntN(90)) * time.Millisecond, Bay: drive.Bay{Number: 2}, Tool: "test", Decoder: 1,
			Report: rand.Text(), Pages: make([]reading.Page, len(pages)),
		}
		if i%10 == 0 {
			one.Report = fmt.Sprint("file ", i)
		}
		heat := 30 + r.IntN(9)
		set[signal.PowerOnHours] = signal.Value{Number: float64(1000 + i), Available: true}
		set[signal.Temperature] = signal.Value{Number: float64(heat) + 0.5, Available: true}
		switch r.IntN(40) {
		case 0:
			set[signal.Pending] = signal.Value{Number: float64(r.IntN(9)), Available: true}
		case 1:
			set[signal.Reallocated] = signal.Value{Number: 1, Available: r.IntN(2) > 0}
		case 2:
			pages[2].Bytes = make([]byte, 512)
			_, _ = rand.Read(pages[2].Bytes)
		case 3:
			one.Bay.Number = 3
		}
		for k, p := range pages {
			one.Pages[k] = reading.Page{Name: p.Name, How: p.How, Bytes: append([]byte{}, p.Bytes...)}
		}
		one.Pages[1].Bytes[3], one.Pages[1].Bytes[4], one.Pages[1].Bytes[511] = byte(i), byte(i>>8), byte(heat)
		one.Pages[2].Bytes[0] = byte(i)
		write(t, s, func(tx Tx) error { return tx.AddReading(t.Context(), &one, set) })
		one.At, one.Took, one.Signals = moment(millis(one.At)), one.Took.Truncate(time.Millisecond), signal.ValuesOf(set)
		all = append(all, one)
	}
	return all
}

func TestReadingsOfAStretchComeBackByteForByte(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	want := watchedDay(t, s, d, 400)
	moments, err := s.Moments(t.Context(), d.ID)
	require.NoError(t, err)
	require.Len(t, moments, len(want))
	for i, w := range want {
		got, err := s.Reading(t.Context(), d.ID, w.Seq)
		require.NoError(t, err)
		require.Equal(t, w, got, "reading %d", w.Seq)
		require.Equal(t, w.Signals, moments[i].Signals)
		require.Equal(t, []any{w.Seq, w.At, w.Bay}, []any{moments[i].Seq, moments[i].At, moments[i].Place})
		has, err := s.HasReading(t.Context(), d.Identity.Key, w.At, w.Report)
		require.NoError(t, err)
		require.True(t, has)
		has, err = s.HasReading(t.Context(), d.Identity.Key, w.At, "another")
		require.NoError(t, err)
		require.False(t, has)
	}
	latest, err := s.Latest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, moments[399], latest)
	times, err := s.ReadingTimes(t.Context(), d.ID, want[300].At, 50)
	require.NoError(t, err)
	assert.Equal(t, want[399].At, times[0])
	assert.Equal(t, want[350].At, times[49])
	var whole, bytes int
	require.NoError(t, s.db.Read.GetContext(t.Context(), &whole, `SELECT count(*) FROM reading`))
	require.NoError(t, s.db.Read.GetContext(
		t.Context(), &bytes, `SELECT sum(length(pages) + length(signals)) / sum(readings) FROM stretch`,
	))
	assert.Less(t, whole, 60, "most lie in stretches")
	assert.Less(t, bytes, 60)
}

// What somebody says of a reading, and what a later decoder says, is the same wherever it lies.
func TestAReadingOfAStretchIsSetAsideAndDecodedAnew(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	want := watchedDay(t, s, d, 30)
	last := want[29]
	write(t, s, func(tx Tx) error {
		for _, w := range want {
			set := signal.Set{signal.MediaErrors: {Number: float64(w.Seq), Available: true}}
			require.NoError(t, tx.SaveSignals(t.Context(), d.ID, w.Seq, 2, set))
		}
		require.NoError(t, tx.StandReading(t.Context(), d.ID, last.Seq-1, "", want[2].At.Add(time.Minute)))
		return tx.StandReading(t.Context(), d.ID, last.Seq, shop.Retracted, last.At)
	})
	moments, err := s.Moments(t.Context(), d.ID)
	require.NoError(t, err)
	require.Len(t, moments, 29)
	assert.Equal(t, last.Seq-1, moments[3].Seq, "it is of another time")
	assert.Equal(t, want[28].At, moments[3].Said)
	latest, err := s.Latest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, last.Seq-2, latest.Seq)
	r, err := s.Reading(t.Context(), d.ID, last.Seq)
	require.NoError(t, err)
	assert.Equal(t, shop.Retracted, r.Aside)
	assert.Equal(t, 2, r.Decoder)
	assert.Equal(t, map[signal.Name]float64{signal.MediaErrors: 30}, r.Signals.Map())
	assert.Equal(t, last.Pages, r.Pages)
	all, err := s.AllMoments(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Len(t, all, 30)
}

func TestOfFoldedReadingsTheTimesStay(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	want := watchedDay(t, s, d, 30)
	all, err := s.Stretches(t.Context(), d.ID, want[29].At.Add(time.Hour))
	require.NoError(t, err)
	x := all[0]
	require.Greater(t, x.Last-x.First, 4)
	fold := []int{x.First, x.First + 2, x.First + 3}
	write(t, s, func(tx Tx) error { return tx.Fold(t.Context(), d.ID, x.First, fold) })
	moments, err := s.Moments(t.Context(), d.ID)
	require.NoError(t, err)
	require.Len(t, moments, 27)
	after := moments[x.First] // first + 4 readings, three of which are folded
	assert.Equal(t, x.First+4, after.Seq)
	assert.Equal(t, 2, after.Folded)
	assert.Equal(t, want[after.Seq-1].Signals, after.Signals, "what moved is told against the last that is left")
	r, err := s.Reading(t.Context(), d.ID, after.Seq)
	require.NoError(t, err)
	assert.Equal(t, want[after.Seq-1], r)
	_, err = s.Reading(t.Context(), d.ID, x.First+2)
	assert.ErrorContains(t, err, fmt.Sprintf("is folded: between reading %d and %d only clocks", x.First+1, x.First+4))
	times, err := s.FoldedTimes(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, map[int][]time.Time{
		x.First - 1: {want[x.First-1].At}, x.First + 1: {want[x.First+1].At, want[x.First+2].At},
	}, times)
	has, err := s.HasReading(t.Context(), d.Identity.Key, want[x.First+1].At, want[x.First+1].Report)
	require.NoError(t, err)
	assert.True(t, has, "a record file of before does not bring it back")
	for statement, why := range map[string]string{
		`UPDATE stretch SET pages = x'00'`:                             "a reading is never changed",
		`UPDATE stretch SET folded = 0`:                                "a reading is never changed",
		`DELETE FROM stretch`:                                          "a reading is kept for ever",
		`INSERT OR REPLACE INTO stretch SELECT * FROM stretch LIMIT 1`: "a reading is never changed",
	} {
		err := s.Write(t.Context(), func(tx Tx) error { _, err := tx.tx.ExecContext(t.Context(), statement); return err })
		assert.ErrorContains(t, err, why, statement)
	}
}

func FuzzOpenStretch(f *testing.F) {
	r := stretchRow{First: 2, From: 1000}
	h := held{seq: 2, at: moment(5000), took: time.Second, report: rand.Text(), differs: []byte{3, 1, 9}}
	r.append(h, held{at: moment(1000)})
	f.Add(r.Pages, r.Signals)
	f.Fuzz(func(_ *testing.T, pages, signals []byte) {
		r := stretchRow{First: 2, Readings: 1, Pages: pages, Signals: signals}
		all, err := r.open()
		if err == nil {
			_, _ = patched([]reading.Page{page(reading.PageIdentify, 1)}, all[0].differs)
		}
	})
}
