package service

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/drive"
	"hylostat.example/test/made"
)

// A lot from the desk's side: opened, put in, compared, signed together, printed, handed over, and its customer forgotten.
func TestALotFromTheDesk(t *testing.T) {
	specs := make([]sim.Spec, 8)
	s, ctx := serve(t, t.TempDir(), specs...), t.Context()
	ticket, customer, expected := "2240", "Quillet Ferry office", 8
	l, err := s.OpenLot(
		ctx,
		contract.LotRequest{
			By:       "Dov",
			Ticket:   &ticket,
			Customer: &customer,
			Expected: &expected,
			Check:    new(contract.PlannedCheck("quick")),
		},
	)
	require.NoError(t, err)
	_, err = s.OpenLot(ctx, contract.LotRequest{By: "Dov"})
	assert.Equal(t, 409, status(t, err), "a bay asks nobody, so one lot is open at a time")
	for i := range specs {
		spec := made.Disk(fmt.Sprintf("KVA077M60%d", i))
		if i == 7 {
			spec.Counters[0].Course = sim.Course{From: 40} // reallocated
		}
		s.bench.Insert(drive.Address(fmt.Sprintf("sim-%d", i+1)), spec)
	}
	s.until("all are checked", func() bool {
		q, err := s.Queue(ctx, "")
		return err == nil && q.Done == 8 && q.Going == 0
	})
	v, err := s.Lot(ctx, l.Id)
	require.NoError(t, err)
	require.Len(t, v.Drives, 8)
	counts := map[contract.Grade]int{}
	for _, n := range v.Counts {
		counts[n.Grade] = n.Drives
	}
	assert.Equal(t, 7, counts[contract.GradeHealthy])
	assert.Equal(t, 1, counts[contract.GradeDegrading])
	for _, u := range v.Usable {
		if u.Duty == contract.Everyday {
			assert.Equal(t, contract.Usable{Duty: contract.Everyday, Does: 7, Care: 1, Of: 8}, u)
		}
	}
	for _, d := range v.Drives {
		if d.Drive.Serial == "KVA077M607" {
			assert.Equal(t, []string{"reallocated sectors 40, median 0 of 8"}, d.Apart, "how many were compared is said")
		} else {
			assert.Empty(t, d.Apart, d.Drive.Serial)
		}
	}
	require.Len(t, v.Compared, 1)
	assert.Equal(t, "reallocated sectors", v.Compared[0].Words)
	siblings, err := s.Siblings(ctx, "7M607")
	require.NoError(t, err)
	assert.Equal(t, 8, siblings.Of)
	assert.Equal(t, "reallocated sectors", siblings.Rows[0].Words, "where it stands apart most comes first")

	text, err := s.LotSummary(ctx, l.Id, "csv")
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 9)
	for i, d := range v.Drives {
		row := map[string]string{}
		for n, head := range rows[0] {
			row[head] = rows[1+i][n]
		}
		assert.Equal(t, d.Drive.Serial, row["serial"])
		assert.Equal(t, string(d.Grade), row["verdict"])
		assert.Equal(t, fmt.Sprint(d.Values["reallocated"]), row["reallocated sectors"])
		assert.Equal(t, strings.Join(d.Apart, "; "), row["apart from siblings"])
	}
	sheet := contract.Stock("a4-24")
	for _, paper := range []func() ([]byte, error){
		func() ([]byte, error) { return s.LotSummary(ctx, l.Id, "pdf") },
		func() ([]byte, error) { return s.LotLabels(ctx, l.Id, contract.PrintLabelsParams{Stock: &sheet}) },
	} {
		page, err := paper()
		require.NoError(t, err)
		assert.Equal(t, "%PDF-", string(page[:5]))
	}

	signed, err := s.SignTogether(ctx, contract.SignTogetherRequest{By: "Imre"})
	require.NoError(t, err)
	assert.Len(t, signed.Signed, 7)
	assert.NotContains(t, signed.Signed, "KVA077M607", "whoever has a finding is looked at alone")
	some := []string{"7M600", "7M607"}
	again, err := s.SignTogether(ctx, contract.SignTogetherRequest{By: "Imre", Drives: &some})
	require.NoError(t, err)
	assert.Empty(t, again.Signed)
	assert.Equal(t, "it is signed by Imre already", again.Left[0].Why)
	assert.Equal(t, "it is degrading: look at it, then sign it alone", again.Left[1].Why)

	_, err = s.EndLot(ctx, l.Id, "Dov")
	require.NoError(t, err)
	_, err = s.EndLot(ctx, l.Id, "Dov")
	assert.Equal(t, 409, status(t, err))
	open, err := s.Intakes(ctx, contract.ListIntakesParams{Open: new(true)})
	require.NoError(t, err)
	require.Len(t, open, 8)
	for _, i := range open {
		out, err := s.HandOver(ctx, i.Id, contract.HandoverRequest{By: "Dov", Goes: contract.HandoverRequestGoesReturned})
		require.NoError(t, err)
		assert.Equal(t, "untouched", string(out.Handover.Data), "what its runs did")
	}
	_, err = s.HandOver(ctx, open[0].Id, contract.HandoverRequest{By: "Dov", Goes: contract.HandoverRequestGoesReturned})
	assert.Equal(t, 409, status(t, err), "once")

	erased, err := s.EraseCustomer(ctx, contract.EraseRequest{Customer: customer, By: "Maud"})
	require.NoError(t, err)
	assert.Equal(t, contract.Erased{Intakes: 8, Lots: 1}, erased)
	_, err = s.EraseCustomer(ctx, contract.EraseRequest{Customer: customer, By: "Maud"})
	assert.Equal(t, 404, status(t, err))
	lots, err := s.Lots(ctx)
	require.NoError(t, err)
	require.Len(t, lots, 1)
	assert.Nil(t, lots[0].Customer)
	kept, err := s.Verdict(ctx, "7M607")
	require.NoError(t, err)
	assert.Equal(t, contract.GradeDegrading, kept.Grade, "the drive's record stays")
	chain, err := s.VerifyAudit(ctx, "")
	require.NoError(t, err)
	assert.True(t, chain.Sound)
	all, err := s.Audit(ctx, contract.ListAuditParams{Who: new("Maud")})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.NotContains(t, all[0].Text.Words, customer)
}

// A drive that nobody can name: said to be there, moved, said to be gone.
func TestASilentDriveIsMovedAndItsBayIsLeft(t *testing.T) {
	silent := made.Disk("KVA077M511")
	silent.Awkward.SilentAttempts = 100
	s, ctx := serve(t, t.TempDir(), silent, sim.Spec{}), t.Context()
	s.until("the bench has looked", func() bool { bays, err := s.Bays(ctx); return err == nil && len(bays) == 2 })
	_, err := s.Attempt(ctx, at(1), "Dov")
	require.NoError(t, err)
	s.until("it is silent", func() bool {
		b, err := s.Bay(ctx, at(1))
		return err == nil && b.Connection == contract.BayConnectionSilent
	})
	i, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov", Ticket: new("2301")})
	require.NoError(t, err)
	_, err = s.MoveIntake(ctx, i.Id, at(9), "Dov")
	assert.Equal(t, 404, status(t, err), "there is no such bay")
	moved, err := s.MoveIntake(ctx, i.Id, at(2), "Dov")
	require.NoError(t, err)
	assert.Equal(t, at(2), moved.Bay)
	b, err := s.Vacate(ctx, at(1), "Dov")
	require.NoError(t, err)
	assert.Nil(t, b.Intake)
	found, err := s.Intakes(ctx, contract.ListIntakesParams{Ticket: new("2301")})
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Nil(t, found[0].Serial)
	bays, err := s.Bays(ctx)
	require.NoError(t, err)
	assert.Len(t, bays, 2)
}

// Two readings laid beside each other, any two, and the past read anew.
func TestAnyTwoReadingsAreCompared(t *testing.T) {
	spec := made.Disk("KVA077M511")
	spec.Counters[6].Course = sim.Course{From: 0, Rate: 100_000} // waiting, by the hour
	s, ctx := serve(t, t.TempDir(), spec), t.Context()
	s.answering(1)
	for range 2 {
		_, err := s.TakeReading(ctx, "7M511", contract.ReadingRequest{By: "Dov"})
		require.NoError(t, err)
	}
	all, err := s.Readings(ctx, "7M511")
	require.NoError(t, err)
	require.Len(t, all, 3)
	values := map[int]float64{}
	for _, r := range all {
		one, err := s.Reading(ctx, "7M511", fmt.Sprint(r.Seq), false)
		require.NoError(t, err)
		for _, a := range one.Attributes {
			if a.Id == 197 {
				raw, err := strconv.ParseUint(a.Raw, 16, 48)
				require.NoError(t, err)
				values[r.Seq] = float64(raw)
			}
		}
	}
	assert.Less(t, values[1], values[3], "the drive goes on counting")
	for _, pair := range [][2]int{{1, 2}, {1, 3}, {2, 3}} {
		c, err := s.Compare(ctx, "7M511", &pair[0], &pair[1])
		require.NoError(t, err)
		for _, row := range c.Rows {
			if row.Signal == "pending" {
				assert.Equal(t, values[pair[0]], *row.Before, pair)
				assert.Equal(t, values[pair[1]], *row.Now, pair)
			}
		}
	}
	_, err = s.Compare(ctx, "7M511", new(1), new(99))
	assert.Equal(t, 404, status(t, err))
	done, err := s.Redecode(ctx, "Dov")
	require.NoError(t, err)
	assert.Equal(t, 3, done.Readings)
	assert.Zero(t, done.Changed, "the same decoder says the same")
}
