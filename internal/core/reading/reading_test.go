package reading

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/sat"
)

func pages() []Page {
	id := ata.Identify{
		Serial:         "KVA077M511",
		Model:          "Korvan K4-2000",
		Sectors:        1000,
		LogicalSector:  512,
		RotationRate:   7200,
		SMARTSupported: true,
		SMARTEnabled:   true,
		Integrity:      ata.IntegrityRight,
	}
	data := ata.AttributePage{
		CanTest:    true,
		Attributes: []ata.Attribute{{ID: 10, Flags: 1, Value: 97, Worst: 96}, {ID: 5, Flags: 1, Value: 100, Worst: 100, Raw: [6]byte{3}}},
	}
	return []Page{
		{Name: PageIdentify, Bytes: id.Encode()},
		{Name: PageAttributes, Bytes: data.Encode()},
		{Name: PageThresholds, Bytes: ata.EncodeThresholds([]ata.Threshold{{ID: 5, Level: 36}, {ID: 10, Level: 97}})},
		{Name: PageAlarm, Bytes: sat.Sense(ata.AlarmRegisters(false), true).Encode()},
		{Name: PageTestLog, Bytes: ata.SelfTestLog{Tests: []ata.SelfTest{{Number: 1, Hours: 7}}}.Encode()},
	}
}

func TestThresholdsAreMatchedByNumberNotBySlot(t *testing.T) {
	r := Decode(pages())
	require.Empty(t, r.Faults)
	five, _ := r.Attribute(5)
	ten, _ := r.Attribute(10)
	assert.EqualValues(t, 36, five.Threshold.Level)
	assert.Equal(t, Above, five.State())
	assert.Equal(t, Failing, ten.State(), "97 is at its threshold of 97")
	assert.Equal(t, drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M511"}, r.Identity.Key)
	assert.Equal(t, drive.Spinning, r.Identity.Medium)
	assert.Equal(t, ata.AlarmNotRaised, r.Alarm)
	assert.True(t, r.HasTests)
}

func TestAWrongChecksumIsAFaultOfItsPageAlone(t *testing.T) {
	all := pages()
	all[1].Bytes[100] ^= 0xFF
	r := Decode(all)
	require.Len(t, r.Faults, 1)
	assert.Equal(t, drive.FaultBadAnswer, r.Faults[0].Class)
	assert.Equal(t, string(PageAttributes), r.Faults[0].Page)
	assert.Contains(t, r.Faults[0].Error(), "Change the cable")
	assert.False(t, r.HasCounters, "counters from a damaged page are shown, not judged")
	assert.NotEmpty(t, r.Attributes)
	assert.True(t, r.HasTests, "the other pages stand")
}

func TestADamagedIdentityNamesNobody(t *testing.T) {
	all := pages()
	all[0].Bytes[60] ^= 0x20
	assert.False(t, Decode(all).Identity.IsValid())
}

func TestAnAlarmWithoutRegistersIsUnknownWithAReason(t *testing.T) {
	all := pages()
	all[3].Bytes = sat.Sense(ata.Registers{}, false).Encode()
	r := Decode(all)
	assert.Equal(t, ata.AlarmUnknown, r.Alarm)
	f, ok := r.FaultOf(PageAlarm)
	require.True(t, ok)
	assert.Contains(t, f.Error(), "Try a direct port")
}

func TestWhatADriveCallsItselfIsHarmlessToShow(t *testing.T) {
	all := pages()
	all[0].Bytes = ata.Identify{Serial: "S\x1b[2J1", Model: "M\u202e"}.Encode()
	id := Decode(all).Identity
	assert.Equal(t, "S\uFFFD[2J1", id.Serial)
	assert.NotContains(t, id.Model, "\u202e")
}

// emulated are the pages of a disk whose firmware nobody here wrote: QEMU's, read through a real kernel.
func emulated(t testing.TB) (all []Page) {
	t.Helper()
	for _, name := range []PageName{PageInquiry, PageIdentify, PageAttributes, PageThresholds, PageAlarm, PageErrorLog, PageTestLog} {
		b, err := os.ReadFile("testdata/emulated-" + strings.ReplaceAll(string(name), "/", "-") + ".bin")
		require.NoError(t, err)
		all = append(all, Page{Name: name, Bytes: b})
	}
	return all
}

func TestADiskNobodyHereWroteIsUnderstood(t *testing.T) {
	r := Decode(emulated(t))
	assert.Empty(t, r.Faults)
	assert.Equal(t, drive.Key{Model: "KORVAN VM DISK", Serial: "HYVM7K4Q2"}, r.Identity.Key)
	assert.EqualValues(t, 64<<20, r.Identity.Bytes)
	assert.Equal(t, ata.AlarmNotRaised, r.Alarm)
	assert.True(t, r.HasCounters && r.HasTests && r.HasErrors)
	heat, _ := r.Attribute(190)
	assert.EqualValues(t, 31, heat.Quantity.Number)
	assert.True(t, r.Capabilities.SelfTest, "announced in the attribute page only")
	assert.False(t, r.Identity.SelfTest.Supported)
}

func FuzzDecode(f *testing.F) {
	for _, p := range append(pages(), emulated(f)...) {
		f.Add(string(p.Name), p.Bytes)
	}
	f.Fuzz(func(t *testing.T, name string, b []byte) {
		one := []Page{{Name: PageName(name), Bytes: b}}
		r := Explain(one, dialect.Hints{})
		assert.Equal(t, r.Identity.Key, Named(one))
	})
}
