package reading

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

func facts(r Reading) map[string]Fact {
	all := map[string]Fact{}
	for _, s := range r.Sheets {
		for _, f := range s.Facts {
			all[string(s.Page)+" "+f.Name] = f
		}
	}
	return all
}

func registers(r ata.Registers, fixed bool) []byte { return sat.Sense(r, fixed).Encode() }

func TestFactsOfAnATADriveStandAtTheirBytes(t *testing.T) {
	id := ata.Identify{
		Serial:          "KVL026D41R",
		Model:           "Korvan K2-1000",
		Sectors:         1_000_000,
		LBA48:           true,
		LogicalSector:   512,
		PhysicalSector:  4096,
		Alignment:       1,
		RotationRate:    5400,
		FormFactor:      3,
		HPA:             true,
		SATAGenerations: 7,
		SATANow:         2,
		Security:        ata.Security{Supported: true, Enabled: true, Locked: true},
		Integrity:       ata.IntegrityRight,
	}
	done := ata.Registers{Status: 0x50, Reported: true}
	limit, native := done, done
	limit.Count, native.LBA = 70, 1_004_095
	r := Explain([]Page{
		{Name: PageIdentify, Bytes: id.Encode()},
		{Name: PageRecoveryRead, Bytes: registers(limit, false)},
		{Name: PageRecoveryWrite, Bytes: registers(done, true)},
		{Name: PageNativeMax, Bytes: registers(native, false)},
		{Name: PageSCTStatus, Bytes: ata.SCTReport{Now: 38, Lowest: ata.NoTemperature, LifeHighest: 51}.Encode()},
		{
			Name: PageTemperatures,
			Bytes: ata.TemperatureHistory{
				Interval:     10,
				MaxOperating: 60,
				OverLimit:    ata.NoTemperature,
				Curve:        []int8{ata.NoTemperature, 37, 39},
			}.Encode(),
		},
	}, dialect.Hints{})
	require.Empty(t, r.Faults)
	all := facts(r)
	for name, want := range map[string]Fact{
		"ata/identify Alignment": {
			Value:  "the first sector is number 1 inside its physical one, from 0",
			Offset: 418,
			Length: 2,
		},
		"ata/identify Link, negotiated":             {Value: "3.0 Gb/s", Offset: 154, Length: 2},
		"ata/identify Link, fastest possible":       {Value: "6.0 Gb/s", Offset: 152, Length: 2},
		"ata/identify Password lock":                {Value: "locked", Offset: 256, Length: 2},
		"ata/identify Form factor":                  {Value: "2.5 inch", Offset: 336, Length: 2},
		"ata/identify World Wide Name":              {Reason: "the drive does not say", Offset: 216, Length: 8},
		"ata/recovery-read Longest error recovery":  {Value: "7", Number: true, Unit: "s", Length: 22},
		"ata/recovery-write Longest error recovery": {Value: "no limit", Length: 18},
		"ata/native-max Sectors there could be":     {Value: "1004096", Number: true, Unit: "sectors", Length: 22},
		"ata/log-e0 Lowest since power-on":          {Reason: "the drive reports none", Offset: 201, Length: 1},
		"ata/log-e0 Highest ever":                   {Value: "51", Number: true, Unit: "°C", Offset: 204, Length: 1},
		"ata/log-e1 Entries of the curve":           {Value: "2 of 3", Offset: 34, Length: 3},
		"ata/log-e1 Curve":                          {Value: "37 to 39", Unit: "°C", Offset: 34, Length: 3},
		"ata/log-e1 Highest it may reach":           {Reason: "the drive reports none", Offset: 7, Length: 1},
		"ata/log-e1 Interval of the curve":          {Value: "10", Number: true, Unit: "min", Offset: 4, Length: 2},
		"ata/identify Physical sector":              {Value: "4096", Number: true, Unit: "B", Offset: 212, Length: 2},
		"ata/identify Host protected area":          {Value: "supported", Offset: 164, Length: 2},
		"ata/identify Checksum of this page":        {Value: "right", Offset: 510, Length: 2},
		"ata/identify Rotation":                     {Value: "5400", Number: true, Unit: "/min", Offset: 434, Length: 2},
		"ata/identify Accessible max address":       {Value: "not supported", Offset: 238, Length: 2},
	} {
		got := all[name]
		want.Name = got.Name
		assert.Equal(t, want, got, name)
	}
	assert.EqualValues(t, 4096*512, r.Identity.Hidden)
	assert.Equal(t, "a host protected area", r.Identity.HiddenBy)
	assert.Empty(t, Decode([]Page{{Name: PageIdentify, Bytes: id.Encode()}}).Sheets, "facts are only made for people")
}

func TestAnswersThatLostTheirRegistersAreUnknown(t *testing.T) {
	narrow := ata.Registers{Status: 0x50, LBA: 4095, Reported: true}
	r := Explain([]Page{
		{Name: PageNativeMax, Bytes: registers(narrow, true)}, // fixed-format sense keeps 24 bits of the address
		{Name: PageRecoveryRead, Bytes: registers(ata.Registers{}, false)},
		{Name: PagePower, Bytes: registers(ata.Registers{Reported: true, Count: 1, LBA: 1}, false)},
	}, dialect.Hints{})
	assert.Len(t, r.Faults, 3)
	assert.Empty(t, r.Sheets)
	assert.Zero(t, r.Identity.Hidden)
}

func TestUnusualSectorsOfSCSIDrivesAreSaid(t *testing.T) {
	for want, c := range map[string]scsi.Capacity{
		"protection type 2": {Last: 999, Block: 512, Protection: 2},
		"formatted with 520-byte sectors, which computers do not take": {Last: 999, Block: 520},
		"": {Last: 999, Block: 4096},
	} {
		r := Explain(
			[]Page{
				{Name: PageInquiry, Bytes: scsi.InquiryData{Vendor: "OSPRIL", Product: "O12"}.Encode()},
				{Name: PageCapacity, Bytes: c.Encode()},
			},
			dialect.Hints{},
		)
		assert.Equal(t, want, r.Identity.Protection)
		assert.EqualValues(t, 1000*uint64(c.Block), r.Identity.Bytes)
	}
}

func TestSeveralNamespacesAreOneDrive(t *testing.T) {
	pages := []Page{
		{Name: PageController, Bytes: nvme.Controller{Model: "Brackwater Heron", Serial: "BWN11"}.Encode()},
		{Name: PageNamespaces, Bytes: nvme.EncodeNamespaces([]uint32{1, 3})},
	}
	for _, n := range []uint32{1, 3} {
		pages = append(pages, Page{Name: PageNamespace(n), Bytes: nvme.Namespace{Size: 1000, Block: 4096, EUI64: uint64(n)}.Encode()})
	}
	r := Explain(pages, dialect.Hints{})
	assert.Equal(t, 2, r.Identity.Namespaces)
	assert.EqualValues(t, 2*1000*4096, r.Identity.Bytes, "a controller that does not tell its capacity has that of its namespaces")
	assert.Equal(t, drive.WWN64(1), r.Identity.WWN)
	assert.Equal(t, "4096", facts(r)["nvme/namespace-3 Block"].Value)
	assert.Equal(t, "the controller does not say", facts(r)["nvme/controller Total capacity"].Reason)
}

func TestAPageOfOneByteOverAndOverIsGarbage(t *testing.T) {
	garbage := func(name PageName, b byte, n int, change ...int) bool {
		page := bytes.Repeat([]byte{b}, n)
		for _, at := range change {
			page[at] ^= 1
		}
		_, is := blank(Page{Name: name, Bytes: page})
		return is
	}
	assert.True(t, garbage(PageAttributes, 0xFF, 512))
	assert.True(t, garbage(PageAttributes, 0, 512))
	assert.False(t, garbage(PageAttributes, 0xFE, 512), "another byte")
	assert.False(t, garbage(PageAttributes, 0xFF, 512, 511))
	assert.True(t, garbage(PageHealth, 0, 64))
	assert.False(t, garbage(PageHealth, 0, 63), "too short to tell")
	assert.True(t, garbage(PagePending, 0xFF, 512))
	assert.False(t, garbage(PagePending, 0, 512), "there is nothing to tell")
}
