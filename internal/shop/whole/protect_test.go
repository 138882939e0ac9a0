package whole_test

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hylostat.example/internal/bubble"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

// kernel is a bench whose machine refuses to write to a drive when it is asked to.
type kernel struct {
	bench
	bays [3]protocol.Bay // by number
}

// Order implements protocol.Bench.
func (k *kernel) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	b := &k.bays[o.Bay.Number]
	if o.Kind == protocol.OrderWriteProtect && b.Device.Node != "" {
		b.WriteProtected = o.On
	}
	if o.Kind == protocol.OrderAttempt && b.Device.Node == "" {
		b.Connection = protocol.Silent
	}
	return protocol.Receipt{}, k.report(ctx, o.Bay.Number)
}

func (k *kernel) report(ctx context.Context, n int) error {
	b := k.bays[n]
	return k.shop.Take(ctx, "", protocol.Report{Bay: &b})
}

// modelIntake is what the person who took a drive in knows.
type modelIntake struct {
	id             int64
	ticket         string
	bay            int    // in which it waits for a drive to name itself; 0: nowhere
	serial         string // that has
	wanted, copied bool
	over           bool
}

type protection struct {
	*place
	rt      *rapid.T
	kernel  *kernel
	holds   [3]string // serials; "?" does not name itself
	intakes []*modelIntake
	tick    int
}

func (m *protection) bayNumber() int { return rapid.IntRange(1, 2).Draw(m.rt, "bay") }

// waiting is the newest intake that waits in a bay.
func (m *protection) waiting(n int) *modelIntake {
	for i := len(m.intakes) - 1; i >= 0; i-- {
		if x := m.intakes[i]; !x.over && x.serial == "" && x.bay == n {
			return x
		}
	}
	return nil
}

// leave notes that what waited in a bay is not there any more.
func (m *protection) leave(n int) {
	if x := m.waiting(n); x != nil {
		x.bay = 0
	}
}

// of is the open intake of what is in a bay.
func (m *protection) of(n int) *modelIntake {
	if serial := m.holds[n]; serial != "" && serial != "?" {
		for i := len(m.intakes) - 1; i >= 0; i-- {
			if x := m.intakes[i]; !x.over && x.serial == serial {
				return x
			}
		}
	}
	return m.waiting(n)
}

// named ties an intake to the drive that has named itself; older ones of that drive are over.
func (m *protection) named(x *modelIntake, serial string) {
	for _, other := range m.intakes {
		if other != x && !other.over && other.serial == serial {
			m.replaces(x, other)
		}
	}
	x.serial = serial
}

// replaces ends an intake for another one. What it protected stays protected.
func (m *protection) replaces(x, other *modelIntake) {
	other.over = true
	if other.wanted && !other.copied && (!x.wanted || x.copied) {
		x.wanted, x.copied = true, false
	}
}

func (m *protection) insert(*rapid.T) {
	n := m.bayNumber()
	serial := rapid.SampledFrom([]string{"KVA077M511", "KVA077M512", "?"}).Draw(m.rt, "drive")
	if serial != "?" && m.holds[3-n] == serial {
		m.rt.Skip("it is in the other bay")
	}
	if m.holds[n] != "" {
		m.removeFrom(n)
	}
	m.tick++
	m.holds[n] = serial
	b := &m.kernel.bays[n]
	*b = protocol.Bay{ID: b.ID, Connection: protocol.Unread, Device: drive.Attachment{Node: "sda", Instance: fmt.Sprint(m.tick)}}
	if serial != "?" {
		s := state{serial: serial, hours: uint64(100 + m.tick), heat: 30}
		m.read(time.Minute, s)
		b.Connection, b.Key = protocol.Answering, s.key()
		if x := m.waiting(n); x != nil {
			m.named(x, serial)
		}
	}
	require.NoError(m.rt, m.kernel.report(m.t.Context(), n))
}

func (m *protection) remove(*rapid.T) { m.removeFrom(m.bayNumber()) }

func (m *protection) removeFrom(n int) {
	b := &m.kernel.bays[n]
	if b.Connection == protocol.Silent { // it is empty after all
		m.leave(n)
	}
	m.holds[n] = ""
	*b = protocol.Bay{ID: b.ID, Connection: protocol.Empty}
	require.NoError(m.rt, m.kernel.report(m.t.Context(), n))
}

func (m *protection) takeIn(*rapid.T) {
	n := m.bayNumber()
	m.tick++
	x := &modelIntake{
		ticket: fmt.Sprint("T", m.tick), bay: n, wanted: rapid.Bool().Draw(m.rt, "wanted"), copied: rapid.Bool().Draw(m.rt, "copied"),
	}
	take := func(instead *desk.Instead) (shop.Intake, error) {
		return m.TakeInstead(
			m.t.Context(), who("Dov"), shop.Intake{
				Bay:    drive.Bay{Number: n},
				Ticket: x.ticket,
				Wanted: x.wanted,
				Copied: x.copied,
			}, instead,
		)
	}
	x.wanted = x.wanted || x.copied
	i, err := take(nil)
	if there := m.of(n); there != nil {
		require.ErrorAs(m.rt, err, new(*shop.Conflict))
		if rapid.Bool().Draw(m.rt, "another ticket") {
			_, err = take(&desk.Instead{Ticket: "T0"})
			require.ErrorAs(m.rt, err, new(*shop.Conflict))
			return
		}
		i, err = take(&desk.Instead{Ticket: there.ticket})
		m.replaces(x, there)
	}
	require.NoError(m.rt, err)
	x.id = i.ID
	m.intakes = append(m.intakes, x)
	if serial := m.holds[n]; serial != "" && serial != "?" {
		m.named(x, serial)
	}
}

// correct says that the data is wanted, or is not, or was not copied.
func (m *protection) correct(*rapid.T) {
	x := m.open()
	right := desk.Correction{}
	wanted := rapid.Bool().Draw(m.rt, "wanted")
	right.Wanted = &wanted
	if wanted && rapid.Bool().Draw(m.rt, "not copied") {
		right.Copied = new(bool)
	}
	if wanted == x.wanted && (right.Copied == nil || !x.copied) {
		m.rt.Skip("it is so")
	}
	_, err := m.ChangeIntake(m.t.Context(), who("Dov"), x.id, right)
	if !wanted && !x.copied {
		require.ErrorAs(m.rt, err, new(*shop.Invalid), "a reason is wanted")
		right.Why = "the owner wants nothing of it"
		_, err = m.ChangeIntake(m.t.Context(), who("Dov"), x.id, right)
	}
	require.NoError(m.rt, err)
	x.wanted, x.copied = wanted, wanted && x.copied && right.Copied == nil
}

func (m *protection) copyMade(*rapid.T) {
	n := m.bayNumber()
	x := m.of(n)
	_, err := m.RecordCopy(m.t.Context(), who("Dov"), drive.Bay{Number: n})
	if x == nil {
		require.Error(m.rt, err)
		return
	}
	require.NoError(m.rt, err)
	x.copied = true
}

func (m *protection) open() *modelIntake {
	var open []*modelIntake
	for _, x := range m.intakes {
		if !x.over {
			open = append(open, x)
		}
	}
	if len(open) == 0 {
		m.rt.Skip("no intake")
	}
	return rapid.SampledFrom(open).Draw(m.rt, "intake")
}

func (m *protection) handOver(*rapid.T) {
	x := m.open()
	_, err := m.HandOver(m.t.Context(), who("Dov"), x.id, shop.Handover{Goes: shop.Returned})
	require.NoError(m.rt, err)
	x.over = true
}

func (m *protection) move(*rapid.T) {
	x, n := m.open(), m.bayNumber()
	_, err := m.MoveIntake(m.t.Context(), who("Dov"), x.id, drive.Bay{Number: n})
	if x.serial != "" {
		require.ErrorAs(m.rt, err, new(*shop.Conflict))
		return
	}
	require.NoError(m.rt, err)
	if x.bay != n {
		m.leave(n)
	}
	x.bay = n
	if serial := m.holds[n]; serial != "" && serial != "?" && m.waiting(n) == x { // the bay's report says that it answers
		m.named(x, serial)
	}
}

// A bench that starts anew has forgotten what its machine was asked to refuse.
func (m *protection) restart(*rapid.T) {
	for n := 1; n <= 2; n++ {
		m.kernel.bays[n].WriteProtected = false
		require.NoError(m.rt, m.kernel.report(m.t.Context(), n))
	}
}

func (m *protection) compare(*rapid.T) {
	synctest.Wait()
	m.Wait()
	for n := 1; n <= 2; n++ {
		x := m.of(n)
		atRisk := x != nil && x.wanted && !x.copied
		require.Equal(m.rt, m.holds[n] != "" && atRisk, m.kernel.bays[n].WriteProtected, "bay %d holds %q: %+v", n, m.holds[n], x)
		v, err := m.Bay(m.t.Context(), drive.Bay{Number: n})
		require.NoError(m.rt, err)
		if m.holds[n] != "" {
			require.Equal(m.rt, x != nil, v.Intake != nil)
		}
		if x != nil && v.Intake != nil {
			require.Equal(m.rt, x.id, v.Intake.ID)
		}
	}
	for _, x := range m.intakes {
		all, err := m.Intakes(m.t.Context(), shop.IntakeQuery{})
		require.NoError(m.rt, err)
		for _, i := range all {
			if i.ID == x.id {
				require.Equal(m.rt, x.over, i.Handover != nil, "intake %d", x.id)
				require.Equal(m.rt, x.serial != "", i.Drive != 0, "intake %d", x.id)
			}
		}
	}
}

// Whoever takes drives in, puts them in and out, copies and hands over, in whatever order: what is wanted and not copied cannot be
// written to in any bay, and nothing else is kept from it.
func TestWhatIsWantedAndNotCopiedIsNotWrittenTo(t *testing.T) {
	t.Parallel()
	bubble.Cases(t, 15)
	rapid.Check(t, func(rt *rapid.T) {
		bubble.Test(t, func(t *testing.T) {
			k := &kernel{}
			m := &protection{place: openWith(t, k), rt: rt, kernel: k}
			k.shop = m.Shop
			for n := 1; n <= 2; n++ {
				m.kernel.bays[n] = protocol.Bay{ID: drive.Bay{Number: n}, Connection: protocol.Empty}
				require.NoError(rt, m.kernel.report(t.Context(), n))
			}
			rt.Repeat(map[string]func(*rapid.T){
				"":         m.compare,
				"insert":   m.insert,
				"remove":   m.remove,
				"take in":  m.takeIn,
				"copy":     m.copyMade,
				"correct":  m.correct,
				"handover": m.handOver,
				"move":     m.move,
				"restart":  m.restart,
			})
		})
	})
}
