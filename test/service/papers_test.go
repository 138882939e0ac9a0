package service

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/test/made"
)

// What is printed is what the API tells: every number of statement and label is looked up there.
func TestPapersSayWhatTheAPISays(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Counters[0].Course = sim.Course{From: 3} // reallocated
	s := serve(t, t.TempDir(), spec)
	ctx := t.Context()
	s.answering(1)
	ticket, customer := "2214", "Pellwick Spit"
	_, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Ticket: &ticket, Customer: &customer})
	require.NoError(t, err)
	d, err := s.Drive(ctx, "7M511")
	require.NoError(t, err)
	v, err := s.Verdict(ctx, "7M511")
	require.NoError(t, err)
	p, err := s.Statement(ctx, "7M511", nil)
	require.NoError(t, err)
	require.NotEmpty(t, v.Findings)
	assert.Equal(t, v.Grade, p.Grade)
	for i, f := range v.Findings {
		require.NotNil(t, f.Margin)
		assert.Contains(
			t, p.Why[i], fmt.Sprintf("We count %s; our limit is %s.", wording.Number(f.Margin.Used), wording.Number(f.Margin.Of)),
		)
		assert.Equal(t, v.Reading, f.Reading)
		for _, r := range f.Rests {
			page, err := s.Reading(ctx, "7M511", fmt.Sprint(f.Reading), true)
			require.NoError(t, err)
			assert.Contains(t, fmt.Sprint(names(page)), *r.Page, "a finding rests on a page of the reading it names")
		}
	}
	facts := map[string]string{}
	for _, f := range p.Facts {
		facts[f.Name] = f.Value
	}
	assert.Equal(t, wording.Number(*d.Hours)+" hours", facts["Used for"])
	assert.Equal(t, d.Serial, facts["Serial"])
	assert.Equal(t, d.Model+", "+wording.Of(float64(*d.Bytes), "B"), facts["Drive"])
	assert.Equal(t, fmt.Sprintf("our policy %d, for everyday use, reading %d", v.Policy, v.Reading), facts["Judged by"])
	assert.Equal(t, fmt.Sprintf("%s, intake %d", ticket, d.Intake.Id), facts["Ticket"])

	l, err := s.Label(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, string(v.Grade), l.Word)
	assert.Equal(t, "7M511", l.Ending)
	assert.Equal(t, v.Findings[0].Sentence, strings.Split(l.Lines[0], ";")[0])
	assert.Equal(t, s.address+"/drives/KVA077M511", l.Link)
	for _, format := range []string{"pdf", "html"} {
		page, err := s.StatementPage(ctx, "7M511", format, nil)
		require.NoError(t, err)
		assert.Contains(t, string(page[:20]), map[string]string{"pdf": "%PDF-", "html": "<!doctype html>"}[format])
	}
	png, err := s.LabelPage(ctx, "7M511", picture("62x29"))
	require.NoError(t, err)
	assert.Equal(t, "\x89PNG", string(png[:4]))
	_, err = s.LabelPage(ctx, "7M511", picture("1x1"))
	assert.Equal(t, 400, status(t, err))
}

func names(r contract.Reading) []string {
	var all []string
	for _, p := range r.Pages {
		all = append(all, p.Name)
	}
	return all
}

// The list of drives, narrowed by how long they were powered on, and the table that holds all it finds.
func TestTheTableHoldsWhatTheListFinds(t *testing.T) {
	old, young := made.Disk("KVA077M511"), made.Disk("=KVA07EVIL")
	old.Hours, young.Hours = 40_000, 1_200
	s := serve(t, t.TempDir(), old, young)
	ctx := t.Context()
	s.answering(1)
	s.answering(2)
	from, to := 8_760, 8_760
	for name, p := range map[string]struct {
		contract.ListDrivesParams
		want []string
	}{
		"all":       {contract.ListDrivesParams{}, []string{"=KVA07EVIL", "KVA077M511"}},
		"the old":   {contract.ListDrivesParams{FromHours: &from}, []string{"KVA077M511"}},
		"the young": {contract.ListDrivesParams{ToHours: &to}, []string{"=KVA07EVIL"}},
		"neither":   {contract.ListDrivesParams{FromHours: new(50_000)}, []string{}},
	} {
		found, err := s.Drives(ctx, p.ListDrivesParams)
		require.NoError(t, err)
		serials := []string{}
		for _, d := range found {
			serials = append(serials, d.Serial)
		}
		assert.Equal(t, p.want, serials, name)
		text, err := s.DrivesTable(ctx, p.ListDrivesParams)
		require.NoError(t, err)
		rows, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
		require.NoError(t, err)
		require.Len(t, rows, 1+len(found), name)
		for i, d := range found {
			row := map[string]string{}
			for n, head := range rows[0] {
				row[head] = rows[1+i][n]
			}
			assert.Equal(t, d.Serial, strings.TrimPrefix(row["serial"], "'"), "no spreadsheet takes a serial for a formula")
			assert.NotEqual(t, "=", row["serial"][:1])
			assert.Equal(t, string(d.Grade), row["verdict"])
			assert.Equal(t, fmt.Sprint(*d.Hours), row["powered on h"])
			assert.Equal(t, fmt.Sprint(*d.Bay), row["bay"])
		}
	}
	labels, err := s.DriveLabels(ctx, contract.PrintDriveLabelsParams{Drive: []string{"7M511", "=KVA07EVIL"}})
	require.NoError(t, err)
	assert.Equal(t, "%PDF-", string(labels[:5]))
	_, err = s.DriveLabels(ctx, contract.PrintDriveLabelsParams{Drive: []string{"7M511", "NOBODY"}})
	assert.Equal(t, 404, status(t, err), "none is left out in silence")
}

// The whole record can be taken in elsewhere, and says what the API says.
func TestTheWholeRecordComesBack(t *testing.T) {
	s := serve(t, t.TempDir(), made.Disk("KVA077M511"))
	ctx := t.Context()
	s.answering(1)
	body, err := s.Archive(ctx, "7M511")
	require.NoError(t, err)
	z, err := zip.NewReader(bytes.NewReader(body), int64(len(body)))
	require.NoError(t, err)
	files := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		files[f.Name], err = io.ReadAll(r)
		require.NoError(t, err)
	}
	var d contract.Drive
	require.NoError(t, json.Unmarshal(files["drive.json"], &d))
	now, err := s.Drive(ctx, "7M511")
	require.NoError(t, err)
	assert.Equal(t, now, d)
	done, err := s.ImportRecord(ctx, bytes.NewReader(files["readings.record"]), "Dov")
	require.NoError(t, err)
	assert.Equal(t, []contract.ImportedDrive{{Serial: d.Serial, Model: d.Model, Readings: 0, Known: d.Readings}}, done.Drives)
	assert.Equal(t, d.Readings, strings.Count(string(files["signals.csv"]), "\n")-1)
}

// picture asks for a label as a picture on a stock.
func picture(stock contract.Stock) contract.GetLabelParams {
	format, dpi := "png", 203
	return contract.GetLabelParams{Format: &format, Stock: &stock, Dpi: &dpi}
}
