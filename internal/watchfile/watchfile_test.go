package watchfile_test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/watchfile"
)

func TestAFileSaysWhatItSaid(t *testing.T) {
	t.Parallel()
	own, serial := "", "KVA077M511"
	f := contract.WatchFile{
		Version: 1,
		Plans: &[]contract.WatchSetting{
			{For: contract.WatchScope{Bench: &own}, Read: new("6h"), Windows: &[]contract.WatchWindow{{From: "19:00", Until: "06:30"}}},
			{For: contract.WatchScope{Drive: &serial}, Short: new("FREQ=WEEKLY;BYDAY=SU;BYHOUR=3")},
		},
		Accepted: &[]contract.AcceptedSetting{{Serial: serial, Signal: "crc_errors", Level: 30.5, Reason: "no: \"yes\"\nand # more"}},
		Routes:   &[]contract.RouteSetting{{Name: "null", By: "console", Least: "now", Zone: new("Europe/Lisbon")}},
	}
	var b bytes.Buffer
	require.NoError(t, watchfile.Write(&b, f))
	again, err := watchfile.Read(bytes.NewReader(b.Bytes()))
	require.NoError(t, err, b.String())
	assert.Equal(t, f, again)
	published, err := os.ReadFile("../../docs/reference/watch.schema.json")
	require.NoError(t, err)
	schema, err := watchfile.Schema()
	require.NoError(t, err)
	assert.Equal(t, string(schema)+"\n", string(published), "make generate")
}

func TestWhatIsNoWatchFile(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"":                        "the file: ",
		"\t- x":                   "no YAML",
		"version: 2":              "version: value must be",
		"plans: []":               "the file: missing property 'version'",
		"version: 1\nplan: []":    "additional properties 'plan' not allowed",
		"version: 1\nplans: [{}]": "plans/0: missing property 'for'",
		"version: 1\nplans: [{for: {bench: own}, read: 6}]":                        "plans/0/read: got number, want string",
		"version: 1\nroutes: [{name: x, by: pigeon, least: now}]":                  "routes/0/by: value must be one of",
		"version: 1\nroutes: [{name: x, by: console, least: now, secret: hunted}]": "'secret' not allowed",
		"version: 1\naccepted: [{serial: x, signal: y, level: -1, reason: z}]":     "accepted/0/level: minimum",
		"a: &a [*a]":                "",
		strings.Repeat("x", 17<<20): "larger than 16 MB",
	} {
		_, err := watchfile.Read(strings.NewReader(text))
		require.Error(t, err, text[:min(40, len(text))])
		assert.ErrorContains(t, err, want)
	}
}
