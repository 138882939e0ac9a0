package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

var now = time.Date(2026, 11, 12, 15, 12, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s
}

func write(t *testing.T, s *Store, f func(tx Tx) error) {
	t.Helper()
	require.NoError(t, s.Write(t.Context(), f))
}

func addDrive(t *testing.T, s *Store, serial string) shop.Drive {
	t.Helper()
	d := shop.Drive{
		Identity:  drive.Identity{Key: drive.Key{Model: "Korvan K4-2000", Serial: serial}, Medium: drive.Spinning},
		Duty:      drive.Everyday,
		FirstSeen: now,
	}
	write(t, s, func(tx Tx) error { return tx.SaveDrive(t.Context(), &d) })
	return d
}

func page(name reading.PageName, fill byte) reading.Page {
	b := make([]byte, 512)
	for i := range b {
		b[i] = fill
	}
	return reading.Page{Name: name, How: "test", Bytes: b}
}

func addReading(t *testing.T, s *Store, d shop.Drive, id string, pages ...reading.Page) shop.Reading {
	t.Helper()
	r := shop.Reading{
		Drive:   d.ID,
		At:      now,
		Took:    38 * time.Millisecond,
		Bay:     drive.Bay{Number: 2},
		Run:     7,
		Step:    check.ReadingAfter,
		Tool:    "test",
		Decoder: 1,
		Report:  id,
		Pages:   pages,
	}
	write(t, s, func(tx Tx) error {
		return tx.AddReading(t.Context(), &r, signal.Set{signal.Pending: {Number: 8, Available: true}})
	})
	return r
}

func TestAReadingComesBackByteForByte(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	fault := &drive.Fault{Class: drive.FaultNotPassed, What: "SMART RETURN STATUS", Cause: "no registers"}
	addReading(t, s, d, "a", page(reading.PageIdentify, 1), page(reading.PageAttributes, 2))
	want := addReading(
		t, s, d, "b", page(reading.PageIdentify, 1), page(reading.PageAttributes, 3),
		reading.Page{Name: reading.PageAlarm, Fault: fault},
	)
	got, err := s.Reading(t.Context(), d.ID, 2)
	require.NoError(t, err)
	assert.Equal(t, map[signal.Name]float64{signal.Pending: 8}, got.Signals.Map())
	want.Signals = got.Signals
	assert.Equal(t, want, got)
	first, err := s.Reading(t.Context(), d.ID, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 2, first.Pages[1].Bytes[0])
}

func TestAPageThatDidNotChangeIsStoredOnce(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	for i := range 5 {
		addReading(t, s, d, fmt.Sprint(i), page(reading.PageIdentify, 1), page(reading.PageAttributes, 2))
	}
	var frames int
	require.NoError(t, s.db.Read.GetContext(t.Context(), &frames, `SELECT COUNT(*) FROM reading_raw`))
	assert.Equal(t, 1, frames)
	last, err := s.Reading(t.Context(), d.ID, 5)
	require.NoError(t, err)
	assert.Len(t, last.Pages[1].Bytes, 512)
}

func TestAPageIsStoredAsADifferenceAndComesBackWhole(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	at := func(n int) reading.Page { // a page of which little changes
		p := page(reading.PageAttributes, 7)
		p.Bytes[n%512], p.Bytes[100] = byte(n), byte(n/2)
		return p
	}
	const many = rebase + 30
	for n := range many {
		pages := []reading.Page{page(reading.PageIdentify, 1), at(n)}
		if n%10 == 3 { // a page that was not read in between
			pages[1] = reading.Page{Name: reading.PageAttributes, Fault: &drive.Fault{Class: drive.FaultRefused, Cause: "busy"}}
		}
		addReading(t, s, d, fmt.Sprint(n), pages...)
	}
	for n := range many {
		r, err := s.Reading(t.Context(), d.ID, n+1)
		require.NoError(t, err)
		if n%10 == 3 {
			assert.Equal(t, "busy", r.Pages[1].Fault.Cause)
			continue
		}
		require.Equal(t, at(n).Bytes, r.Pages[1].Bytes, "reading %d", n+1)
	}
}

func TestAReportIsKnownOnceItIsStored(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	for _, want := range []bool{false, true} {
		known, err := s.HasReading(t.Context(), d.Identity.Key, now, "same")
		require.NoError(t, err)
		assert.Equal(t, want, known)
		if !known {
			addReading(t, s, d, "same", page(reading.PageIdentify, 1))
		}
	}
	err := s.Write(t.Context(), func(tx Tx) error {
		r := shop.Reading{Drive: d.ID, At: now, Report: "same"}
		return tx.AddReading(t.Context(), &r, signal.Set{})
	})
	assert.ErrorContains(t, err, "UNIQUE", "the database holds it, too")
}

func TestAManifestFromBeforeThePackedFormIsStillRead(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	addReading(t, s, d, "old", page(reading.PageIdentify, 9))
	write(t, s, func(tx Tx) error {
		_, err := tx.tx.ExecContext(t.Context(), `DROP TRIGGER reading_stays`) // of later than that form
		require.NoError(t, err)
		_, err = tx.tx.ExecContext(
			t.Context(),
			`UPDATE reading SET leaves = NULL,
			  manifest = '[{"n":"ata/identify","h":"test","x":"000102030405060708090a0b","s":1,"o":0,"z":512},`+
				`{"n":"ata/alarm","f":{"class":"refused","what":"w","back":"b"}}]'`,
		)
		return err
	})
	r, err := s.Reading(t.Context(), d.ID, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 9, r.Pages[0].Bytes[511])
	assert.Equal(t, "b", r.Pages[1].Fault.Cause)
	addReading(t, s, d, "new", page(reading.PageIdentify, 8))
	r, err = s.Reading(t.Context(), d.ID, 2)
	require.NoError(t, err)
	assert.EqualValues(t, 8, r.Pages[0].Bytes[0])
}

func FuzzUnpackLeaves(f *testing.F) {
	f.Add(pack([]leaf{{kind: 3, seq: 2, at: 9, size: 512, base: 1}, {kind: 4, fault: &drive.Fault{}}}))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = unpack(b) })
}

func TestAChangeThatFailsLeavesNothing(t *testing.T) {
	s := open(t)
	cause := errors.New("the second half failed")
	err := s.Write(t.Context(), func(tx Tx) error {
		d := shop.Drive{Identity: drive.Identity{Key: drive.Key{Model: "M", Serial: "S"}}}
		if err := tx.SaveDrive(t.Context(), &d); err != nil {
			return err
		}
		return cause
	})
	require.ErrorIs(t, err, cause)
	_, err = s.DriveByKey(t.Context(), drive.Key{Model: "M", Serial: "S"})
	var none *shop.NotFound
	assert.ErrorAs(t, err, &none)
}

func TestDrivesAreFoundByWhatPeopleKnow(t *testing.T) {
	s := open(t)
	a, b := addDrive(t, s, "KVA077M511"), addDrive(t, s, "KVA07 7M4Q2")
	addDrive(t, s, "50%_OFF")
	write(t, s, func(tx Tx) error {
		return tx.SaveIntake(
			t.Context(),
			&shop.Intake{Drive: b.ID, Bay: drive.Bay{Number: 1}, Ticket: "2231", Customer: "Marram Müller Seed Library", At: now},
		)
	})
	write(t, s, func(tx Tx) error {
		return tx.SaveNow(t.Context(), a.ID, shop.Now{Grade: drive.Degrading, LastAt: now})
	})
	degrading := drive.Degrading
	for name, row := range map[string]struct {
		query shop.Query
		want  []string
	}{
		"all":                         {shop.Query{}, []string{"50%_OFF", "KVA07 7M4Q2", "KVA077M511"}},
		"part of a serial":            {shop.Query{Text: "7m5"}, []string{"KVA077M511"}},
		"a ticket":                    {shop.Query{Text: "2231"}, []string{"KVA07 7M4Q2"}},
		"a customer":                  {shop.Query{Text: "seed"}, []string{"KVA07 7M4Q2"}},
		"a ticket as it is written":   {shop.Query{Text: " #2231"}, []string{"KVA07 7M4Q2"}},
		"without a letter's marks":    {shop.Query{Text: "MULLER"}, []string{"KVA07 7M4Q2"}},
		"a serial as it is printed":   {shop.Query{Text: "KVA07 7M511"}, []string{"KVA077M511"}},
		"the most urgent first":       {shop.Query{Urgent: true}, []string{"KVA077M511", "50%_OFF", "KVA07 7M4Q2"}},
		"those behind it":             {shop.Query{Urgent: true, Behind: a.ID, Limit: 1}, []string{"50%_OFF"}},
		"behind the last":             {shop.Query{Urgent: true, Behind: b.ID}, nil},
		"a sign with another meaning": {shop.Query{Text: "0%_"}, []string{"50%_OFF"}},
		"a verdict":                   {shop.Query{Grade: &degrading}, []string{"KVA077M511"}},
		"the next page":               {shop.Query{After: "KVA07 7M4Q2", Limit: 5}, []string{"KVA077M511"}},
		"nothing":                     {shop.Query{Text: "%"}, []string{"50%_OFF"}},
	} {
		for _, few = range []int{0, 10_000} {
			found, err := s.Drives(t.Context(), row.query)
			require.NoError(t, err, name)
			var serials []string
			for _, d := range found {
				serials = append(serials, d.Identity.Serial)
			}
			assert.Equal(t, row.want, serials, "%s, by way of %d", name, few)
		}
	}
	found, err := s.DrivesBySuffix(t.Context(), "77M4Q2")
	require.NoError(t, err)
	require.Len(t, found, 1, "blanks in a serial do not matter")
}

func TestADriveKnowsItsBayAndItsSignature(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	v := shop.Verdict{Verdict: verdict.Verdict{Grade: drive.Degrading, Duty: drive.Everyday, Policy: 1}, Drive: d.ID, At: now, Reading: 1}
	sign := shop.SignOff{At: now, By: "Imre", Grade: drive.Replace, Reason: "clicks"}
	write(t, s, func(tx Tx) error {
		return errors.Join(
			tx.SaveBay(t.Context(), protocol.Bay{ID: drive.Bay{Number: 5}, Connection: protocol.Answering, Key: d.Identity.Key}),
			tx.AddVerdict(t.Context(), &v),
			tx.Sign(t.Context(), d.ID, 1, sign),
			tx.SaveNow(
				t.Context(), d.ID,
				shop.Now{Grade: drive.Degrading, VerdictSeq: 1, Signed: &sign, Hours: 0, HasHours: true, LastAt: now},
			),
		)
	})
	got, err := s.Drive(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, drive.Bay{Number: 5}, got.Now.Bay)
	assert.Equal(t, sign, *got.Now.Signed)
	assert.True(t, got.Now.HasHours, "0 hours are known hours")
	assert.False(t, got.Now.HasTemp)
	last, err := s.LastVerdict(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, drive.Degrading, last.Grade)
	assert.Equal(t, "clicks", last.Signed.Reason)
	assert.Error(t, s.Write(t.Context(), func(tx Tx) error { return tx.Sign(t.Context(), d.ID, 1, sign) }), "a verdict is signed once")
}

func TestOldEventsGoNewOnesStay(t *testing.T) {
	s := open(t)
	write(t, s, func(tx Tx) error {
		for range 12_000 {
			if err := tx.AddEvent(t.Context(), &shop.Event{At: now, Kind: shop.BayChanged}); err != nil {
				return err
			}
		}
		return nil
	})
	first, err := s.Events(t.Context(), 0, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 2001, first[0].Seq)
	last, err := s.LastEvent(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 12_000, last)
}

func TestReadersDoNotWaitForTheWriter(t *testing.T) {
	s := open(t)
	addDrive(t, s, "KVA077M511")
	write(t, s, func(Tx) error {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		all, err := s.Drives(ctx, shop.Query{})
		assert.Len(t, all, 1)
		return err
	})
}

// Lists are narrowed by what somebody stands before: a kind, a lot, a verdict.
func TestDrivesByKindAndLot(t *testing.T) {
	s := open(t)
	spins, lies := addDrive(t, s, "KVA077M511"), addDrive(t, s, "BWS03C4502")
	write(t, s, func(tx Tx) error {
		spins.Identity.Medium, lies.Identity.Medium = drive.Spinning, drive.Flash
		l := shop.Lot{By: "Dov"}
		i := shop.Intake{Drive: lies.ID, By: "Dov"}
		for _, err := range []error{tx.SaveDrive(t.Context(), &spins), tx.SaveDrive(t.Context(), &lies), tx.SaveLot(t.Context(), &l)} {
			if err != nil {
				return err
			}
		}
		i.Lot = l.ID
		return tx.SaveIntake(t.Context(), &i)
	})
	serials := func(q shop.Query) []string {
		all, err := s.Drives(t.Context(), q)
		require.NoError(t, err)
		out := []string{}
		for _, d := range all {
			out = append(out, d.Identity.Serial)
		}
		return out
	}
	assert.Equal(t, []string{"BWS03C4502", "KVA077M511"}, serials(shop.Query{}))
	assert.Equal(t, []string{"KVA077M511"}, serials(shop.Query{Medium: drive.Spinning}))
	assert.Equal(t, []string{"BWS03C4502"}, serials(shop.Query{Lot: 1}))
	assert.Empty(t, serials(shop.Query{Lot: 1, Medium: drive.Spinning}))
	assert.Empty(t, serials(shop.Query{Lot: 2}))
}

func TestNoPageOfDrivesLosesOneThatSharesItsSerial(t *testing.T) {
	s := open(t)
	for _, key := range []drive.Key{
		{Model: "Korvan", Serial: "A1"},
		{Model: "Tamberlin", Serial: "A1"},
		{Model: "Brackwater", Serial: "A1"},
		{Model: "Korvan", Serial: "B2"},
	} {
		d := shop.Drive{Identity: drive.Identity{Key: key}, Duty: drive.Everyday, FirstSeen: now}
		write(t, s, func(tx Tx) error { return tx.SaveDrive(t.Context(), &d) })
	}
	for limit := 1; limit <= 5; limit++ {
		var all []string
		for after := ""; ; {
			some, err := s.Drives(t.Context(), shop.Query{After: after, Limit: limit})
			require.NoError(t, err)
			for _, d := range some {
				all = append(all, d.Identity.Model+" "+d.Identity.Serial)
				after = d.Identity.Serial
			}
			if len(some) < limit {
				break
			}
		}
		assert.ElementsMatch(t, []string{"Korvan A1", "Tamberlin A1", "Brackwater A1", "Korvan B2"}, all, "pages of %d", limit)
	}
}

func TestAListTellsWhatTheDrivesDo(t *testing.T) {
	s := open(t)
	d := addDrive(t, s, "KVA077M511")
	d.Identity.Interface, d.Identity.Bytes, d.Duty = drive.NVMe, 2_000_000_086_016, drive.Archive
	sign := shop.SignOff{At: now, By: "Imre", Grade: drive.Degrading}
	write(t, s, func(tx Tx) error {
		return errors.Join(
			tx.SaveDrive(t.Context(), &d),
			tx.SaveBay(t.Context(), protocol.Bay{ID: drive.Bay{Number: 3}, Key: d.Identity.Key}),
			tx.SaveNow(
				t.Context(),
				d.ID,
				shop.Now{
					Grade:       drive.Degrading,
					Signed:      &sign,
					Margin:      "3 of 100 used",
					MarginShare: 0.03,
					Findings:    1,
					First:       "3 sectors",
					Hours:       12,
					HasHours:    true,
					Readings:    2,
					LastAt:      now,
				},
			),
		)
	})
	addDrive(t, s, "KVA077M60A")
	for _, q := range []shop.Query{{}, {Medium: drive.Spinning}, {Text: "7M5"}} {
		drives, err := s.Drives(t.Context(), q)
		require.NoError(t, err)
		all, err := s.List(t.Context(), q)
		require.NoError(t, err)
		require.Len(t, all, len(drives))
		for i, one := range all {
			whole := drives[i]
			one.Now.VerdictSeq, one.Now.VerdictDigest = whole.Now.VerdictSeq, whole.Now.VerdictDigest
			one.Now.Policy, one.Now.OtherBays = whole.Now.Policy, whole.Now.OtherBays
			assert.Equal(t, whole.Listed(), one)
		}
	}
}
