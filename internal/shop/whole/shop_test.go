package whole_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/protocol"
	recordfile "hylostat.example/internal/record"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/judge"
	"hylostat.example/internal/shop/record"
	"hylostat.example/internal/shop/runs"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/sqlite"
	"hylostat.example/internal/store"
	"hylostat.example/internal/vector"
)

// bench is a bench that notes its orders.
type bench struct {
	shop    *whole.Shop // which it reports to
	mu      sync.Mutex
	orders  []protocol.Order // mu; the shop orders from several goroutines
	reports []protocol.Report
	hears   func(o protocol.Order) error // what comes of an order besides; nil: nothing
	full    int                          // so often its disk has no room for an acknowledgement
	took    chan int64
	going   chan protocol.Progress
}

func (b *bench) Describe() protocol.Description {
	return protocol.Description{Title: "north bench", Factor: 1}
}

func (b *bench) Bond(context.Context) (protocol.Bond, error) {
	return protocol.Bond{Bench: "north", Next: 1}, nil
}

func (b *bench) Bind(context.Context, string, int64) error { return nil }

func (b *bench) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	b.mu.Lock()
	b.orders = append(b.orders, o)
	b.mu.Unlock()
	r := check.Run{
		ID: o.Run, Kind: cmp.Or(o.Check, check.Quick), Bay: o.Bay, Key: o.Key, State: check.Queued, Rework: o.Rework, By: o.By, Order: o.ID,
	}
	if b.shop != nil {
		r.Asked = b.shop.Clock.Now()
	}
	if o.Kind == protocol.OrderCheck && !o.Asking && b.shop != nil { // its first report is on the way at once
		if err := b.shop.Take(ctx, "", protocol.Report{Run: &r}); err != nil {
			return protocol.Receipt{}, err
		}
	}
	if b.hears != nil {
		if err := b.hears(o); err != nil {
			return protocol.Receipt{}, err
		}
	}
	return protocol.Receipt{Run: &r}, nil
}

func (b *bench) Reports(ctx context.Context) ([]protocol.Report, error) {
	if len(b.reports) > 0 {
		return b.reports, nil
	}
	<-ctx.Done()
	return nil, ctx.Err()
}

func (b *bench) Acknowledge(_ context.Context, seq int64) error {
	if b.full > 0 {
		b.full--
		return errors.New("no room left on its disk")
	}
	b.reports = b.reports[1:]
	b.took <- seq
	return nil
}

func (b *bench) Resend(context.Context, int64) error { return nil }

func (b *bench) Progress(context.Context) (<-chan protocol.Progress, error) { return b.going, nil }

// ordered are the orders it noted so far.
func (b *bench) ordered() []protocol.Order {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.orders)
}

// lastCheck is the last check or rework it was ordered: what the shop asks by itself when a drive comes (volumes, write protection) may
// arrive before or after it.
func (b *bench) lastCheck() protocol.Order {
	var last protocol.Order
	for _, o := range b.ordered() {
		if o.Kind == protocol.OrderCheck {
			last = o
		}
	}
	return last
}

// forget lets a test count from here.
func (b *bench) forget() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.orders = nil
}

type clock struct{ at time.Time }

func (c *clock) Now() time.Time { return c.at }

// who is somebody in an open shop.
func who(name string) shop.Actor { return shop.Actor{Name: name, Via: access.OpenShop} }

var begin = time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)

// place is a shop over an empty store, a bench and a clock of its own.
type place struct {
	storage whole.Storage
	*whole.Shop
	t     *testing.T
	bench *bench
	clock *clock
	taken int
	file  string // of its store
	logs  *vector.Logs
}

func benchesOf(t *testing.T, st *store.Store, all ...protocol.Bench) *fleet.Fleet {
	t.Helper()
	var expected []protocol.Description
	for _, b := range all {
		expected = append(expected, b.Describe())
	}
	f, err := fleet.New(slog.New(slog.DiscardHandler), expected...)
	require.NoError(t, err)
	for _, b := range all {
		require.NoError(t, f.Join(t.Context(), st, b, true)) // it keeps nothing from one shop to the next
	}
	return f
}

// attended has a shop attend a bench until the context ends.
func attended(ctx context.Context, s *whole.Shop, b protocol.Bench) <-chan error {
	ended := make(chan error, 1)
	go func() {
		attending := make(chan error, 1)
		go func() { attending <- s.Attend(ctx, b) }()
		ended <- errors.Join(s.Run(ctx), <-attending)
	}()
	return ended
}

func open(t *testing.T, gates ...sqlite.Gate) *place {
	t.Helper()
	b := &bench{}
	p := openWith(t, b, gates...)
	p.bench, b.shop = b, p.Shop
	return p
}

// openWith is open with a bench that carries orders out.
func openWith(t *testing.T, b protocol.Bench, gates ...sqlite.Gate) *place {
	t.Helper()
	return openAs(t, b, func(*whole.Storage) {}, gates...)
}

// openAs is openWith, with more beside the storage.
func openAs(t *testing.T, b protocol.Bench, more func(*whole.Storage), gates ...sqlite.Gate) *place {
	t.Helper()
	file := filepath.Join(t.TempDir(), "shop.db")
	st, err := store.Open(t.Context(), file, gates...)
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	db := sqlx.MustOpen("sqlite", file) // its signatures are the same every time
	db.MustExec(`UPDATE shop SET seal = zeroblob(32)`)
	require.NoError(t, db.Close())
	p := &place{t: t, clock: &clock{begin}, file: file, logs: &vector.Logs{}}
	p.storage = st.Storage()
	more(&p.storage)
	p.Shop, err = whole.New(t.Context(), "Saltmarsh Lane", p.storage, benchesOf(t, st, b), policy.Default, p.clock, p.logs.Logger())
	require.NoError(t, err)
	t.Cleanup(p.Wait)
	return p
}

// state is what a drive says of itself.
type state struct {
	serial                      string
	hours, reallocated, pending uint64
	heat                        byte
	tests                       []ata.SelfTest
	broken                      bool
}

func (s state) key() drive.Key { return drive.Key{Model: "Korvan K4-2000", Serial: s.serial} }

func (s state) pages() []reading.Page {
	id := ata.Identify{
		Serial:            s.serial,
		Model:             "Korvan K4-2000",
		Sectors:           3_906_250_168,
		LBA48:             true,
		LogicalSector:     512,
		RotationRate:      7200,
		FormFactor:        2,
		SMARTSupported:    true,
		SMARTEnabled:      true,
		SelfTestSupported: true,
		Integrity:         ata.IntegrityRight,
	}
	slot := func(id uint8, raw uint64) ata.Attribute {
		a := ata.Attribute{ID: id, Value: 100, Worst: 100}
		a.PutRaw48(raw)
		return a
	}
	data := ata.AttributePage{
		CanTest: true,
		Attributes: []ata.Attribute{
			slot(5, s.reallocated),
			slot(9, s.hours),
			slot(10, 0),
			slot(184, 0),
			slot(194, uint64(s.heat)),
			slot(197, s.pending),
			slot(198, 0),
			slot(199, 0),
		},
	}.Encode()
	if s.broken {
		data[200] ^= 1
	}
	return []reading.Page{
		{Name: reading.PageIdentify, Bytes: id.Encode()},
		{Name: reading.PageAttributes, Bytes: data},
		{Name: reading.PageThresholds, Bytes: ata.EncodeThresholds(nil)},
		{Name: reading.PageAlarm, Bytes: sat.Sense(ata.AlarmRegisters(false), false).Encode()},
		{Name: reading.PageTestLog, Bytes: ata.SelfTestLog{Tests: s.tests}.Encode()},
	}
}

// read lets a reading arrive after some time.
func (p *place) read(after time.Duration, s state) {
	p.t.Helper()
	p.clock.at = p.clock.at.Add(after)
	p.taken++
	r := protocol.Reading{ID: fmt.Sprint(p.taken), Bay: drive.Bay{Number: 2}, Key: s.key(), At: p.clock.at, Pages: s.pages(), Tool: "test"}
	require.NoError(p.t, p.Take(p.t.Context(), "", protocol.Report{Reading: &r}))
}

func (p *place) bay(b protocol.Bay) desk.BayView {
	p.t.Helper()
	require.NoError(p.t, p.Take(p.t.Context(), "", protocol.Report{Bay: &b}))
	v, err := p.Bay(p.t.Context(), b.ID)
	require.NoError(p.t, err)
	return v
}

func (p *place) drive(name string) shop.Drive {
	p.t.Helper()
	d, err := p.FindDrive(p.t.Context(), name)
	require.NoError(p.t, err)
	return d
}

func (p *place) verdict(name string) shop.Verdict {
	p.t.Helper()
	v, err := p.Verdict(p.t.Context(), p.drive(name))
	require.NoError(p.t, err)
	return v
}

// tested is a drive with all the tests everyday use asks for.
func tested(serial string, hours uint64) state {
	return state{
		serial: serial,
		hours:  hours,
		heat:   39,
		tests:  []ata.SelfTest{{Number: ata.TestShort, Hours: uint16(hours) - 1}, {Number: ata.TestExtended, Hours: uint16(hours) - 9}},
	}
}

const week = 7 * 24 * time.Hour

func TestAVerdictFollowsEveryReadingAndIsNewOnlyWhenItSaysSomethingNew(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M511", 9000)
		p.read(0, s)
		assert.Equal(t, drive.Undecided, p.verdict("7M511").Grade, "one reading is not enough")
		for range 3 {
			s.hours += 80
			s.tests[0].Hours, s.tests[1].Hours = uint16(s.hours)-1, uint16(s.hours)-9
			p.read(week, s)
		}
		v := p.verdict("7M511")
		assert.Equal(t, drive.Healthy, v.Grade)
		assert.Equal(t, 2, v.Seq, "two of four readings changed the answer")
		s.pending, s.hours = 3, s.hours+80
		p.read(week, s)
		assert.Equal(t, drive.Degrading, p.verdict("7M511").Grade)
		s.pending, s.hours = 5, s.hours+80
		p.read(week, s)
		v = p.verdict("7M511")
		assert.Equal(t, drive.Replace, v.Grade, "grown in two of the last three intervals")
		assert.Contains(t, v.Findings[0].Detail, "pending sectors: 0 at 9\u00a0240 h, first seen at 9\u00a0320 h, reading 5")
		changes, err := p.History(t.Context(), p.drive("7M511"))
		require.NoError(t, err)
		assert.Equal(t, "Pending sectors 3 to 5", changes[0].Says.String())
	})
}

// A bench whose disk is full for a while cannot even forget what was taken in; the shop goes on with it when it can.
func TestAFullDiskAtTheBenchEndsNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.bench.reports = []protocol.Report{
			{Seq: 4, Bay: &protocol.Bay{ID: drive.Bay{Number: 3}, Connection: protocol.Silent}},
			{Seq: 5, Bay: &protocol.Bay{ID: drive.Bay{Number: 3}, Connection: protocol.Empty}},
		}
		p.bench.full, p.bench.took = 1, make(chan int64, 2)
		ctx, cancel := context.WithCancel(t.Context())
		ended := attended(ctx, p.Shop, p.bench)
		for last := int64(0); last < 5; { // of both at once, or of one after the other
			select {
			case last = <-p.bench.took:
			case err := <-ended:
				require.Fail(t, "the shop has ended", "%v", err)
			}
		}
		cancel()
		require.NoError(t, <-ended)
		v, err := p.Bay(t.Context(), drive.Bay{Number: 3})
		require.NoError(t, err)
		assert.Equal(t, protocol.Empty, v.Bay.Connection)
	})
}

func TestADamagedReadingDoesNotTouchWhatIsKnown(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M511", 9000)
		s.reallocated = 3
		p.read(0, s)
		p.read(week, s)
		s.broken = true
		p.read(week, s)
		d := p.drive("7M511")
		assert.Equal(t, 3, d.Now.Readings)
		assert.False(t, d.Now.HasHours, "not known now, and no 0")
		v := p.verdict("7M511")
		assert.Equal(t, "reallocated", v.Findings[0].Rule, "what was known stands: one damaged transfer grades nothing")
		assert.Contains(
			t, v.Missing, verdict.Missing{ID: "whole-pages", What: "a reading without damaged pages", Run: "a reading", Minutes: 1},
		)
		p.read(5*time.Minute, s)
		assert.Equal(t, "damaged-pages", p.verdict("7M511").Findings[0].Rule, "what came whole before comes damaged again")
		p.read(55*time.Minute, s)
		assert.Equal(t, "damaged-pages-stay", p.verdict("7M511").Findings[0].Rule, "and an hour later, too")
		s.broken = false
		p.read(week, s)
		courses, moments, err := p.Courses(t.Context(), p.drive("7M511"))
		require.NoError(t, err)
		assert.Len(t, moments, 6)
		for _, c := range courses {
			if c.Definition.Name == signal.Reallocated {
				assert.Equal(t, []float64{3, 3, 3}, c.Values, "the damaged reading has no point")
				assert.Equal(t, 1, c.Finding)
				assert.EqualValues(t, 100, *c.Limit)
			}
		}
	})
}

func TestABayFindsItsWordsAndItsOneAction(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M511", 9000)
		p.read(0, s)
		answering := protocol.Bay{
			ID:         drive.Bay{Number: 2},
			Connection: protocol.Answering,
			Key:        s.key(),
			Device:     drive.Attachment{Node: "sda"},
		}
		for name, row := range map[string]struct {
			bay    protocol.Bay
			action desk.Action
			doing  string
		}{
			"empty": {
				protocol.Bay{ID: drive.Bay{Number: 1}, Connection: protocol.Empty},
				desk.ActionDriveIn,
				"Put a drive in. It is read as soon as it answers.",
			},
			"silent": {
				protocol.Bay{ID: drive.Bay{Number: 1}, Connection: protocol.Silent, Attempts: 2},
				desk.ActionTryAgain,
				"No answer, attempt 2. Check its power.",
			},
			"stuck": {
				protocol.Bay{
					ID:         drive.Bay{Number: 1},
					Connection: protocol.StuckBay,
					Fault:      &drive.Fault{Class: drive.FaultStuck, What: "IDENTIFY DEVICE", Cause: "no answer for 30s"},
				},
				desk.ActionTryAgain, "IDENTIFY DEVICE: no answer for 30s. Others continue.",
			},
			"unread": {
				protocol.Bay{
					ID:         drive.Bay{Number: 1},
					Connection: protocol.Unread,
					Fault:      &drive.Fault{Class: drive.FaultNotRead, What: "opening nvme0n1", Cause: "the kernel refuses pass-through"},
				},
				desk.ActionOpen, "Counters not read: the kernel refuses pass-through.",
			},
			"checked": {answering, desk.ActionCheck, "Missing: a reading before and after a check"},
		} {
			v := p.bay(row.bay)
			assert.Equal(t, row.action, v.Action, name)
			assert.Equal(t, row.doing, v.Doing.String(), name)
		}
		p.read(week, tested("KVA077M511", 9080))
		assert.Equal(t, desk.ActionSign, p.bay(answering).Action)
		_, err := p.Sign(t.Context(), who("Dov"), p.drive("7M511"), 0, drive.Undecided, "")
		require.NoError(t, err)
		assert.Equal(t, desk.ActionOpen, p.bay(answering).Action)
		answering.Device.InUse = "mounted at /srv"
		assert.Equal(t, "In use: mounted at /srv", p.bay(answering).Note.String())
		require.NoError(
			t,
			p.Take(
				t.Context(),
				"",
				protocol.Report{
					Run: &check.Run{
						ID:    3,
						Kind:  check.Quick,
						Bay:   drive.Bay{Number: 2},
						Key:   s.key(),
						State: check.Running,
						Steps: []check.Step{{Kind: check.ShortTest, State: check.Begun}},
					},
				},
			),
		)
		assert.Equal(t, "Quick: short self-test", p.bay(answering).Doing.String())
	})
}

func TestAnIntakeWaitsForItsDriveAndSetsItsDuty(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Empty})
		i, err := p.TakeIn(
			t.Context(), who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Ticket: " 2233 ", Duty: drive.Carry, Copied: true},
		)
		require.NoError(t, err)
		assert.Equal(t, protocol.OrderAttempt, p.bench.ordered()[0].Kind, "taking in says that there is a drive")
		assert.Equal(t, "2233", i.Ticket)
		assert.True(t, i.Wanted, "copied data was wanted")
		s := state{serial: "KVA077M511", hours: 9000, heat: 39, tests: []ata.SelfTest{{Number: ata.TestShort, Hours: 8999}}}
		p.read(time.Minute, s)
		v := p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: s.key()})
		require.NotNil(t, v.Intake)
		assert.Equal(t, i.ID, v.Intake.ID)
		p.read(time.Hour, s)
		assert.Equal(t, drive.Healthy, p.verdict("7M511").Grade, "for carrying files no extended test is asked")
		require.NoError(t, p.SetDuty(t.Context(), who("Dov"), p.drive("7M511"), drive.Everyday))
		v2 := p.verdict("7M511")
		assert.Equal(t, drive.Undecided, v2.Grade)
		assert.Equal(t, "extended-test", v2.Missing[0].ID)
		_, err = p.TakeIn(t.Context(), who("Dov"), shop.Intake{Bay: drive.Bay{Number: 77}})
		assert.ErrorContains(t, err, "there is no bay 77. List the bays.")
	})
}

// What is at risk is the data on a drive, in whichever bay it is: nothing that loads its surface starts, and the machine is told not to
// write to it, although the intake was opened for another bay, or before the drive had a name.
func TestDataAtRiskFollowsTheDrive(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx, node := t.Context(), drive.Attachment{Node: "sdx", Instance: "1"}
		s := state{serial: "KVA077M511", hours: 9000, heat: 39}
		protected := func(bay int) bool {
			p.Wait()
			for _, o := range slices.Backward(p.bench.ordered()) {
				if o.Kind == protocol.OrderWriteProtect && o.Bay.Number == bay {
					return o.On
				}
			}
			return false
		}
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Unread, Device: node})
		_, err := p.TakeIn(ctx, who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Wanted: true, Clicks: true})
		require.NoError(t, err)
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Unread, Device: node})
		assert.True(t, protected(2), "it has no name yet")
		p.read(time.Minute, s)
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: s.key(), Device: node})
		_, err = p.Check(ctx, who("Dov"), p.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.ErrorContains(t, err, "wanted and not copied")

		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Empty})
		v := p.bay(protocol.Bay{ID: drive.Bay{Bench: "", Number: 5}, Connection: protocol.Answering, Key: s.key(), Device: node})
		require.NotNil(t, v.Intake, "its intake goes with it")
		assert.Equal(t, desk.ActionRecordCopy, v.Action)
		assert.True(t, protected(5))
		_, err = p.Check(ctx, who("Dov"), p.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.ErrorContains(t, err, "wanted and not copied", "in another bay it is at risk as well")
		_, err = p.LookAtVolumes(ctx, who("Dov"), p.drive("7M511"))
		require.ErrorContains(t, err, "wanted and not copied")
		_, err = p.SetPlan(ctx, who("Dov"), "", check.Quick)
		require.NoError(t, err)
		assert.False(
			t, slices.ContainsFunc(p.bench.ordered(), func(o protocol.Order) bool { return o.Kind == protocol.OrderCheck }),
			"no plan starts anything",
		)
		_, err = p.RecordCopy(ctx, who("Dov"), drive.Bay{Number: 5})
		require.NoError(t, err)
		_, err = p.Check(ctx, who("Dov"), p.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.NoError(t, err)
		assert.False(
			t,
			p.bay(
				protocol.Bay{
					ID:         drive.Bay{Number: 2},
					Connection: protocol.Answering,
					Key:        state{serial: "KVA077M600"}.key(),
					Device:     node,
				},
			).Intake != nil,
			"another drive in the bay has no part in it",
		)
	})
}

// A newer edition brings a newer policy, and leaves a shop that has its own with that.
func TestAShippedPolicyNeverReplacesTheShopsOwn(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "shop.db"))
		require.NoError(t, err)
		t.Cleanup(func() { _ = st.Close() })
		edition := func(version string) *whole.Shop {
			shipped := regexp.MustCompile(`(?m)^version: \d+$`).ReplaceAll(policy.Default, []byte("version: "+version))
			s, err := whole.New(
				t.Context(), "Saltmarsh Lane", st.Storage(), benchesOf(t, st, &bench{}), shipped, &clock{begin},
				slog.New(slog.DiscardHandler),
			)
			require.NoError(t, err)
			return s
		}
		assert.Equal(t, 104, edition("104").Policy().Version)
		s := edition("105")
		assert.Equal(t, 105, s.Policy().Version)
		published, err := s.Publish(t.Context(), who("Imre"), policy.Default, "back to what we know")
		require.NoError(t, err)
		assert.Equal(t, 106, published.Version)
		assert.Equal(t, 106, edition("109").Policy().Version)
	})
}

func TestOnlyFindingFreeHealthyDrivesAreSignedTogether(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		warm, flawed := tested("KVA077M4S3", 9000), tested("KVA077M511", 9000)
		flawed.reallocated = 3
		for _, s := range []state{tested("KVA077M4R9", 9000), tested("KVA077M4T8", 9000), warm, flawed} {
			p.read(0, s)
			if s.serial == warm.serial {
				s.heat = 56 // warmer than advised: a note
			}
			p.read(week, s)
		}
		var drives []shop.Drive
		for _, name := range []string{"7M4R9", "7M4S3", "7M511"} {
			drives = append(drives, p.drive(name))
		}
		_, _, err := p.SignTogether(t.Context(), who(" "), drives)
		require.ErrorContains(t, err, "not known who does this")
		signed, left, err := p.SignTogether(t.Context(), who("Dov"), drives)
		require.NoError(t, err)
		assert.Equal(t, []string{"KVA077M4R9"}, signed)
		assert.Equal(
			t,
			[]judge.LeftUnsigned{
				{Serial: "KVA077M4S3", Why: "there is something to note: look at it, then sign it alone"},
				{Serial: "KVA077M511", Why: "it is degrading: look at it, then sign it alone"},
			},
			left,
		)
		assert.Equal(t, "Dov", p.drive("7M4R9").Now.Signed.By)
		signed, _, err = p.SignTogether(t.Context(), who("Imre"), nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"KVA077M4T8"}, signed, "of all there are, the one that is left")
	})
}

func TestSigningNamesWhatWasSeen(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.read(0, tested("KVA077M511", 9000))
		p.read(week, tested("KVA077M511", 9080))
		d := p.drive("7M511")
		for name, row := range map[string]struct {
			seen       int
			grade      drive.Grade
			by, reason string
			says       string
		}{
			"without a name":        {0, drive.Undecided, "  ", "", "not known who does this"},
			"an older verdict":      {1, drive.Undecided, "Dov", "", "was followed by verdict 2"},
			"otherwise without why": {2, drive.Replace, "Dov", " ", "needs a reason"},
		} {
			_, err := p.Sign(t.Context(), who(row.by), d, row.seen, row.grade, row.reason)
			assert.ErrorContains(t, err, row.says, name)
		}
		v, err := p.Sign(t.Context(), who("Imre"), d, 2, drive.Replace, "clicks")
		require.NoError(t, err)
		assert.Equal(t, drive.Healthy, v.Grade)
		assert.Equal(t, drive.Replace, v.Signed.Grade)
		_, err = p.Sign(t.Context(), who("Dov"), d, 2, drive.Undecided, "")
		assert.ErrorContains(t, err, "signed by Imre already")
		history, err := p.History(t.Context(), d)
		require.NoError(t, err)
		assert.Contains(t, history[0].Says.String(), "Overruled with replace by Imre: “clicks”")
		worse := tested("KVA077M511", 9160)
		worse.pending = 8
		p.read(week, worse)
		assert.Nil(t, p.verdict("7M511").Signed, "new evidence opens it again")
	})
}

func TestADriveIsNamedByWhatIsOnItsLabel(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		for _, serial := range []string{"KVA077M511", "KVA077M512", "X077M511"} {
			p.read(0, tested(serial, 9000))
		}
		p.bay(protocol.Bay{ID: drive.Bay{Number: 2}, Connection: protocol.Answering, Key: tested("KVA077M512", 0).key()})
		assert.Equal(t, "KVA077M512", p.drive("bay-2").Identity.Serial)
		assert.Equal(t, "KVA077M512", p.drive("7m512").Identity.Serial)
		assert.Equal(t, "X077M511", p.drive("X077M511").Identity.Serial, "a whole serial wins over an ending")
		_, err := p.FindDrive(t.Context(), "7M511")
		assert.ErrorContains(t, err, "names 2 drives: KVA077M511, X077M511. Give more of the serial.")
		_, err = p.FindDrive(t.Context(), "1K")
		assert.ErrorContains(t, err, "too short")
		_, err = p.FindDrive(t.Context(), "11")
		assert.ErrorContains(t, err, "there is no bay 11", "so short a number is a bay's")
		assert.Equal(t, "KVA077M512", p.drive("2").Identity.Serial)
		_, err = p.FindDrive(t.Context(), "bay-9")
		assert.ErrorContains(t, err, "there is no bay 9")
	})
}

func TestTwoReadingsAreCompared(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		s := tested("KVA077M511", 9000)
		p.read(0, s)
		s.reallocated, s.heat = 4, 44
		p.read(week, s)
		c, err := p.Compare(t.Context(), p.drive("7M511"), 0, 0)
		require.NoError(t, err)
		assert.Equal(t, 1, c.Then.Seq, "the last one before the last day")
		first := c.Rows[0]
		assert.Equal(t, signal.Reallocated, first.Definition.Name, "what moved and matters comes first")
		assert.Equal(t, "+4", first.Change)
		assert.Equal(t, "new flaws in the surface, replaced by spares", first.Says)
		for _, row := range c.Rows {
			if row.Now == nil {
				assert.NotEmpty(t, row.Reason, row.Definition.Name)
			}
		}
		_, err = p.Compare(t.Context(), p.drive("7M511"), 1, 9)
		assert.ErrorContains(t, err, "has readings 1 to 2, not 1 and 9")
	})
}

func TestListenersHearFactsInOrderAndStoredOnesAgain(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx, cancel := context.WithCancel(t.Context())
		heard := p.Listen(ctx)
		p.read(0, tested("KVA077M511", 9000))
		assert.Equal(t, shop.ReadingTaken, (<-heard).Kind)
		e := <-heard
		assert.Equal(t, shop.VerdictChanged, e.Kind)
		stored, err := p.Events(t.Context(), e.Seq-1, 10)
		require.NoError(t, err)
		require.Len(t, stored, 1)
		assert.Equal(t, e.Said.String(), stored[0].Said.String())
		cancel()
		_, open := <-heard
		assert.False(t, open)
	})
}

// carried makes a record file of a drive's states, one a day.
func carried(from time.Time, ids string, states ...state) recordfile.File {
	f := recordfile.New(from)
	d := recordfile.Drive{Model: states[0].key().Model, Serial: states[0].serial}
	for i, s := range states {
		d.Readings = append(
			d.Readings,
			recordfile.Reading{
				ID:    fmt.Sprintf("%s%d", ids, i),
				At:    from.Add(time.Duration(i) * 24 * time.Hour),
				Tool:  "elsewhere",
				Pages: recordfile.FromPages(s.pages()),
			},
		)
	}
	f.Drives = append(f.Drives, d)
	return f
}

func TestTheSameFileTakenInTwiceChangesNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.clock.at = begin.Add(48 * time.Hour)
		f := carried(begin, "a", state{serial: "KVA077M511", hours: 100}, state{serial: "KVA077M511", hours: 110, pending: 4})
		first, err := p.Import(t.Context(), who("Dov"), f)
		require.NoError(t, err)
		assert.Equal(t, []record.Imported{{Key: f.Drives[0].Key(), Readings: 2}}, first)
		before, err := p.History(t.Context(), p.drive("KVA077M511"))
		require.NoError(t, err)
		second, err := p.Import(t.Context(), who("Dov"), f)
		require.NoError(t, err)
		assert.Equal(t, []record.Imported{{Key: f.Drives[0].Key(), Known: 2}}, second)
		after, err := p.History(t.Context(), p.drive("KVA077M511"))
		require.NoError(t, err)
		assert.Equal(t, before, after)

		out, err := p.Export(t.Context(), p.drive("KVA077M511"))
		require.NoError(t, err)
		require.Len(t, out.Drives[0].Readings, 2)
		assert.Equal(t, f.Drives[0].Readings[1].Pages, out.Drives[0].Readings[1].Pages, "pages go out as they came in")
		other := open(t)
		other.clock.at = p.clock.at
		_, err = other.Import(t.Context(), who("Dov"), out)
		require.NoError(t, err)
		there, err := other.History(t.Context(), other.drive("KVA077M511"))
		require.NoError(t, err)
		assert.Equal(t, len(before), len(there), "another shop tells the same life")
	})
}

func TestReadingsFromEarlierFindTheirPlaceInADrivesLife(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.read(20*24*time.Hour, state{serial: "KVA077M511", hours: 500, pending: 9, heat: 38})
		_, err := p.Import(
			t.Context(),
			who("Dov"),
			carried(
				begin, "old", state{serial: "KVA077M511", hours: 100, heat: 30},
				state{serial: "KVA077M511", hours: 120, pending: 2, heat: 30},
			),
		)
		require.NoError(t, err)
		d := p.drive("KVA077M511")
		assert.Equal(t, begin, d.FirstSeen.UTC())
		assert.EqualValues(t, 500, d.Now.Hours, "the latest reading stays the latest")
		moments, err := p.Readings(t.Context(), d)
		require.NoError(t, err)
		hours := []float64{}
		for _, m := range moments {
			hours = append(hours, m.Signals.Map()[signal.PowerOnHours])
		}
		assert.Equal(t, []float64{100, 120, 500}, hours)
		latest, err := p.Reading(t.Context(), d, 0)
		require.NoError(t, err)
		assert.EqualValues(t, 38, latest.Signals.Map()[signal.Temperature])
		var changes []string
		history, err := p.History(t.Context(), d)
		require.NoError(t, err)
		for _, e := range history {
			if e.Kind == "change" {
				changes = append(changes, e.Says.String())
			}
		}
		assert.Equal(t, []string{"Pending sectors 2 to 9", "Pending sectors 0 to 2"}, changes, "what moved is told in the order of time")
		assert.Empty(t, p.verdict("KVA077M511").Notes, "no counter is taken for one that fell")
	})
}

func TestAClockOfMinutesIsFoundOutAndThePastReadAnew(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.read(0, state{serial: "KVA077M511", hours: 60_000})
		assert.EqualValues(t, 60_000, p.drive("KVA077M511").Now.Hours)
		p.read(24*time.Hour, state{serial: "KVA077M511", hours: 61_440})
		d := p.drive("KVA077M511")
		assert.Equal(t, dialect.Minutes, d.Hints.Hours)
		assert.EqualValues(t, 1024, d.Now.Hours)
		moments, err := p.Readings(t.Context(), d)
		require.NoError(t, err)
		assert.EqualValues(t, 1000, moments[0].Signals.Map()[signal.PowerOnHours], "the first reading says hours now, too")
		for _, f := range p.verdict("KVA077M511").Notes {
			assert.NotEqual(t, "rollback", f.Rule, "a clock read anew has not fallen")
		}
		done, err := p.Redecode(t.Context(), who("Dov"))
		require.NoError(t, err)
		assert.Equal(t, 2, done.Readings)
		assert.Zero(t, done.Changed, "decoding twice says the same")
	})
}

func TestADriveFoundAsleepKeepsItsVerdict(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.read(0, state{serial: "KVA077M511", hours: 100, reallocated: 3})
		before := p.verdict("KVA077M511")
		require.Equal(t, drive.Degrading, before.Grade)
		p.clock.at = p.clock.at.Add(time.Hour)
		pages := state{serial: "KVA077M511"}.pages()[:1]
		pages = append(
			pages,
			reading.Page{
				Name:  reading.PageAttributes,
				Fault: &drive.Fault{Class: drive.FaultAsleep, What: "SMART READ DATA", Cause: "the drive sleeps"},
			},
		)
		r := protocol.Reading{
			ID:    "asleep",
			Bay:   drive.Bay{Number: 2},
			Key:   state{serial: "KVA077M511"}.key(),
			At:    p.clock.at,
			Pages: pages,
			Tool:  "test",
		}
		require.NoError(t, p.Take(t.Context(), "", protocol.Report{Reading: &r}))
		assert.Equal(t, before.Seq, p.verdict("KVA077M511").Seq, "what was not asked decides nothing")
		d := p.drive("KVA077M511")
		assert.Equal(t, drive.Degrading, d.Now.Grade)
		assert.EqualValues(t, 100, d.Now.Hours)
		assert.Equal(t, 2, d.Now.Readings)
	})
}
