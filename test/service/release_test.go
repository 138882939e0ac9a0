package service

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/contract"
)

// Whatever ends the release of an overwrite stops it within a second, on a bench that writes, and what was written is known.
func TestAnOverwriteEndsWithItsRelease(t *testing.T) {
	for what, ends := range map[string]func(s *service, intake int64) error{
		"withdrawn": func(s *service, _ int64) error {
			_, err := s.WithdrawRelease(s.t.Context(), "7M511", "Dov")
			return err
		},
		"handed over": func(s *service, intake int64) error {
			_, err := s.HandOver(s.t.Context(), intake, contract.HandoverRequest{Goes: "returned", By: "Dov"})
			return err
		},
		"taken in anew": func(s *service, intake int64) error {
			instead := contract.IntakeInstead{Ticket: fmt.Sprint(intake)}
			_, err := s.TakeIn(s.t.Context(), contract.IntakeRequest{Bay: at(1), By: "Dov", Instead: &instead})
			return err
		},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			spec := scratched("KVA077M511")
			spec.Identity.Sectors, spec.Unread.From = 40_000_000_000, 0
			dir := t.TempDir()
			s, ctx := serve(t, dir, spec), t.Context()
			s.answering(1)
			i, err := s.TakeIn(ctx, contract.IntakeRequest{Bay: at(1), By: "Dov"})
			require.NoError(t, err)
			_, err = s.RecordRelease(ctx, "7M511", contract.ReleaseRequest{Scope: "overwrite", Owner: "Orla Fenn, by phone", By: "Dov"})
			require.NoError(t, err)
			r, err := s.Check(ctx, "7M511", contract.CheckRequest{Kind: "spot", By: "Dov"})
			require.NoError(t, err)
			follow(s, r.Id)
			r, err = s.StartRework(ctx, "7M511", contract.ReworkRequest{Kind: "overwrite", Ending: "A077M511", By: "Dov"})
			require.NoError(t, err)
			s.until("it writes", func() bool { return s.bench.Wrote("sim-1") > 0 })

			began := time.Now()
			require.NoError(t, ends(s, i.Id))
			var done contract.Run
			s.until("it ends", func() bool {
				done, err = s.Run(ctx, r.Id)
				return err == nil && done.State == contract.RunStateDone
			})
			wrote := s.bench.Wrote("sim-1")
			t.Logf("%s: it ended after %v: %s", what, time.Since(began).Round(time.Millisecond), done.Standing.Words)
			assert.Equal(t, contract.RunOutcomeStopped, *done.Outcome, done.Standing.Words)
			assert.Contains(t, done.Standing.Words, "stopped by the ")

			s.end() // and nothing goes on when the service is started again
			source := s.bench
			again := begin(t, optionsOf(dir, source))
			again.bench = source
			again.answering(1)
			time.Sleep(300 * time.Millisecond)
			assert.Equal(t, wrote, source.Wrote("sim-1"), "nothing more is written")
			if what == "handed over" {
				all, err := again.Intakes(ctx, contract.ListIntakesParams{})
				require.NoError(t, err)
				require.NotNil(t, all[0].Handover)
				assert.EqualValues(t, "altered", all[0].Handover.Data, "a part of it was written over")
			}
		})
	}
}
