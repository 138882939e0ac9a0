package whole_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/audit"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/runs"
)

// putIn has a drive come to answer in a bay.
func (p *place) putIn(number int, s state) {
	p.t.Helper()
	p.read(time.Minute, s)
	p.bay(protocol.Bay{ID: drive.Bay{Number: number}, Connection: protocol.Answering, Key: s.key()})
}

func (p *place) takeOut(number int) {
	p.t.Helper()
	p.bay(protocol.Bay{ID: drive.Bay{Number: number}, Connection: protocol.Empty})
}

func TestDrivesPutInBelongToTheOpenLot(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.putIn(1, state{serial: "KVA07EARLY", hours: 100, heat: 30})
		l, err := p.OpenLot(
			t.Context(), who("Dov"), shop.Lot{Ticket: "2240", Customer: "Quillet Ferry office", Duty: drive.Carry, Expected: 9},
		)
		require.NoError(t, err)
		_, err = p.OpenLot(t.Context(), who("Dov"), shop.Lot{})
		assert.ErrorAs(t, err, new(*shop.Conflict), "a drive that comes to answer can belong to one lot only")

		p.bay(
			protocol.Bay{ID: drive.Bay{Number: 1}, Connection: protocol.Answering, Key: state{serial: "KVA07EARLY"}.key()},
		) // told again, as after a restart
		serials := []string{"KVA07LOT01", "KVA07LOT02", "KVA07LOT03", "KVA07LOT04", "KVA07LOT05", "KVA07LOT06", "KVA07LOT07"}
		for i, serial := range serials {
			s := state{serial: serial, hours: 20_000 + uint64(i)*100, heat: 30}
			if i == 3 {
				s.hours = 41_806
			}
			p.putIn(2, s)
			p.takeOut(2)
		}
		p.putIn(2, state{serial: "KVA07LOT01", hours: 20_001, heat: 30}) // out and in again
		_, err = p.EndLot(t.Context(), who("Dov"), l.ID)
		require.NoError(t, err)
		p.putIn(3, state{serial: "KVA07LATER", hours: 100, heat: 30})

		v, err := p.LotByID(t.Context(), l.ID)
		require.NoError(t, err)
		var got []string
		for _, d := range v.Drives {
			got = append(got, d.Drive.Identity.Serial)
			assert.Equal(t, drive.Carry, d.Drive.Duty, "what it is meant for comes from the lot")
			assert.Equal(t, "Quillet Ferry office", d.Intake.Customer)
			if d.Drive.Identity.Serial == "KVA07LOT04" {
				require.Len(t, d.Apart, 1)
				assert.Equal(
					t, "hours powered on 41\u00A0806 h, median 20\u00A0400 h of 7, 2 times the median", d.Apart[0],
					"the count is said",
				)
			} else {
				assert.Empty(t, d.Apart)
			}
		}
		slices.Sort(got)
		assert.Equal(t, serials, got, "each once; none that was there before, or came later")
		assert.Equal(t, 7, v.Count[drive.Undecided])
		for _, u := range v.Usable {
			assert.Equal(t, desk.Usable{Duty: u.Duty, Of: 7}, u, "undecided is not usable")
		}
		require.NotEmpty(t, v.Compared)
		assert.Equal(t, "hours powered on", v.Compared[0].Words)
		all, err := p.Siblings(t.Context(), p.drive("LOT04"))
		require.NoError(t, err)
		assert.Equal(t, 9, all.Of, "all of the model the shop has met")
		require.NotEmpty(t, all.Apart)
	})
}

func TestHandingOverEndsAnIntake(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx := t.Context()
		p.putIn(2, state{serial: "KVA077M511", hours: 100, heat: 30})
		i, err := p.TakeIn(
			ctx, who("Dov"),
			shop.Intake{Bay: drive.Bay{Number: 2}, Ticket: "2214", Customer: "Pellwick Spit", Complaint: "clicks", Wanted: true},
		)
		require.NoError(t, err)
		d := p.drive("7M511")
		_, err = p.Check(ctx, who("Dov"), d, runs.CheckOrder{Kind: check.Quick, Despite: "the owner waits"})
		require.NoError(t, err)
		_, err = p.HandOver(ctx, who("Dov"), i.ID, shop.Handover{Goes: shop.Returned})
		assert.ErrorAs(t, err, new(*shop.Conflict), "a run goes on")
		ended := check.Run{
			ID:      1,
			Kind:    check.Quick,
			Bay:     drive.Bay{Number: 2},
			Key:     d.Identity.Key,
			State:   check.Done,
			Outcome: check.Passed,
		}
		require.NoError(t, p.Take(ctx, "", protocol.Report{Run: &ended}))
		wrote := check.Run{
			ID:      8,
			Kind:    check.Mend,
			Bay:     drive.Bay{Number: 2},
			Key:     d.Identity.Key,
			State:   check.Done,
			Outcome: check.Passed,
			Asked:   p.clock.at,
			Steps:   []check.Step{{Kind: check.Mending, State: check.StepDone}},
		}
		require.NoError(t, p.Take(ctx, "", protocol.Report{Run: &wrote}))
		for _, better := range []shop.DataState{shop.Untouched, shop.Overwritten} {
			_, err = p.HandOver(ctx, who("Dov"), i.ID, shop.Handover{Goes: shop.Returned, Data: better})
			assert.ErrorAs(t, err, new(*shop.Conflict), "a mend wrote to it: %s is not true", better)
		}
		_, err = p.RecordRelease(ctx, who("Dov"), d, &shop.Release{Scope: check.Mend, Owner: "Pellwick Spit, by letter"})
		require.NoError(t, err)
		done, err := p.HandOver(ctx, who("Dov"), i.ID, shop.Handover{Goes: shop.Returned, Note: "collected"})
		require.NoError(t, err)
		assert.Equal(t, shop.Altered, done.Handover.Data, "what the runs did")
		_, err = p.HandOver(ctx, who("Dov"), i.ID, shop.Handover{Goes: shop.Returned})
		assert.ErrorAs(t, err, new(*shop.Conflict))
		_, err = p.Rework(ctx, who("Dov"), p.drive("7M511"), runs.Wish{Kind: check.Mend, Ending: "077M511"})
		assert.ErrorContains(t, err, "not released", "a release ends with its intake")

		// It comes back from somebody else: what the earlier owner said is not shown.
		p.clock.at = p.clock.at.Add(time.Hour)
		_, err = p.TakeIn(ctx, who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Ticket: "2301", Customer: "Marram Seed Library"})
		require.NoError(t, err)
		history, err := p.History(ctx, p.drive("7M511"))
		require.NoError(t, err)
		var words []string
		for _, e := range history {
			words = append(words, e.Says.String())
		}
		text := strings.Join(words, "\n")
		assert.Contains(t, text, "from an earlier owner")
		assert.Contains(t, text, "Handed over by Dov: returned, data altered")
		for _, secret := range []string{"2214", "Pellwick", "clicks", "collected"} {
			assert.NotContains(t, text, secret)
		}
		assert.Contains(t, text, "ticket 2301")
	})
}

func TestAnOpenIntakeIsReplacedByWhoNamesIt(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		p.putIn(2, state{serial: "KVA077M511", hours: 100, heat: 30})
		wanted := shop.Intake{Bay: drive.Bay{Number: 2}, Ticket: "2214", Customer: "Pellwick Spit", Wanted: true}
		first, err := p.TakeIn(t.Context(), who("Dov"), wanted)
		require.NoError(t, err)
		for _, instead := range []*desk.Instead{
			nil,
			{},
			{Ticket: "2214"},
			{Customer: "Pellwick Spit"},
			{Ticket: "2215", Customer: "Pellwick Spit"},
			{Ticket: "1", Customer: "Pellwick Spit"},
		} {
			_, err = p.TakeInstead(t.Context(), who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}}, instead)
			require.ErrorContains(t, err, "KVA077M511 is on intake 1 already, of 1 September 2026, ticket 2214", "%+v", instead)
		}
		second, err := p.TakeInstead(
			t.Context(), who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Copied: true},
			&desk.Instead{Ticket: "2214 ", Customer: "pellwick spit"},
		)
		require.NoError(t, err)
		assert.True(t, second.AtRisk(), "what the first protects stays protected, whatever the second says")
		_, err = p.Check(t.Context(), who("Dov"), p.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.ErrorContains(t, err, "is wanted and not copied")
		here, err := p.Intakes(t.Context(), shop.IntakeQuery{Open: true})
		require.NoError(t, err)
		require.Len(t, here, 1, "every intake ends")
		all, err := p.Intakes(t.Context(), shop.IntakeQuery{})
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.Equal(t, first.ID, all[1].ID)
		assert.Equal(t, shop.NotNoted, all[1].Handover.Goes)
	})
}

// An erased customer is nowhere in the database's files: not in a free page, the search index or the log.
func TestErasingACustomerLeavesNoTrace(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx := t.Context()
		p.putIn(2, state{serial: "KVA077M511", hours: 100, heat: 30})
		const name, words = "Zwiebelkirchner Uhrwerke", "Quietschgeräusch beim Kopieren"
		_, err := p.TakeIn(
			ctx, who("Dov"),
			shop.Intake{Bay: drive.Bay{Number: 2}, Ticket: "2214", Customer: name, Complaint: words, Reference: "ZU-881"},
		)
		require.NoError(t, err)
		_, err = p.RecordRelease(ctx, who("Dov"), p.drive("7M511"), &shop.Release{Scope: check.Mend, Owner: name + ", by telephone"})
		require.NoError(t, err)
		l, err := p.OpenLot(ctx, who("Dov"), shop.Lot{Customer: name})
		require.NoError(t, err)
		found, err := p.Drives(ctx, shop.Query{Text: "zwiebelkirch"})
		require.NoError(t, err)
		require.Len(t, found, 1)

		_, err = p.Erase(ctx, who("Maud"), "Nobody")
		assert.ErrorAs(t, err, new(*shop.NotFound))
		e, err := p.Erase(ctx, who("Maud"), name)
		require.NoError(t, err)
		assert.Equal(t, desk.Erased{Intakes: 1, Lots: 1}, e)

		found, err = p.Drives(ctx, shop.Query{Text: "zwiebelkirch"})
		require.NoError(t, err)
		assert.Empty(t, found)
		after, err := p.LotByID(ctx, l.ID)
		require.NoError(t, err)
		assert.Empty(t, after.Customer)
		readings, err := p.Readings(ctx, p.drive("7M511"))
		require.NoError(t, err)
		assert.Len(t, readings, 1, "the drive's record stays")
		files, err := filepath.Glob(p.file + "*")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			bytes, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, secret := range []string{"Zwiebel", "wiebelkirch", "Quietsch", "ZU-881"} {
				assert.NotContains(t, strings.ToLower(string(bytes)), strings.ToLower(secret), filepath.Base(file))
			}
		}
	})
}

func TestTheAuditHoldsWhatPeopleDidAndShowsWhoTampered(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx := t.Context()
		p.putIn(2, state{serial: "KVA077M511", hours: 100, heat: 30})
		_, err := p.TakeIn(ctx, who("Dov"), shop.Intake{Bay: drive.Bay{Number: 2}, Customer: "Pellwick Spit"})
		require.NoError(t, err)
		_, err = p.Check(ctx, who("Imre"), p.drive("7M511"), runs.CheckOrder{Kind: check.Quick})
		require.NoError(t, err)
		_, err = p.Sign(ctx, who("Maud"), p.drive("7M511"), 0, drive.Degrading, "it clicked")
		require.NoError(t, err)
		rows, err := p.Audit(ctx, shop.AuditQuery{})
		require.NoError(t, err)
		var who []string
		for _, a := range rows {
			who = append(who, a.By+": "+a.Said.String())
			assert.NotContains(t, a.Said.Column(), "Pellwick", "the audit is kept for ever and names no customer")
		}
		assert.Equal(
			t,
			[]string{
				"Maud: KVA077M511: undecided overruled with degrading by Maud",
				"Imre: Bay 2: quick check, run 1, ordered",
				"Dov: Bay 2: intake 1 opened",
			},
			who,
		)
		v, err := p.VerifyAudit(ctx)
		require.NoError(t, err)
		assert.Equal(t, audit.Verified{Rows: 3}, v)

		// Somebody with the file and without scruples.
		db, err := sqlx.Open("sqlite", p.file)
		require.NoError(t, err)
		defer func() { _ = db.Close() }()
		for _, wrong := range []string{`UPDATE audit SET by = 'Dov' WHERE seq = 2`, `DELETE FROM audit WHERE seq = 2`} {
			_, err = db.ExecContext(context.Background(), wrong)
			require.Error(t, err, "the database itself refuses: %s", wrong)
		}
		_, err = db.ExecContext(context.Background(), `DROP TRIGGER audit_stays; UPDATE audit SET by = 'Dov' WHERE seq = 2`)
		require.NoError(t, err)
		v, err = p.VerifyAudit(ctx)
		require.NoError(t, err)
		assert.Equal(t, int64(2), v.Bad)
	})
}

func TestALotTellsHowFastItsDrivesAreReadOutside(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		l, err := p.OpenLot(t.Context(), who("Dov"), shop.Lot{Ticket: "2240"})
		require.NoError(t, err)
		s := tested("KVA077M511", 9_000)
		p.putIn(2, s)
		speed := func() float64 {
			v, err := p.LotByID(t.Context(), l.ID)
			require.NoError(t, err)
			require.Len(t, v.Drives, 1)
			return v.Drives[0].Speed
		}
		sweep := func(run int64, kind check.StepKind, share float64, cell surface.Cell) {
			g, err := surface.NewGeometry(2_000_398_934_016, 512, 4096, 0, 7200, 0)
			require.NoError(t, err)
			r := surface.NewRibbon(g)
			r.Cells()[0], r.Cells()[1] = cell, cell
			p.clock.at = p.clock.at.Add(time.Hour)
			require.NoError(t, p.Take(t.Context(), "", protocol.Report{Sweep: &check.Result{
				Key: s.key(),
				Sweep: check.Sweep{
					Run: run, Step: 1, Kind: kind, Began: p.clock.at, Ended: p.clock.at,
					Standing: check.Standing{Geometry: g, Share: share},
				},
				Found: check.Found{Blocks: []check.Block{{Number: 0, Cells: r.PackBlock(0)}}},
			}}))
		}
		assert.Zero(t, speed(), "not swept")
		sweep(1, check.WholeSweep, 0.5, surface.Cell{Bytes: 120e6, Took: time.Second})
		assert.Zero(t, speed(), "not all of it")
		sweep(2, check.WholeSweep, 1, surface.Cell{Bytes: 180e6, Took: time.Second})
		assert.InDelta(t, 180e6, speed(), 1)
		sweep(3, check.Overwriting, 1, surface.Cell{Bytes: 90e6, Took: time.Second})
		assert.InDelta(t, 180e6, speed(), 1, "writing is another speed")
		sweep(4, check.WholeSweep, 1, surface.Cell{})
		assert.Zero(t, speed(), "its newest has read nothing there")
	})
}

// A drive that was signed comes back with a complaint: somebody looks into it before it leaves again.
func TestASignatureOfAnEarlierVisitHandsNothingOver(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx, dov := t.Context(), who("Dov")
		p.putIn(2, state{serial: "KVA077M511", hours: 100, heat: 30})
		next := func() wording.Code {
			v, err := p.Bay(ctx, drive.Bay{Number: 2})
			require.NoError(t, err)
			return v.Next.Code
		}
		takeIn := func() shop.Intake {
			p.clock.at = p.clock.at.Add(24 * time.Hour)
			i, err := p.TakeIn(ctx, dov, shop.Intake{Bay: drive.Bay{Number: 2}, Complaint: "is slow"})
			require.NoError(t, err)
			return i
		}
		sign := func() {
			p.clock.at = p.clock.at.Add(time.Hour)
			v, err := p.Verdict(ctx, p.drive("7M511"))
			require.NoError(t, err)
			_, err = p.Sign(ctx, dov, p.drive("7M511"), v.Seq, drive.Healthy, "a spare")
			require.NoError(t, err)
		}
		first := takeIn()
		sign()
		assert.Equal(t, wording.NextHandOver, next())
		gone, err := p.LastVisit(ctx, p.drive("7M511"))
		require.NoError(t, err)
		assert.Nil(t, gone, "it has not come back")
		_, err = p.HandOver(ctx, dov, first.ID, shop.Handover{Goes: shop.Returned})
		require.NoError(t, err)
		assert.Equal(t, wording.NextTakeOut, next(), "it lies there still")
		takeIn()
		assert.Equal(t, wording.NextQuick, next())
		assert.Nil(t, p.drive("7M511").Now.Signed, "what this visit comes to is open")
		last, err := p.LastVisit(ctx, p.drive("7M511"))
		require.NoError(t, err)
		assert.Equal(t, "until 2 Sep 2026, returned: healthy, signed by Dov", last.Says().String())
		assert.Empty(t, last.Since)
		p.arrives(p.clock.at.Add(time.Minute), 2, state{serial: "KVA077M511", hours: 130, heat: 30, pending: 8})
		last, err = p.LastVisit(ctx, p.drive("7M511"))
		require.NoError(t, err)
		require.Len(t, last.Since, 1)
		assert.Equal(t, []float64{0, 8}, []float64{last.Since[0].Before, last.Since[0].After})
		p.clock.at = p.clock.at.Add(time.Hour)
		for i, outcome := range []check.Outcome{check.Stopped, check.Passed} {
			run := check.Run{
				ID: int64(90 + i), Kind: check.Quick, Bay: drive.Bay{Number: 2}, Key: named("KVA077M511"), State: check.Done,
				Outcome: outcome, Asked: p.clock.at.Add(time.Duration(i) * time.Minute), Ended: p.clock.at.Add(time.Hour), By: "Dov",
			}
			require.NoError(t, p.Take(ctx, "", protocol.Report{Run: &run}))
			p.Wait()
			assert.Equal(t, []wording.Code{wording.NextQuick, wording.NextReview}[i], next(), outcome)
		}
		sign()
		assert.Equal(t, wording.NextHandOver, next())
	})
}
