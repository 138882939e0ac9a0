package write

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/protocol"
)

var (
	now = time.Date(2026, 9, 1, 10, 0, 0, 0, time.UTC)
	key = drive.Key{Model: "Korvan K4-2000", Serial: "KVA07-7M4Q2"}
)

// sound is a mend that nothing speaks against.
func sound() Asked {
	return Asked{
		Kind:    check.Mend,
		Key:     key,
		Now:     now,
		Allowed: true,
		Rework: &check.Rework{
			Ending:  "07 7m4q2",
			Targets: []surface.Extent{{LBA: 8, Sectors: 8}},
			Release: check.Release{
				Key:     key,
				Scope:   check.Mend,
				Owner:   "Ms Adeyemi-Holt, by phone",
				Expires: now.Add(time.Minute),
				Nonce:   "one",
			},
		},
		Bay: protocol.Bay{
			ID:         drive.Bay{Number: 3},
			Connection: protocol.Answering,
			Key:        key,
			Device:     drive.Attachment{Node: "sdx", Transport: "SATA", Serial: "KVA077M4Q2"},
		},
		Others: map[drive.Bay]drive.Key{{Number: 3}: key, {Number: 4}: {Model: "Korvan K4-2000", Serial: "KVA07-7M4R9"}},
	}
}

func TestWhatIsRefusedBeforeAnythingIsOpened(t *testing.T) {
	require.Nil(t, Admit(sound()))
	for reason, change := range map[Reason]func(*Asked){
		NotHere:     func(a *Asked) { a.Allowed = false },
		NoRelease:   func(a *Asked) { a.Rework = nil },
		OtherDrive:  func(a *Asked) { a.Rework.Release.Key.Serial = "KVA077M4R9" },
		TooNarrow:   func(a *Asked) { a.Kind = check.Overwrite },
		Expired:     func(a *Asked) { a.Now = a.Rework.Release.Expires },
		NoEnding:    func(a *Asked) { a.Rework.Ending = "7M4Q2" },
		WrongEnding: func(a *Asked) { a.Rework.Ending = "077M4Q3" },
		NoName: func(a *Asked) { // an adapter that passes nothing has a serial of its own, and it is the one that was typed
			a.Bay.Connection, a.Bay.Key, a.Bay.Device.Transport = protocol.Unread, drive.Key{}, "USB"
		},
		Image:     func(a *Asked) { a.Bay.Device.Transport = "image" },
		Behind:    func(a *Asked) { a.Bay.Device.Behind = "behind a RAID controller" },
		Twice:     func(a *Asked) { a.Others[drive.Bay{Number: 9}] = drive.Key{Model: "another model", Serial: key.Serial} },
		Locked:    func(a *Asked) { a.Identity.Security.Locked = true },
		LinkFails: func(a *Asked) { a.Rework.LinkFails = true },
		NoTargets: func(a *Asked) { a.Rework.Targets = nil },
		InUse:     func(a *Asked) { a.Bay.Device.InUse = "mounted at /" },
		Swapped:   func(a *Asked) { a.Bay.Key.Serial = "KVA07-7M4R9" },
	} {
		a := sound()
		change(&a)
		refused := Admit(a)
		if assert.NotNil(t, refused, reason) {
			assert.Equal(t, reason, refused.Reason, refused.Error())
			assert.NotEmpty(t, refused.Advice)
			assert.NotContains(t, refused.Error(), "7M4Q2", "the end of the serial is to be read off the label")
		}
	}
	a := sound()
	a.Rework.Release.Owner = ""
	assert.Equal(t, NoRelease, Admit(a).Reason, "a release without an owner is none")
	a = sound()
	a.Begun, a.Now = true, now.Add(30*time.Hour)
	assert.Nil(t, Admit(a), "a rework that has begun goes on, however long it takes")
	a.Bay.Connection = protocol.StuckBay
	assert.Equal(t, drive.FaultStuck, Admit(a).Class)
}

func TestAWiderReleaseCoversALesserRework(t *testing.T) {
	r := check.Release{Scope: check.Renew}
	assert.True(t, r.Allows(check.Mend))
	assert.True(t, r.Allows(check.Renew))
	assert.False(t, r.Allows(check.Overwrite))
	assert.False(t, r.Allows(check.Whole), "a sweep is no rework")
	assert.False(t, check.Release{Scope: "everything"}.Allows(check.Mend), "a word nobody knows allows nothing")
}

// machine is a source whose answers a test sets.
type machine struct {
	device.Source
	uses   []string
	cannot error
	opened *held
}

type held struct {
	device.Exclusive
	closed bool
}

func (h *held) Close() error { h.closed = true; return nil }

func (m *machine) Uses(context.Context, drive.Attachment) ([]string, error) { return m.uses, m.cannot }

func (m *machine) OpenExclusive(context.Context, drive.Attachment) (device.Exclusive, error) {
	if m.opened == nil {
		return nil, m.cannot
	}
	return m.opened, nil
}

func TestWhatIsRefusedAtTheOpening(t *testing.T) {
	named := func(k drive.Key) func(context.Context) (drive.Key, *drive.Fault) {
		return func(context.Context) (drive.Key, *drive.Fault) { return k, nil }
	}
	right := named(key)
	_, refused := Open(t.Context(), struct{ device.Source }{}, sound(), right)
	assert.Equal(t, NoSurface, refused.Reason)
	_, refused = Open(t.Context(), &machine{uses: []string{"swap space", "held by dm-0"}}, sound(), right)
	assert.Equal(t, InUse, refused.Reason)
	assert.Contains(t, refused.Cause, "swap space, held by dm-0")
	_, refused = Open(t.Context(), &machine{cannot: errors.New("no /sys")}, sound(), right)
	assert.Equal(t, FirstRead, refused.Reason)

	m := &machine{opened: &held{}}
	x, refused := Open(t.Context(), m, sound(), right)
	require.Nil(t, refused)
	assert.Same(t, m.opened, x)
	assert.False(t, m.opened.closed)

	_, refused = Open(t.Context(), m, sound(), named(drive.Key{Model: key.Model, Serial: "KVA07-7M4R9"}))
	assert.Equal(t, Swapped, refused.Reason, "changed between the confirmation and the start")
	assert.True(t, m.opened.closed, "nothing is held")
	_, refused = Open(t.Context(), m, sound(), func(context.Context) (drive.Key, *drive.Fault) {
		return drive.Key{}, &drive.Fault{Class: drive.FaultLink, What: "IDENTIFY DEVICE", Cause: "damaged"}
	})
	assert.Equal(t, FirstRead, refused.Reason)
}

// unopened is a source whose opening fails in one way.
type unopened struct {
	device.Source
	class drive.FaultClass
}

func (u unopened) Uses(context.Context, drive.Attachment) ([]string, error) { return nil, nil }

func (u unopened) OpenExclusive(context.Context, drive.Attachment) (device.Exclusive, error) {
	return nil, &device.Failed{Class: u.class, What: "opening", Cause: "it cannot"}
}

func TestWhyASurfaceIsNotOpened(t *testing.T) {
	for class, reason := range map[drive.FaultClass]Reason{
		drive.FaultInUse: Held, drive.FaultNotAllowed: ReadOnly, drive.FaultVanished: Swapped, drive.FaultNoAnswer: NoSurface,
	} {
		_, refused := Open(t.Context(), unopened{class: class}, sound(), nil)
		require.NotNil(t, refused)
		assert.Equal(t, reason, refused.Reason)
	}
}
