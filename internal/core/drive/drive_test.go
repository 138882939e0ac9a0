package drive_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
)

func TestANameOfNAA5TellsItsCompany(t *testing.T) {
	for _, row := range []struct {
		name    drive.WWN
		company uint32
	}{
		{"500a0b1c2d3e4f50", 0x00a0b1},
		{"600a0b1c2d3e4f50600a0b1c2d3e4f50", 0x00a0b1},
		{"500005e03a739f64", 0},
		{"300a0b1c2d3e4f50", 0},
		{"500a0b", 0},
		{"500a0b1", 0x00a0b1},
		{"5zzzzzz", 0},
		{"", 0},
	} {
		assert.Equal(t, row.company, row.name.Company(), row.name)
	}
	assert.Equal(t, drive.WWN("500a0b1c2d3e4f50"), drive.WWN64(0x500a0b1c2d3e4f50))
	assert.Equal(t, drive.WWN(""), drive.WWN64(0))
	assert.Equal(t, drive.WWN("0001"), drive.WWNOf([]byte{0, 1}))
	assert.Equal(t, drive.WWN(""), drive.WWNOf([]byte{0, 0}))
	// Older records hold the number itself; it may be one that no signed number holds.
	for text, want := range map[string]drive.WWN{
		`5764611469732290384`: drive.WWN64(5764611469732290384), `18446744073709551615`: "ffffffffffffffff", `"500a0b1c"`: "500a0b1c",
		`0`: "",
	} {
		var w drive.WWN
		require.NoError(t, json.Unmarshal([]byte(text), &w))
		assert.Equal(t, want, w, text)
	}
	var w drive.WWN
	require.Error(t, json.Unmarshal([]byte(`{}`), &w))
}

func TestAKeyNamesADriveWhenBothPartsAreKnown(t *testing.T) {
	assert.True(t, drive.Key{Model: "Korvan", Serial: "KVA"}.IsValid())
	assert.False(t, drive.Key{Model: "Korvan"}.IsValid())
	assert.False(t, drive.Key{Serial: "KVA"}.IsValid())
	assert.Equal(t, "Korvan KVA", drive.Key{Model: "Korvan", Serial: "KVA"}.String())
}

func TestGradesAndDutiesAreReadAsTheyAreWritten(t *testing.T) {
	for i, word := range []string{"undecided", "healthy", "degrading", "replace"} {
		g, err := drive.ParseGrade(word)
		require.NoError(t, err)
		assert.Equal(t, drive.Grade(i), g)
		assert.Equal(t, word, g.String())
		text, err := json.Marshal(g)
		require.NoError(t, err)
		var back drive.Grade
		require.NoError(t, json.Unmarshal(text, &back))
		assert.Equal(t, g, back)
	}
	assert.Equal(t, "grade(4)", drive.Grade(4).String())
	_, err := drive.ParseGrade("good")
	require.ErrorContains(t, err, `grade "good": not one of undecided, healthy, degrading, replace`)
	for word, want := range map[string]drive.Duty{
		"": drive.Everyday, "continuous": drive.Continuous, "archive": drive.Archive, "everyday": drive.Everyday, "carry": drive.Carry,
	} {
		d, err := drive.ParseDuty(word)
		require.NoError(t, err)
		assert.Equal(t, want, d)
	}
	_, err = drive.ParseDuty("paper")
	require.Error(t, err)
	assert.Equal(t, []drive.Duty{drive.Continuous, drive.Archive, drive.Everyday, drive.Carry}, drive.Duties())
}

func TestEveryFaultHasItsAdvice(t *testing.T) {
	f := &drive.Fault{Class: drive.FaultMedium, What: "READ(10)", Cause: "uncorrectable"}
	assert.Equal(t, "READ(10): uncorrectable. Copy the data first.", f.Error())
	f.Extra = "Ask the lead."
	assert.Equal(t, "READ(10): uncorrectable. Ask the lead.", f.Error())
	for _, c := range []drive.FaultClass{
		drive.FaultNoAnswer, drive.FaultStuck, drive.FaultVanished, drive.FaultNoMedium, drive.FaultRefused, drive.FaultNotPassed,
		drive.FaultBadAnswer, drive.FaultSwitchedOff, drive.FaultNotRead, drive.FaultMedium, drive.FaultLink, drive.FaultLocked,
		drive.FaultWrongDrive, drive.FaultInUse, drive.FaultNotAllowed, drive.FaultOutOfRange, drive.FaultAsleep, drive.FaultBehind,
		drive.FaultVirtual, drive.FaultNotReady, drive.FaultDevice, drive.FaultCapacity,
	} {
		assert.True(t, strings.HasSuffix(c.Advice(), "."), c)
	}
	assert.Equal(t, []string{"its own encryption", "something it does not name", "a password", "a password"}, []string{
		drive.LockEncryption.Words(), drive.LockRefuses.Words(), drive.LockPassword.Words(), drive.Lock("").Words(),
	})
}

func TestWhatADriveCallsItselfIsShownWithoutItsEscapes(t *testing.T) {
	for said, shown := range map[string]string{
		"Korvan K4 \x00\x00": "Korvan K4", "\x1b[31mred": "\uFFFD[31mred", "~ \x7f\x20": "~ \uFFFD", " \x1f a": "\uFFFD a",
		"\xff":     "\uFFFD",
		"  padded": "padded",
	} {
		assert.Equal(t, shown, drive.Printable(said), "%q", said)
	}
}
