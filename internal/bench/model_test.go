package bench

import (
	"crypto/rand"
	"maps"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/bench/worker"
	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// modelBay is all a person at the bench knows of a bay.
type modelBay struct {
	serial    string // of the drive in it; empty: none
	nameless  bool   // the drive does not tell its name
	use       string // of the machine for the drive
	protected bool   // the machine was asked to refuse writing to it
	refuses   bool   // and does, though nobody remembers after a restart: the shop asks again
	said      bool   // a person says there is a drive
	attempts  int
	label     string
}

// modelRun is all a person who ordered a run knows of it.
type modelRun struct {
	serial  string
	stopped bool
	pulled  int        // so often its drive lost its power
	ended   *check.Run // as it was told first
}

// model is a bench of two bays as it should be, beside the one that is.
type model struct {
	t      *testing.T
	rt     *rapid.T
	path   string
	source *sim.Bench
	*shop
	bays [3]modelBay // by number
	all  map[int64]*modelRun
	told int64 // last sequence
	full bool  // the journal's disk may be
}

// Errorf tells what is not as it should be at once, too: rapid tells it when it fails again.
func (m *model) Errorf(format string, args ...any) {
	m.t.Logf(format, args...)
	m.rt.Errorf(format, args...)
}

// FailNow implements require.TestingT.
func (m *model) FailNow() { m.rt.FailNow() }

var modelPlaces = [3]drive.Address{1: "one", 2: "two"}

// settle lets what is under way come to rest, takes in what the bench reports, and compares.
func (m *model) settle() {
	time.Sleep(time.Second)
	synctest.Wait()
	m.hear()
	for n := 1; n <= 2; n++ {
		m.compareBay(n)
	}
	open, err := m.bench.Journal.OpenRuns(m.t.Context())
	require.NoError(m, err)
	var ids []int64
	for _, r := range open {
		ids = append(ids, r.ID)
	}
	var wanted []int64
	for _, id := range slices.Sorted(maps.Keys(m.all)) {
		if m.compareRun(id); m.all[id].ended == nil {
			wanted = append(wanted, id)
		}
	}
	require.Equal(m, wanted, ids, "open are those of which nobody was told that they ended")
}

// hear takes in what the bench reports.
func (m *model) hear() {
	for {
		reports, err := m.bench.Journal.Reports(m.t.Context())
		require.NoError(m, err)
		if len(reports) == 0 {
			break
		}
		for _, r := range reports {
			require.Greater(m, r.Seq, m.told, "a sequence is used once")
			m.told = r.Seq
			m.heard(r)
		}
		require.NoError(m, m.bench.Acknowledge(m.t.Context(), m.told))
	}
}

func (m *model) heard(r protocol.Report) {
	if r.Run != nil {
		known := m.all[r.Run.ID]
		require.NotNil(m, known, "a run that was ordered")
		require.Nil(m, known.ended, "nothing is told of a run after its end")
		if before, again := m.runs[r.Run.ID]; again {
			for i, s := range before.Steps {
				over := s.State == check.StepDone || s.State == check.StepFailed || s.State == check.StepSkipped
				require.False(m, over && r.Run.Steps[i].State != s.State, "a step that is over stays so: %+v", r.Run.Steps)
			}
		}
		if r.Run.State == check.Done {
			known.ended = r.Run
		}
	}
	m.keep(r)
}

func (m *model) compareBay(n int) {
	want, is := m.bays[n], m.shop.bays[n]
	connection := protocol.Answering
	switch {
	case want.nameless:
		connection = protocol.Unread
	case want.serial == "" && want.said:
		connection = protocol.Silent
	case want.serial == "":
		connection = protocol.Empty
	}
	require.Equal(m, connection, is.Connection, "bay %d: %+v", n, is)
	require.Equal(m, want.label, is.Label)
	require.Equal(m, want.attempts, is.Attempts)
	require.Equal(m, want.protected, is.WriteProtected, "bay %d", n)
	require.Equal(m, want.refuses, m.source.Guarded(modelPlaces[n]))
	require.Equal(m, want.use, is.Device.InUse)
	key := drive.Key{}
	if connection == protocol.Answering {
		key = drive.Key{Model: "Korvan K4-2000", Serial: want.serial}
	}
	require.Equal(m, key, is.Key)
	found, err := m.source.Look(m.t.Context())
	require.NoError(m, err)
	at := slices.IndexFunc(found, func(d drive.Attachment) bool { return d.Address == modelPlaces[n] })
	if at < 0 {
		require.Equal(m, drive.Attachment{}, is.Device, "an empty bay keeps nothing of its drive")
		require.Equal(m, connection == protocol.Silent, is.Fault != nil)
		return
	}
	require.Equal(m, found[at], is.Device)
	require.Equal(m, want.nameless, is.Fault != nil)
}

func (m *model) compareRun(id int64) {
	want, is := m.all[id], m.runs[id]
	attached := m.bayOf(want.serial) > 0
	switch {
	case want.ended == nil && attached:
		require.Contains(m, []check.State{check.Running, check.Stopping}, is.State)
		require.Equal(m, m.bayOf(want.serial), is.Bay.Number)
		require.False(m, want.stopped, "a stop is obeyed within a second")
	case want.ended == nil:
		require.Equal(m, check.Absent, is.State)
	case want.stopped:
		require.Equal(m, check.Stopped, is.Outcome)
		require.Equal(m, "stopped by Imre", is.Reason.String())
	case want.pulled > 2 && is.Outcome == check.Failed:
		require.Contains(m, is.Steps[1].Note.String(), "interrupted by a reset", "it is not tried for ever")
	default:
		require.Equal(m, check.Passed, is.Outcome, "%+v", is)
		require.EqualValues(m, 100, is.Reached)
		require.Equal(m, []check.StepState{check.StepDone, check.StepDone, check.StepDone, check.StepDone}, states(is))
	}
}

func (m *model) bayOf(serial string) int {
	return slices.IndexFunc(m.bays[:], func(b modelBay) bool { return b.serial == serial && serial != "" && !b.nameless })
}

// openRun is the run of a drive that nobody knows the end of, 0 when there is none.
func (m *model) openRun(serial string) int64 {
	for id, r := range m.all {
		if r.serial == serial && r.ended == nil {
			return id
		}
	}
	return 0
}

func (m *model) bay() int { return rapid.IntRange(1, 2).Draw(m.rt, "bay") }

func (m *model) insert(*rapid.T) {
	n := m.bay()
	serial := rapid.SampledFrom([]string{"KVA077M511", "KVA077M512", ""}).Draw(m.rt, "drive")
	if at := m.bayOf(serial); at > 0 && at != n {
		m.rt.Skip("it is in the other bay")
	}
	m.pull(n)
	m.source.Insert(modelPlaces[n], disk(serial))
	b := &m.bays[n]
	*b = modelBay{serial: serial, nameless: serial == "", said: b.said, attempts: b.attempts, label: b.label}
	if b.nameless {
		b.serial = "without a name"
	} else {
		b.said, b.attempts = false, 0
	}
}

// pull notes that the drive in a bay loses its power.
func (m *model) pull(n int) {
	if id := m.openRun(m.bays[n].serial); id > 0 {
		m.all[id].pulled++
	}
}

func (m *model) remove(*rapid.T) {
	n := m.bay()
	m.pull(n)
	m.source.Remove(modelPlaces[n])
	b := &m.bays[n]
	*b = modelBay{said: b.said, attempts: b.attempts, label: b.label}
}

func (m *model) use(*rapid.T) {
	n := m.bay()
	if m.bays[n].serial == "" {
		m.rt.Skip("nothing to use")
	}
	m.bays[n].use = rapid.SampledFrom([]string{"", "mounted at /srv", "swap"}).Draw(m.rt, "by")
	m.source.Change(modelPlaces[n], func(s *sim.Spec) { s.Awkward.InUse = m.bays[n].use })
}

func (m *model) protect(*rapid.T) {
	n, on := m.bay(), rapid.Bool().Draw(m.rt, "on")
	_, err := m.order(m.t, protocol.Order{Kind: protocol.OrderWriteProtect, Bay: at(n), On: on})
	if m.bays[n].serial == "" {
		refusal(m, drive.FaultNotRead, err)
		return
	}
	require.NoError(m, err)
	m.bays[n].protected, m.bays[n].refuses = on, on
}

func (m *model) attempt(*rapid.T) {
	n := m.bay()
	_, err := m.order(m.t, protocol.Order{Kind: protocol.OrderAttempt, Bay: at(n)})
	if m.noRoom(err) {
		return
	}
	if b := &m.bays[n]; b.serial == "" {
		b.said = true
		b.attempts++
	}
}

func (m *model) vacate(*rapid.T) {
	n := m.bay()
	_, err := m.order(m.t, protocol.Order{Kind: protocol.OrderVacate, Bay: at(n)})
	if m.noRoom(err) {
		return
	}
	m.bays[n].said, m.bays[n].attempts = false, 0
}

func (m *model) name(*rapid.T) {
	n, label := m.bay(), rapid.SampledFrom([]string{"", "left dock", "shelf 2"}).Draw(m.rt, "label")
	_, err := m.order(
		m.t, protocol.Order{Kind: protocol.OrderSetBay, Bay: at(n), Setting: &protocol.BaySetting{Number: n, Label: label}},
	)
	if !m.noRoom(err) {
		m.bays[n].label = label
	}
}

// ask gives an order for the drive in a bay, which may be another one than is asked for, and tells whether it was taken.
func (m *model) ask(kind protocol.OrderKind) (receipt protocol.Receipt, serial string, taken bool) {
	n := m.bay()
	serial = rapid.SampledFrom([]string{"KVA077M511", "KVA077M512"}).Draw(m.rt, "for")
	o := protocol.Order{
		Kind: kind, Bay: at(n), Key: drive.Key{Model: "Korvan K4-2000", Serial: serial}, ID: rand.Text(), By: "Dov",
	}
	receipt, err := m.order(m.t, o)
	if rapid.Bool().Draw(m.rt, "given twice, since nobody heard the answer") {
		if receipt.Run != nil {
			o.Run = receipt.Run.ID
		}
		again, answer := m.bench.Order(m.t.Context(), o)
		require.Equal(m, err, answer, "it is answered as it was")
		require.Equal(m, receipt.Run != nil, again.Run != nil)
		if receipt.Run != nil {
			require.Equal(m, o.Run, again.Run.ID, "and carried out once")
		}
	}
	b := m.bays[n]
	switch {
	case b.nameless:
		require.Error(m, err)
	case b.serial == "":
		refusal(m, drive.FaultNoAnswer, err)
	case b.serial != serial:
		refusal(m, drive.FaultWrongDrive, err)
	case kind == protocol.OrderCheck && m.openRun(serial) > 0:
		refusal(m, drive.FaultInUse, err)
	default:
		return receipt, serial, !m.noRoom(err)
	}
	return receipt, serial, false
}

func (m *model) check(*rapid.T) {
	if receipt, serial, taken := m.ask(protocol.OrderCheck); taken {
		m.all[receipt.Run.ID] = &modelRun{serial: serial}
	}
}

func (m *model) read(*rapid.T) {
	before := len(m.readings)
	if _, serial, taken := m.ask(protocol.OrderRead); taken {
		m.settle()
		came := 0
		for _, r := range m.readings[before:] {
			if r.Order != "" && r.Key.Serial == serial {
				came++
			}
		}
		require.Equal(m, 1, came, "an ordered reading comes, once")
	}
}

func (m *model) stop(*rapid.T) {
	if len(m.all) == 0 {
		m.rt.Skip("no run")
	}
	id := rapid.SampledFrom(slices.Sorted(maps.Keys(m.all))).Draw(m.rt, "run")
	over := m.all[id].ended != nil
	_, err := m.order(m.t, protocol.Order{Kind: protocol.OrderStop, Bay: at(1), Run: id, By: "Imre"})
	if over {
		refusal(m, drive.FaultInUse, err)
		return
	}
	if !m.noRoom(err) {
		m.all[id].stopped = true
	}
}

func (m *model) restart(*rapid.T) {
	bays, runs := m.shop.bays, m.runs
	m.end()
	m.shop = start(m.t, m.source, m.path)
	m.shop.bays, m.runs = bays, runs
	for n := range m.bays {
		m.bays[n].protected = false
	}
}

// noRoom reports whether an order was refused because the journal had no room: then nothing has happened.
func (m *model) noRoom(err error) bool {
	if err != nil && !m.full {
		require.NoError(m, err)
	}
	if err != nil {
		require.ErrorContains(m, err, "keeps nothing more")
	}
	return err != nil
}

// fill has the journal's disk be full for some time, from any commit on, while something happens.
func (m *model) fill(*rapid.T) {
	m.full = true
	defer func() { // what is skipped has done nothing, and no time passes in it: nothing would be compared after it
		m.full = false
		m.room.fillAfter(-1)
	}()
	m.room.fillAfter(rapid.Int64Range(0, 3).Draw(m.rt, "commits"))
	things := map[string]func(*rapid.T){
		"insert": m.insert, "remove": m.remove, "attempt": m.attempt, "vacate": m.vacate, "name": m.name, "check": m.check, "stop": m.stop,
		"wait": m.wait,
	}
	things[rapid.SampledFrom(slices.Sorted(maps.Keys(things))).Draw(m.rt, "meanwhile")](m.rt)
	m.wait(m.rt)
	m.room.fillAfter(-1)
	time.Sleep(2 * worker.Again)
}

func (m *model) wait(*rapid.T) {
	time.Sleep(time.Duration(rapid.IntRange(1, 20).Draw(m.rt, "seconds")) * time.Second)
}

// Whatever happens to two bays and the runs in them, in whatever order, what the bench reports is what a person sees there.
func TestABenchTellsWhatHappensToIt(t *testing.T) {
	t.Parallel()
	bubble.Cases(t, 25)
	rapid.Check(t, func(rt *rapid.T) {
		bubble.Test(t, func(t *testing.T) {
			m := &model{t: t, rt: rt, path: filepath.Join(t.TempDir(), "bench.db"), all: map[int64]*modelRun{}}
			m.source = sim.New(sim.NewClock(60), "", modelPlaces[1:]...)
			m.shop = start(t, m.source, m.path)
			m.settle()
			rt.Repeat(map[string]func(*rapid.T){
				"":        func(*rapid.T) { m.settle() },
				"insert":  m.insert,
				"remove":  m.remove,
				"use":     m.use,
				"protect": m.protect,
				"attempt": m.attempt,
				"vacate":  m.vacate,
				"name":    m.name,
				"check":   m.check,
				"read":    m.read,
				"stop":    m.stop,
				"fill":    m.fill,
				"restart": m.restart,
				"wait":    m.wait,
			})
			for n := 1; n <= 2; n++ { // at last every drive may finish what it began
				m.source.Insert(modelPlaces[n], disk([]string{1: "KVA077M511", 2: "KVA077M512"}[n]))
			}
			for id, r := range m.all {
				if r.ended == nil {
					m.take(t, "its end", m.done(id))
				}
			}
		})
	})
}
