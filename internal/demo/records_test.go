package demo

import (
	"context"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"

	"hylostat.example/internal/access"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/fleet"
	"hylostat.example/internal/shop/whole"
	"hylostat.example/internal/store"
	"hylostat.example/internal/vector"
)

// quietBench has nothing to tell.
type quietBench struct{}

func (quietBench) Describe() protocol.Description {
	return protocol.Description{Title: "north bench", Factor: 1}
}

func (quietBench) Bond(context.Context) (protocol.Bond, error) {
	return protocol.Bond{Bench: "north", Next: 1}, nil
}
func (quietBench) Bind(context.Context, string, int64) error { return nil }
func (quietBench) Order(context.Context, protocol.Order) (protocol.Receipt, error) {
	return protocol.Receipt{}, nil
}

func (quietBench) Reports(ctx context.Context) ([]protocol.Report, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}
func (quietBench) Acknowledge(context.Context, int64) error { return nil }
func (quietBench) Resend(context.Context, int64) error      { return nil }
func (quietBench) Progress(context.Context) (<-chan protocol.Progress, error) {
	return nil, nil //nolint:nilnil // nobody tells anything
}

// What the use cases tell of the made-up shop's drives, from eighteen months of records: testdata/records.txt.
func TestWhatIsToldOfTheDrives(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // where it is always the same day
		ctx, dir := t.Context(), t.TempDir()
		d, err := New(dir, 0)
		require.NoError(t, err)
		st, err := store.Open(ctx, filepath.Join(dir, "shop.db"))
		require.NoError(t, err)
		defer func() { require.NoError(t, st.Close()) }()
		require.NoError(t, d.Seed(ctx, st))
		benches, err := fleet.New(slog.New(slog.DiscardHandler), quietBench{}.Describe())
		require.NoError(t, err)
		require.NoError(t, benches.Join(ctx, st, quietBench{}, false))
		s, err := whole.New(ctx, "Saltmarsh Lane", st.Storage(), benches, policy.Default, d.clock, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		defer s.Wait()

		b := vector.Open(t, "records.txt")
		for _, serial := range []string{
			"KVA077M4Q2", "KVA077M511", "KVA077M55B", "KVA077M58V", "BWN11Q7E30", "BWS03C44G9", "OSS0419Z4K", "OSS041A002", "T5A07",
		} {
			one, err := s.FindDrive(ctx, serial)
			require.NoError(t, err)
			b.Head(one.Identity.Serial)
			b.Line("now %s", vector.Say(one.Now))
			v, err := s.Verdict(ctx, one)
			require.NoError(t, err)
			b.Line("%s of reading %d", v.Grade, v.Reading)
			for _, f := range v.Findings {
				b.Line("  %s | %s | %s", f.Sentence, f.Detail, f.Customer)
			}
			for _, f := range v.Notes {
				b.Line("  note %s | %s", f.Sentence, f.Detail)
			}
			for _, m := range v.Missing {
				b.Line("  missing %s", vector.Say(m))
			}
			b.Line("  advice %s, duties %s, risk %s", vector.Say(v.Advice), vector.Say(v.Duties), vector.Say(v.Risk))
			courses, moments, err := s.Courses(ctx, one)
			require.NoError(t, err)
			b.Line("%d readings", len(moments))
			for _, c := range courses {
				name := c.Definition.Name
				c.Definition = signal.Definition{} // it holds functions
				c.Hours, c.Seqs = nil, nil         // the same for each
				b.Line("  course of %s: %s", name, vector.Say(c))
			}
			compared, err := s.Compare(ctx, one, 0, 0)
			require.NoError(t, err)
			b.Line("reading %d beside %d", compared.Now.Seq, compared.Then.Seq)
			for _, r := range compared.Rows {
				name := r.Definition.Name
				r.Definition = signal.Definition{}
				b.Line("  %s: %s", name, vector.Say(r))
			}
			history, err := s.History(ctx, one)
			require.NoError(t, err)
			for _, e := range history {
				b.Line("  %s %.0f h %s: %s", e.At.Format("2006-01-02"), e.Hours, e.Kind, e.Says)
			}
			siblings, err := s.Siblings(ctx, one)
			require.NoError(t, err)
			b.Line("siblings %s", vector.Say(siblings))
		}
		lots, err := s.Lots(ctx)
		require.NoError(t, err)
		for _, l := range lots {
			b.Head("lot")
			view, err := s.LotByID(ctx, l.ID)
			require.NoError(t, err)
			b.Line("%s", vector.Say(view.Lot))
			for _, row := range view.Drives {
				serial := "one that has not named itself"
				if row.Drive != nil {
					serial = row.Drive.Identity.Serial
				}
				b.Line("  %s %s apart %s next %s, duties %s", serial, row.Grade, vector.Say(row.Apart), row.Next, vector.Say(row.Duties))
			}
			b.Line("count %s, usable %s", vector.Say(view.Count), vector.Say(view.Usable))
		}
		b.Head("a stricter policy over all of it")
		dov := shop.Actor{Name: "Dov", Role: access.Lead, Via: access.OpenShop}
		stricter := strings.Replace(string(policy.Default), "bad_sectors: {all: 100", "bad_sectors: {all: 1", 1)
		require.NotEqual(t, string(policy.Default), stricter)
		replayed, err := s.Replay(ctx, dov, []byte(stricter))
		require.NoError(t, err)
		b.Line("%s", vector.Say(replayed))
		b.Close()
	})
}
