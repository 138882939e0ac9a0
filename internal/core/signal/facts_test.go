package signal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

var disk = ata.Identify{
	Serial:         "KVA077M511",
	Model:          "Korvan K4-2000",
	Sectors:        4_000_000_000,
	LogicalSector:  512,
	PhysicalSector: 4096,
	LBA48:          true,
	RotationRate:   7200,
	SMARTSupported: true,
	SMARTEnabled:   true,
	Trusted:        true,
}

// upTo lists the LBAs of a range, both ends included.
func upTo(from, to uint64) (all []uint64) {
	for lba := from; lba <= to; lba++ {
		all = append(all, lba)
	}
	return all
}

// of decodes pages of an ATA drive beside its identity.
func of(id ata.Identify, more ...reading.Page) (reading.Reading, Set) {
	r := reading.Decode(append([]reading.Page{{Name: reading.PageIdentify, Bytes: id.Encode()}}, more...))
	return r, Of(&r)
}

// sas decodes pages of a SCSI drive beside its inquiry.
func sas(more ...reading.Page) (reading.Reading, Set) {
	r := reading.Decode(
		append(
			[]reading.Page{{Name: reading.PageInquiry, Bytes: scsi.InquiryData{Vendor: "OSPRIL", Product: "O12-4000"}.Encode()}},
			more...),
	)
	return r, Of(&r)
}

func TestWaitingSectorsAreDistinctPhysicalOnes(t *testing.T) {
	shifted := disk
	shifted.Alignment = 1
	for name, row := range map[string]struct {
		id    ata.Identify
		count uint32
		lbas  []uint64
		want  float64
	}{
		"eight in one":                         {disk, 8, []uint64{800, 801, 802, 803, 804, 805, 806, 807}, 1},
		"eight in eight":                       {disk, 8, []uint64{0, 80, 160, 240, 320, 400, 480, 560}, 8},
		"one listed twice":                     {disk, 2, []uint64{800, 800}, 1},
		"two neighbours over a border":         {disk, 2, []uint64{807, 808}, 2},
		"the border of a shifted drive":        {shifted, 2, []uint64{806, 807}, 2},
		"together, on a shifted drive":         {shifted, 2, []uint64{807, 808}, 1},
		"more than are listed, at least those": {disk, 48, upTo(800, 830), 6},
		"none":                                 {disk, 0, nil, 0},
	} {
		l := ata.PendingLog{Count: row.count}
		for _, lba := range row.lbas {
			l.Defects = append(l.Defects, ata.PendingDefect{LBA: lba})
		}
		_, s := of(row.id, reading.Page{Name: reading.PagePending, Bytes: l.Encode()})
		assert.Equal(t, row.want, s[Pending].Number, name)
	}
	waiting := scsi.PendingDefects{Count: 2, Defects: []scsi.PendingDefect{{LBA: 80}, {LBA: 87}}}
	_, s := sas(
		reading.Page{Name: reading.PageCapacity, Bytes: scsi.Capacity{Last: 999, Block: 512, Exponent: 3, Alignment: 7}.Encode()},
		reading.Page{Name: reading.PageLog(scsi.LogPending), Bytes: waiting.Encode()},
	)
	assert.EqualValues(t, 2, s[Pending].Number, "7 is the lowest aligned LBA: LBA 0 is the second of its sector, and 87 begins one")
}

func TestWearComesNormalisedAndAnEmptyLifeIsUsedUp(t *testing.T) {
	flash := disk
	flash.RotationRate = 1
	all := ata.EncodeStatistics(
		[]ata.Statistic{
			{StatisticKey: ata.StatPercentageUsed, Value: 9, Valid: true, Normalized: true},
			{StatisticKey: ata.StatReportedUncorrected, Value: 9, Valid: true, Normalized: true},
		},
	)
	_, s := of(flash, reading.Page{Name: reading.PageStatistics, Bytes: all})
	assert.Equal(
		t,
		Value{
			Number:     9,
			Available:  true,
			Source:     "device statistics, page 7, Percentage Used Endurance Indicator",
			Page:       reading.PageStatistics,
			Offset:     7*512 + 8,
			Length:     8,
			Confidence: "standard",
		},
		s[PercentageUsed],
	)
	assert.False(t, s[ReportedUncorrectable].Available, "a count that comes normalised is the maker's secret")

	numbers := []uint8{5, 9, 12, 171, 172, 173, 174, 183, 184, 187, 194, 196, 197, 198, 199, 202} // life left by the value of 202
	for value, used := range map[uint8]float64{0: 100, 1: 99, 91: 9, 100: 0, 101: -1, 253: -1} {
		var page ata.AttributePage
		for _, id := range numbers {
			page.Attributes = append(page.Attributes, ata.Attribute{ID: id, Value: value})
		}
		_, s := of(flash, reading.Page{Name: reading.PageAttributes, Bytes: page.Encode()})
		if assert.Equal(t, used >= 0, s[PercentageUsed].Available, "value %d", value); used >= 0 {
			assert.Equal(t, used, s[PercentageUsed].Number, "value %d", value)
		}
	}
}

func TestTheAlarmComesFromSCTWhereAnAdapterDropsRegisters(t *testing.T) {
	silent := reading.Page{Name: reading.PageAlarm, Bytes: sat.Sense(ata.Registers{}, true).Encode()}
	echo := reading.Page{
		Name:  reading.PageAlarm,
		Bytes: sat.Sense(ata.Registers{Status: 0xB0, LBA: 0xC24F00, Reported: true}, false).Encode(),
	}
	status := func(word uint16) reading.Page {
		return reading.Page{Name: reading.PageSCTStatus, Bytes: ata.SCTReport{SMARTStatus: word}.Encode()}
	}
	for name, row := range map[string]struct {
		pages []reading.Page
		has   bool
		want  float64
		from  reading.PageName
	}{
		"raised, in bytes 214 and 215": {[]reading.Page{silent, status(0x2CF4)}, true, 1, reading.PageSCTStatus},
		"an echo gives way to it":      {[]reading.Page{echo, status(0x2CF4)}, true, 1, reading.PageSCTStatus},
		"not raised":                   {[]reading.Page{silent, status(0xC24F)}, true, 0, reading.PageSCTStatus},
		"not told there, either":       {[]reading.Page{silent, status(0)}, false, 0, ""},
	} {
		_, s := of(disk, row.pages...)
		assert.Equal(t, row.has, s[Alarm].Available, name)
		assert.Equal(t, row.want, s[Alarm].Number, name)
		assert.Equal(t, row.from, s[Alarm].Page, name)
	}
}

func TestSilenceThatWasOrderedIsNoAllClear(t *testing.T) {
	log := func(asc, ascq byte) reading.Page {
		return reading.Page{
			Name:  reading.PageLog(scsi.LogInformational),
			Bytes: scsi.EncodeLogPage(scsi.LogInformational, scsi.Parameter{Value: []byte{asc, ascq, 38, 0}}),
		}
	}
	control := reading.Page{Name: reading.PageControl, Bytes: scsi.Control{Disabled: true}.Encode()}
	r, s := sas(log(0, 0), control)
	assert.False(t, s[Alarm].Available, "DEXCPT: it would not say so")
	assert.False(t, s[WarningRaised].Available)
	assert.Equal(t, ata.AlarmUnknown, r.Alarm)
	_, s = sas(log(0x5D, 0x10), control)
	assert.EqualValues(t, 1, s[Alarm].Number, "a prediction that is there all the same counts")
	_, s = sas(log(0, 0))
	assert.True(t, s[Alarm].Available)
}

func TestAPlaceThatWasRewrittenIsNoFinding(t *testing.T) {
	g := scsi.Background{
		Found: []scsi.ScanResult{{Status: scsi.Rewritten, LBA: 1}, {Status: scsi.ReassignWaits, LBA: 2}, {Status: scsi.Rewritten, LBA: 3}},
	}
	_, s := sas(reading.Page{Name: reading.PageLog(scsi.LogBackground), Bytes: g.Encode()})
	assert.EqualValues(t, 1, s[ScanFindings].Number)
}

func TestDataUnitsOfZeroAreNotReportedOnADriveThatWasUsed(t *testing.T) {
	for name, row := range map[string]struct {
		health nvme.Health
		has    bool
	}{
		"used, by its hours":    {nvme.Health{Hours: nvme.Counter{Low: 900}}, false},
		"used, by its commands": {nvme.Health{WriteCommands: nvme.Counter{Low: 5}, ReadCommands: nvme.Counter{Low: 5}}, false},
		"new":                   {nvme.Health{Spare: 100}, true},
		"counted": {
			nvme.Health{Hours: nvme.Counter{Low: 900}, Written: nvme.Counter{Low: 1}, Read: nvme.Counter{Low: 1}}, true,
		},
	} {
		r := reading.Decode(
			[]reading.Page{
				{Name: reading.PageController, Bytes: nvme.Controller{Model: "M", Serial: "S"}.Encode()},
				{Name: reading.PageHealth, Bytes: row.health.Encode()},
			},
		)
		s := Of(&r)
		assert.Equal(t, row.has, s[BytesWritten].Available, name)
		assert.Equal(t, row.has, s[BytesRead].Available, name)
	}
	group := reading.Decode(
		[]reading.Page{
			{Name: reading.PageController, Bytes: nvme.Controller{Model: "M", Serial: "S"}.Encode()},
			{Name: reading.PageHealth, Bytes: nvme.Health{GroupWarning: nvme.WarnReadOnly}.Encode()},
		},
	)
	assert.EqualValues(t, 1, Of(&group)[ReadOnly].Number, "an endurance group's warning is the drive's")
	assert.EqualValues(t, 1, Of(&group)[Alarm].Number)
}

func TestALockIsSeenOnEveryInterface(t *testing.T) {
	lock := tcg.Discovery{HasLocking: true, Locking: tcg.Locking{Supported: true, Enabled: true, Locked: true, Encrypts: true}}.Encode()
	refused := &drive.Fault{Class: drive.FaultLocked, What: "TEST UNIT READY", Cause: "data protect, access denied, locked (7/20/02)"}
	ataLock, _ := of(disk, reading.Page{Name: reading.PageATALock, Bytes: lock})
	behindSAT, _ := of(disk, reading.Page{Name: reading.PageAttributes, Fault: refused})
	scsiLock, _ := sas(reading.Page{Name: reading.PageSCSILock, Bytes: lock})
	scsiRefuses, _ := sas(reading.Page{Name: reading.PageReady, Fault: refused})
	nvmeLock := reading.Decode(
		[]reading.Page{
			{Name: reading.PageController, Bytes: nvme.Controller{Model: "M", Serial: "S"}.Encode()},
			{Name: reading.PageNVMeLock, Bytes: lock},
		},
	)
	withPassword := disk
	withPassword.Security = ata.Security{Supported: true, Enabled: true, Locked: true}
	password, _ := of(withPassword, reading.Page{Name: reading.PageATALock, Bytes: lock})
	open, _ := of(
		disk,
		reading.Page{
			Name:  reading.PageATALock,
			Bytes: tcg.Discovery{HasLocking: true, Locking: tcg.Locking{Supported: true, Enabled: true, Encrypts: true}}.Encode(),
		},
	)
	for name, row := range map[string]struct {
		is   drive.Security
		want drive.Security
	}{
		"ATA":            {ataLock.Identity.Security, drive.Security{Locked: true, By: drive.LockEncryption, Encrypting: true}},
		"ATA behind SAT": {behindSAT.Identity.Security, drive.Security{Locked: true, By: drive.LockRefuses}},
		"SCSI": {
			scsiLock.Identity.Security, drive.Security{Locked: true, By: drive.LockEncryption, Encrypting: true},
		},
		"SCSI, by its sense": {scsiRefuses.Identity.Security, drive.Security{Locked: true, By: drive.LockRefuses}},
		"NVMe": {
			nvmeLock.Identity.Security, drive.Security{Locked: true, By: drive.LockEncryption, Encrypting: true},
		},
		"a password is named first": {
			password.Identity.Security,
			drive.Security{Supported: true, Enabled: true, Locked: true, By: drive.LockPassword, Encrypting: true},
		},
		"unlocked, encrypting still": {open.Identity.Security, drive.Security{Encrypting: true}},
	} {
		assert.Equal(t, row.want, row.is, name)
	}
}

func TestAnotherCapacityIsAFactWithAnAdvice(t *testing.T) {
	adapter := func(c scsi.Capacity) reading.Page {
		return reading.Page{Name: reading.PageCapacity, Bytes: c.Encode()}
	}
	r, s := of(disk, adapter(scsi.Capacity{Last: 3_999_999_999, Block: 512}))
	assert.Empty(t, r.Faults)
	assert.False(t, s[CapacityShown].Available)
	big := disk
	big.Sectors = 7_814_037_168 // 4 TB behind an adapter that counts 32 bits
	r, s = of(big, adapter(scsi.Capacity{Last: 1<<32 - 2, Block: 512}))
	require.Len(t, r.Faults, 1)
	assert.Equal(
		t,
		"comparing capacities: the drive has 4 TB, this adapter shows 2.2 TB. Use a direct port: through this adapter a part of "+
			"the drive is out of reach.",
		r.Faults[0].Error(),
	)
	assert.EqualValues(t, (1<<32-1)*512, s[CapacityShown].Number)
	r, _ = of(disk, adapter(scsi.Capacity{Last: 1 << 40, Block: 512}))
	assert.Contains(t, r.Faults[0].Error(), "shows more than there is")

	whole := []Swept{{Whole: true, Hours: 0, Bytes: (1<<32 - 1) * 512}}
	s[PowerOnHours] = Value{Number: 10, Available: true}
	s.Sweep(whole)
	assert.False(t, s[WholeSweepAge].Available, "what the adapter shows is not the whole drive")
	assert.True(t, s[SpotSweepAge].Available)
	for text, want := range map[string]float64{"Korvan, 4 TB": 4e12, "500GB, 2019": 500e9, "1,5 TB": 1.5e12, "4 terabytes": 0, "": 0} {
		_, labelled := of(disk)
		labelled.Label(text)
		assert.Equal(t, want, labelled[CapacityLabel].Number, text)
		labelled[PowerOnHours] = Value{Number: 10, Available: true}
		labelled.Sweep([]Swept{{Whole: true, Hours: 0, Bytes: 2_048_000_000_000}})
		assert.Equal(t, want < 2.1e12, labelled[WholeSweepAge].Available, text)
	}
}

func TestADeviceFaultIsTheDrivesAndALongRingKeepsItsNewest(t *testing.T) {
	log := ata.ErrorLog{
		Errors: []ata.LoggedError{
			{Command: 0x25, Status: 0x71, Error: ata.ErrorABRT, Hours: 9},
			{Command: 0x25, Status: 0x51, Error: ata.ErrorABRT, Hours: 8},
		},
	}
	r, _ := of(disk, reading.Page{Name: reading.PageErrorLog, Bytes: log.Encode()})
	require.Len(t, r.Errors, 2)
	assert.Equal(t, "device fault", r.Errors[0].Meaning)
	assert.False(t, r.Errors[0].Host, "the drive is at fault, whatever it aborted")
	assert.True(t, r.Errors[1].Host)

	short := ata.SelfTestLog{Tests: []ata.SelfTest{{Number: 1, Status: ata.TestRead, LBA: 7, HasLBA: true, Hours: 900}}}
	long := ata.SelfTestLog{Tests: []ata.SelfTest{{Number: 1, Hours: 100}}}.EncodeExt()
	long[2] = 60 // of a log of which one page came
	sum := byte(0)
	for _, x := range long[:511] {
		sum += x
	}
	long[511] = -sum
	r, s := of(
		disk, reading.Page{Name: reading.PageTestLog, Bytes: short.Encode()},
		reading.Page{Name: reading.PageTestLogExt, Bytes: long},
	)
	assert.Empty(t, r.Faults, "no position of a ring is damage")
	assert.EqualValues(t, 1, s[TestsFailed].Number, "the short log has the newest")
	_, s = of(disk, reading.Page{Name: reading.PageTestLogExt, Bytes: long})
	assert.EqualValues(t, 0, s[TestsFailed].Number)
	assert.True(t, s[TestsPassedSince].Available, "alone it counts")
}

func TestASpareOfNothingIsNotReported(t *testing.T) {
	for spare, row := range map[[2]uint8]bool{{0, 0}: false, {0, 10}: true, {90, 0}: true} {
		r := reading.Reading{HasCounters: true, Health: &nvme.Health{Spare: spare[0], SpareThreshold: spare[1]}}
		r.Identity.Interface, r.Identity.Medium = drive.NVMe, drive.Flash
		set := Of(&r)
		assert.Equal(t, row, set[AvailableSpare].Available, spare)
		assert.Equal(t, row, set[SpareThreshold].Available, spare)
	}
}

func TestASweepOfLessThanTheDriveIsNotWhole(t *testing.T) {
	whole := func(capacity, label, swept float64, shown bool) bool {
		set := Set{PowerOnHours: {Number: 100, Available: true}, Capacity: {Number: capacity, Available: true}}
		if label > 0 {
			set[CapacityLabel] = Value{Number: label, Available: true}
		}
		if shown {
			set[CapacityShown] = Value{Number: swept, Available: true}
		}
		set.Sweep([]Swept{{Whole: true, Hours: 100, Bytes: swept, Source: "whole sweep"}})
		return set[WholeSweepAge].Available
	}
	assert.True(t, whole(1000, 0, 1000, false))
	assert.True(t, whole(1000, 0, 500, false), "nobody says that the rest is out of reach")
	assert.False(t, whole(1000, 0, 999, true))
	assert.True(t, whole(1000, 0, 1000, true))
	assert.True(t, whole(1000, 1052, 1000, false), "a label rounds")
	assert.False(t, whole(1000, 1053, 1000, false))
	assert.True(t, whole(1000, 2000, 0, false), "of what size it was nobody knows")
}
