package drive_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
)

func TestABayIsReadAsPeopleWriteIt(t *testing.T) {
	for text, want := range map[string]drive.Bay{
		"3": {Number: 3}, "bay3": {Number: 3}, "bay-3": {Number: 3}, " Bay 3 ": {Number: 3}, "bay-9999": {Number: 9999},
		"field/3": {Bench: "field", Number: 3}, "FIELD/12": {Bench: "field", Number: 12}, "shelf-2/1": {Bench: "shelf-2", Number: 1},
	} {
		b, err := drive.ParseBay(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, b, text)
		again, err := drive.ParseBay(b.String())
		require.NoError(t, err)
		assert.Equal(t, b, again, "what it says can be typed back")
	}
	for _, text := range []string{
		"", "bay", "bay-", "bay-3xyz", "3x", "bay-0", "0", "-3", "bay-10000", "field/", "/3", "field/0", "bay/3", "field/3/4",
		"2field/3", "fie ld/3", "７",
	} {
		_, err := drive.ParseBay(text)
		require.ErrorContains(t, err, "names no bay", text)
	}
}

// Records of before there were other benches hold a number.
func TestABayIsReadFromOldRecords(t *testing.T) {
	for text, want := range map[string]drive.Bay{
		`7`: {Number: 7}, `0`: {}, `""`: {}, `"bay-7"`: {Number: 7}, `"field/2"`: {Bench: "field", Number: 2},
	} {
		var b drive.Bay
		require.NoError(t, json.Unmarshal([]byte(text), &b), text)
		assert.Equal(t, want, b)
		back, err := json.Marshal(b)
		require.NoError(t, err)
		assert.JSONEq(t, `"`+want.String()+`"`, string(back))
	}
	var b drive.Bay
	for _, text := range []string{`"x"`, `-1`, `1.5`, `{}`, `10000`, `true`, `null`} {
		require.Error(t, json.Unmarshal([]byte(text), &b), text)
	}
}
