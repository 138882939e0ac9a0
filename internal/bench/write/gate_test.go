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

// Every refusal, with exactly the one condition changed that it is for.
func TestWhatIsRefusedBeforeAnythingIsOpened(t *testing.T) {
	require.Nil(t, Admit(sound()))
	other := drive.Key{Model: key.Model, Serial: "KVA07-7M4R9"}
	for what, c := range map[string]struct {
		reason Reason
		class  drive.FaultClass
		change func(*Asked)
	}{
		"bench without the permission": {NotHere, drive.FaultNotAllowed, func(a *Asked) { a.Allowed = false }},
		"no rework":                    {NoRelease, drive.FaultNotAllowed, func(a *Asked) { a.Rework = nil }},
		"no nonce":                     {NoRelease, drive.FaultNotAllowed, func(a *Asked) { a.Rework.Release.Nonce = "" }},
		"no owner":                     {NoRelease, drive.FaultNotAllowed, func(a *Asked) { a.Rework.Release.Owner = "" }},
		"a sibling's release":          {OtherDrive, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Release.Key = other }},
		"another model's release":      {OtherDrive, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Release.Key.Model = "K4" }},
		"mend for overwrite":           {TooNarrow, drive.FaultNotAllowed, func(a *Asked) { a.Kind = check.Overwrite }},
		"mend for renew":               {TooNarrow, drive.FaultNotAllowed, func(a *Asked) { a.Kind = check.Renew }},
		"order as old as it may be":    {Expired, drive.FaultNotAllowed, func(a *Asked) { a.Now = a.Rework.Release.Expires }},
		"five characters":              {NoEnding, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Ending = "7M4Q2" }},
		"five, and a blank":            {WrongEnding, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Ending = " 7M4Q2" }},
		"a wrong ending":               {WrongEnding, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Ending = "077M4Q3" }},
		"the beginning":                {WrongEnding, drive.FaultWrongDrive, func(a *Asked) { a.Rework.Ending = "KVA077" }},
		"an image":                     {Image, drive.FaultNotAllowed, func(a *Asked) { a.Bay.Device.Transport = "image" }},
		"a controller":                 {Behind, drive.FaultBehind, func(a *Asked) { a.Bay.Device.Behind = "behind a RAID controller" }},
		"an earlier command":           {Swapped, drive.FaultStuck, func(a *Asked) { a.Bay.Connection = protocol.StuckBay }},
		"an empty bay":                 {Swapped, drive.FaultNoAnswer, func(a *Asked) { a.Bay.Connection = protocol.Empty }},
		"a silent bay":                 {Swapped, drive.FaultNoAnswer, func(a *Asked) { a.Bay.Connection = protocol.Silent }},
		"a sibling in the bay":         {Swapped, drive.FaultWrongDrive, func(a *Asked) { a.Bay.Key = other }},
		"use by this machine":          {InUse, drive.FaultInUse, func(a *Asked) { a.Bay.Device.InUse = "mounted at /" }},
		"a lock":                       {Locked, drive.FaultLocked, func(a *Asked) { a.Identity.Security.Locked = true }},
		"a bad link":                   {LinkFails, drive.FaultLink, func(a *Asked) { a.Rework.LinkFails = true }},
		"nothing to mend":              {NoTargets, drive.FaultNotRead, func(a *Asked) { a.Rework.Targets = nil }},
		"its serial in another bay, of another model": {Twice, drive.FaultWrongDrive, func(a *Asked) {
			a.Others[drive.Bay{Number: 9}] = drive.Key{Model: "another model", Serial: key.Serial}
		}},
		"an adapter that passes nothing, whose own serial is typed": {NoName, drive.FaultNotPassed, func(a *Asked) {
			a.Bay.Connection, a.Bay.Key, a.Bay.Device.Transport = protocol.Unread, drive.Key{}, "USB"
		}},
	} {
		a := sound()
		c.change(&a)
		refused := Admit(a)
		require.NotNil(t, refused, what)
		assert.Equal(t, c.reason, refused.Reason, "%s: %v", what, refused)
		assert.Equal(t, c.class, refused.Class, what)
		assert.NotEmpty(t, refused.Cause, what)
		assert.NotEmpty(t, refused.Advice, what)
		assert.NotContains(t, refused.Error(), "7M4Q2", "the end of the serial is to be read off the label")
		_, opening := Open(t.Context(), &machine{opened: &held{}}, a, nil)
		assert.Equal(t, refused, opening, "%s: it is asked again at the opening", what)
	}
}

func TestWhatIsNoReasonToRefuse(t *testing.T) {
	for what, change := range map[string]func(*Asked){
		"begun, however long ago it was ordered": func(a *Asked) { a.Begun, a.Now = true, now.Add(30*time.Hour) },
		"ordered just in time":                   func(a *Asked) { a.Now = a.Rework.Release.Expires.Add(-time.Nanosecond) },
		"six characters":                         func(a *Asked) { a.Rework.Ending = "77M4Q2" },
		"a wider release":                        func(a *Asked) { a.Rework.Release.Scope = check.Overwrite },
		"nothing to mend, and no mend": func(a *Asked) {
			a.Kind, a.Rework.Release.Scope, a.Rework.Targets = check.Renew, check.Renew, nil
		},
	} {
		a := sound()
		change(&a)
		assert.Nil(t, Admit(a), what)
	}
}

func TestHowARefusalIsTold(t *testing.T) {
	a := sound()
	a.Rework.LinkFails = true
	refused := Admit(a)
	assert.Equal(t, &protocol.Refusal{
		Class: drive.FaultLink, What: "mend in bay 3", Cause: refused.Cause, Advice: refused.Advice,
	}, refused.Refusal(check.Mend, a.Bay.ID))
	assert.Equal(t, &drive.Fault{
		Class: drive.FaultLink, What: "beginning to mend", Cause: refused.Cause, Extra: refused.Advice,
	}, refused.Fault(check.Mend))
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
	_, refused = Open(t.Context(), &machine{uses: []string{"swap space"}, opened: &held{}}, sound(), right)
	require.NotNil(t, refused, "one use is enough")
	assert.Equal(t, InUse, refused.Reason)
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
	assert.Contains(t, refused.Cause, "IDENTIFY DEVICE: damaged")
	_, refused = Open(t.Context(), m, sound(), func(context.Context) (drive.Key, *drive.Fault) {
		return key, &drive.Fault{Class: drive.FaultLink}
	})
	assert.Equal(t, FirstRead, refused.Reason, "a name that came with a fault is none")
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
		assert.Equal(t, class, refused.Class)
		assert.Equal(t, "it cannot", refused.Cause)
	}
}
