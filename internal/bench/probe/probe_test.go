package probe

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// script is a device that answers as a function says, once Allow has let the command through as it would on any device.
type script struct {
	drive.Attachment
	answer func(c device.Command) device.Result
	sent   [][]byte
}

func (s *script) Describe() drive.Attachment { return s.Attachment }
func (s *script) Close() error               { return nil }

func (s *script) Exchange(_ context.Context, c device.Command) (device.Result, error) {
	if err := device.Allow(c); err != nil {
		return device.Result{}, err
	}
	s.sent = append(s.sent, c.CDB)
	r := s.answer(c)
	r.Data = r.Data[:min(len(r.Data), c.DataIn)]
	return r, nil
}

func check(s scsi.Sense) device.Result {
	return device.Result{Status: scsi.CheckCondition, Sense: s.Encode()}
}

var unknown = check(scsi.Sense{Key: scsi.IllegalRequest, ASC: 0x20})

// read takes a reading of a script.
func read(t *testing.T, s *script) map[reading.PageName]reading.Page {
	t.Helper()
	session, fault := Open(s, NotKnown)
	require.Nil(t, fault)
	by := map[reading.PageName]reading.Page{}
	for _, p := range session.Pages(context.Background(), Manner{Wake: true}) {
		by[p.Name] = p
	}
	return by
}

// disk answers ATA commands: identity by itself, the rest as told.
func disk(more func(c ata.Command) ([]byte, ata.Registers)) *script {
	id := ata.Identify{
		Serial:            "KVA077M511",
		Model:             "Korvan K4-2000",
		Sectors:           1000,
		LogicalSector:     512,
		GPL:               true,
		LBA48:             true,
		SMARTSupported:    true,
		SMARTEnabled:      true,
		SelfTestSupported: true,
		ErrorLogSupported: true,
	}
	return &script{Attachment: drive.Attachment{Transport: "SATA"}, answer: func(c device.Command) device.Result {
		if c.CDB[0] == scsi.Inquiry {
			return device.Result{Data: scsi.InquiryData{Vendor: "ATA", Product: "KORVAN"}.Encode()}
		}
		command, _, ok := sat.Decode(c.CDB)
		if !ok {
			return unknown
		}
		data, r := id.Encode(), ata.Registers{Status: 0x50, Reported: true}
		if command.Op != ata.IdentifyDevice {
			data, r = more(command)
		}
		if r.Failed() || command.Status {
			return check(sat.Sense(r, false))
		}
		return device.Result{Data: data}
	}}
}

var (
	fine    = ata.Registers{Status: 0x50, Reported: true}
	aborted = ata.Registers{Status: 0x51, Error: ata.ErrorABRT, Reported: true}
)

func TestEveryPageOfALogIsReadThatTheDirectoryLists(t *testing.T) {
	var pieces [][2]uint16
	s := disk(func(c ata.Command) ([]byte, ata.Registers) {
		switch {
		case c.Op == ata.ReadLogExt && uint8(c.LBA) == ata.LogDirectory:
			return ata.LogDirectoryPages{ata.LogErrorsExt: 300, ata.LogSelfTestExt: 3}.Encode(), fine
		case c.Op == ata.ReadLogExt:
			first, _ := c.LogPage()
			b := make([]byte, int(c.Count)*ata.PageSize)
			for i := range int(c.Count) {
				b[i*ata.PageSize] = uint8(int(first) + i) // each page carries its number
			}
			if uint8(c.LBA) == ata.LogErrorsExt {
				if pieces = append(pieces, [2]uint16{first, c.Count}); first >= 48 {
					return nil, aborted
				}
			}
			return b, fine
		}
		return make([]byte, ata.PageSize), fine
	})
	pages := read(t, s)
	assert.Equal(t, [][2]uint16{{0, 16}, {16, 16}, {32, 16}, {48, 16}}, pieces, "as far as it is bounded, in pieces")
	errors := pages[reading.PageErrorsExt]
	require.Nil(t, errors.Fault)
	require.Len(t, errors.Bytes, 48*ata.PageSize, "what came before a piece that failed is kept")
	assert.EqualValues(t, 47, errors.Bytes[47*ata.PageSize])
	assert.Len(t, pages[reading.PageTestLogExt].Bytes, 3*ata.PageSize)
}

func TestStatisticsComePageByPageWhereOneTransferIsTooLong(t *testing.T) {
	whole := ata.EncodeStatistics(
		[]ata.Statistic{
			{StatisticKey: ata.StatPowerOnHours, Value: 20_512, Valid: true},
			{StatisticKey: ata.StatPercentageUsed, Value: 9, Valid: true, Normalized: true},
		},
	)
	var asked []uint16
	s := disk(func(c ata.Command) ([]byte, ata.Registers) {
		switch {
		case uint8(c.LBA) == ata.LogDirectory:
			return ata.LogDirectoryPages{ata.LogDeviceStatistics: 256}.Encode(), fine
		case uint8(c.LBA) != ata.LogDeviceStatistics:
			return make([]byte, ata.PageSize), fine
		case c.Count > 1:
			return nil, aborted
		}
		first, _ := c.LogPage()
		asked = append(asked, first)
		return whole[int(first)*ata.PageSize:], fine
	})
	assert.Equal(t, whole, read(t, s)[reading.PageStatistics].Bytes)
	assert.Equal(t, []uint16{0, 1, 7}, asked, "those that the first page lists")
}

func TestADeferredSenseBelongsToAnEarlierCommand(t *testing.T) {
	tries := 0
	s := disk(func(ata.Command) ([]byte, ata.Registers) { return make([]byte, ata.PageSize), fine })
	answer := s.answer
	s.answer = func(c device.Command) device.Result {
		if command, _, ok := sat.Decode(c.CDB); ok && command.Feature == ata.SMARTReturnStatus {
			if tries++; tries < 3 {
				sense := sat.Sense(ata.AlarmRegisters(true), false)
				sense.Deferred, sense.Key, sense.ASC = true, scsi.MediumError, 0x11
				return check(sense)
			}
			return check(sat.Sense(ata.AlarmRegisters(false), false))
		}
		return answer(c)
	}
	page := read(t, s)[reading.PageAlarm]
	require.Nil(t, page.Fault)
	r := reading.Decode([]reading.Page{page})
	assert.Equal(t, 3, tries, "the present command is repeated")
	assert.Equal(t, ata.AlarmNotRaised, r.Alarm)
}

func TestADeviceFaultComesBeforeAborted(t *testing.T) {
	for name, row := range map[string]struct {
		registers ata.Registers
		sense     *scsi.Sense
		want      drive.FaultClass
	}{
		"status bit 5":           {registers: ata.Registers{Status: 0x71, Error: ata.ErrorABRT, Reported: true}, want: drive.FaultDevice},
		"aborted":                {registers: aborted, want: drive.FaultRefused},
		"locked, by its code":    {sense: &scsi.Sense{Key: scsi.AbortedCommand, ASC: 0x74, ASCQ: 0x79}, want: drive.FaultLocked},
		"locked, access denied":  {sense: &scsi.Sense{Key: scsi.IllegalRequest, ASC: 0x20, ASCQ: 0x02}, want: drive.FaultLocked},
		"hardware, 4/44/00":      {sense: &scsi.Sense{Key: scsi.HardwareError, ASC: 0x44}, want: drive.FaultDevice},
		"not passed, 5/20/00":    {sense: &scsi.Sense{Key: scsi.IllegalRequest, ASC: 0x20}, want: drive.FaultNotPassed},
		"write protected, 27/00": {sense: &scsi.Sense{Key: scsi.DataProtect, ASC: 0x27}, want: drive.FaultRefused},
	} {
		s := disk(func(ata.Command) ([]byte, ata.Registers) { return nil, row.registers })
		if answer := s.answer; row.sense != nil {
			s.answer = func(c device.Command) device.Result {
				if command, _, ok := sat.Decode(c.CDB); ok && command.Op != ata.IdentifyDevice {
					return check(*row.sense)
				}
				return answer(c)
			}
		}
		page := read(t, s)[reading.PageAttributes]
		require.NotNil(t, page.Fault, name)
		assert.Equal(t, row.want, page.Fault.Class, name)
	}
}

func TestThe12ByteFormIsNeverSentToAnOpticalDrive(t *testing.T) {
	for _, kind := range []uint8{0x00, 0x05} {
		s := &script{
			Attachment: drive.Attachment{Transport: "USB", Adapter: "ff01:0a12 0100"},
			answer: func(c device.Command) device.Result {
				if c.CDB[0] == scsi.Inquiry {
					return device.Result{Data: scsi.InquiryData{DeviceType: kind, Vendor: "Oxbow", Product: "Dock"}.Encode()}
				}
				return unknown
			},
		}
		read(t, s)
		twelve := 0
		for _, cdb := range s.sent {
			if cdb[0] == scsi.ATAPass12 {
				twelve++
			}
		}
		assert.Equal(t, kind == 0, twelve > 0, "peripheral type %02Xh", kind)
		session, _ := Open(s, By12)
		s.sent = nil
		session.Pages(context.Background(), Manner{Wake: true})
		for _, cdb := range s.sent {
			assert.False(t, kind == 0x05 && cdb[0] == scsi.ATAPass12, "an adapter known to take it makes no difference")
		}
	}
}

// array answers SCSI commands from a table of pages.
func array(t *testing.T, vpd map[uint8][]byte, logs map[scsi.LogID][]byte, more func(cdb []byte) *device.Result) *script {
	t.Helper()
	return &script{Attachment: drive.Attachment{Transport: "SCSI"}, answer: func(c device.Command) device.Result {
		if more != nil {
			if r := more(c.CDB); r != nil {
				return *r
			}
		}
		switch c.CDB[0] {
		case scsi.TestUnitReady:
			return device.Result{}
		case scsi.Inquiry:
			if c.CDB[1] == 0 {
				return device.Result{Data: scsi.InquiryData{Vendor: "OSPRIL", Product: "O12-4000"}.Encode()}
			}
			if b, ok := vpd[c.CDB[2]]; ok {
				return device.Result{Data: b}
			}
		case scsi.LogSense:
			if b, ok := logs[scsi.LogID{Page: c.CDB[2] & 0x3F, Subpage: c.CDB[3]}]; ok {
				return device.Result{Data: b}
			}
		}
		return unknown
	}}
}

func TestALongPageIsReadAgainWhole(t *testing.T) {
	var body []byte
	for range 40 { // names of ports, before that of the unit
		body = append(body, 0x61, 0x13, 0, 8, 5, 0, 0, 5, 0xE0, 0, 0, 1)
	}
	body = append(body, 0x61, 0x03, 0, 16, 0x60, 0, 0x05, 0xE0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 9)
	var places []scsi.ScanResult
	for i := range 600 {
		places = append(places, scsi.ScanResult{Status: scsi.ReassignWaits, LBA: uint64(i)})
	}
	long := scsi.Background{Found: places}.Encode()
	require.Greater(t, len(long), logRoom)
	s := array(t, map[uint8][]byte{0: scsi.EncodeVPD(0, []byte{0, 0x83}), 0x83: scsi.EncodeVPD(0x83, body)},
		map[scsi.LogID][]byte{scsi.LogPages: {0, 0, 0, 2, 0, 0x15}, scsi.LogBackground: long}, nil)
	pages := read(t, s)
	assert.Len(t, pages[reading.PageVPD(0x83)].Bytes, 4+len(body))
	assert.Len(t, pages[reading.PageLog(scsi.LogBackground)].Bytes, len(long))
	r := reading.Decode([]reading.Page{pages[reading.PageInquiry], pages[reading.PageVPD(0x83)]})
	assert.Equal(t, drive.WWN("600005e0000000010000000000000009"), r.Identity.WWN)
}

func TestAnOlderSCSIDriveIsAskedInItsOwnForms(t *testing.T) {
	s := array(t, nil, map[scsi.LogID][]byte{scsi.LogPages: {0, 0, 0, 1, 0}}, func(cdb []byte) *device.Result {
		switch cdb[0] {
		case scsi.ReadDefectData10:
			if cdb[2]&7 == 5 {
				return &device.Result{Data: scsi.Defects{Format: 5, Count: 4}.Encode10()}
			}
		case scsi.ReadCapacity10:
			return &device.Result{Data: scsi.Capacity{Last: 999, Block: 512}.Encode10()}
		}
		return nil
	})
	pages := read(t, s)
	var all []reading.Page
	for _, p := range pages {
		all = append(all, p)
	}
	r := reading.Decode(append([]reading.Page{pages[reading.PageInquiry]}, all...))
	require.NotNil(t, r.SCSI.Defects)
	assert.EqualValues(t, 4, r.SCSI.Defects.Count)
	assert.EqualValues(t, 512_000, r.Identity.Bytes)
	for _, name := range []reading.PageName{reading.PageLog(scsi.LogSubpages), reading.PageSCSILock, reading.PageSElement} {
		assert.NotContains(t, pages, name, "what it does not offer is no fault")
	}
}

func TestALockedSCSIDriveSaysSo(t *testing.T) {
	s := array(t, nil, nil, func(cdb []byte) *device.Result {
		if cdb[0] == scsi.TestUnitReady {
			r := check(scsi.Sense{Key: scsi.DataProtect, ASC: 0x20, ASCQ: 0x02})
			return &r
		}
		return nil
	})
	pages := read(t, s)
	require.NotNil(t, pages[reading.PageReady].Fault)
	r := reading.Decode([]reading.Page{pages[reading.PageInquiry], pages[reading.PageReady]})
	assert.True(t, r.Identity.Security.Locked)
}
