package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os/signal"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

// followed is one of the runs that followAll shows.
type followed struct {
	shown atomic.Pointer[contract.Run] // its bar draws itself when it likes
	bar   *mpb.Bar
	last  string // line printed, where there is no terminal
}

// interrupted is somebody's Ctrl-C.
type interrupted struct{ goesOn string }

func (i *interrupted) Error() string { return i.goesOn }

// followAll shows runs until none is under way: those that are named, else all; a bar for each on a terminal, a line for each change
// elsewhere, with --json each run as it ended. The error is a notPassed when one that was named ended otherwise.
func (c call) followAll(ctx context.Context, only ...int64) error {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT)
	defer stop()
	listening, quit := context.WithCancel(ctx)
	defer quit()
	events := c.Events(listening, -1)
	open, limit := true, 1000
	var bars *mpb.Progress
	if terminal(c.out) && !c.Bool("json") {
		bars = mpb.New(mpb.WithOutput(raw(c.out)), mpb.WithWidth(32))
	}
	known := map[int64]*followed{}
	for _, id := range only { // one that has ended since is told, too
		known[id] = &followed{}
	}
	var failed []string
	for {
		all, err := c.Runs(ctx, contract.ListRunsParams{Open: &open, Limit: &limit})
		if err != nil && ctx.Err() == nil {
			return err
		}
		if ctx.Err() != nil {
			break
		}
		if len(only) > 0 {
			all = slices.DeleteFunc(all, func(r contract.Run) bool { return !slices.Contains(only, r.Id) })
		} else if len(all) == 0 && len(known) == 0 && !c.Bool("json") {
			_, _ = fmt.Fprintln(c.out, "No run is under way. Start one: hylostat check quick DRIVE")
		}
		still := map[int64]bool{}
		for i := range all {
			still[all[i].Id] = true
			c.tellOne(known, bars, &all[i])
		}
		for id, f := range known {
			if still[id] {
				continue
			}
			delete(known, id)
			r, err := c.Client.Run(ctx, id)
			if err != nil {
				continue // told by the next command that asks
			}
			if f.bar != nil {
				f.bar.Abort(true)
			}
			line := fmt.Sprintf("run %d  %s, %s: %s", id, wording.Serial(r.Serial), r.Bay.Words(), r.Standing)
			if len(only) > 0 && (r.Outcome == nil || *r.Outcome != contract.RunOutcomePassed) {
				failed = append(failed, fmt.Sprintf("run %d: %s", id, r.Standing))
			}
			var came bytes.Buffer
			_, _ = fmt.Fprintln(&came, line)
			printEnd(&came, r)
			switch {
			case c.Bool("json"):
				if err := c.show(r, func(io.Writer) {}); err != nil {
					return err
				}
			case bars != nil:
				_, _ = came.WriteTo(bars) // above the bars
			default:
				_, _ = came.WriteTo(c.out)
			}
		}
		if len(all) == 0 {
			if bars != nil {
				bars.Wait()
			}
			if len(failed) > 0 {
				return &notPassed{strings.Join(failed, "; ")}
			}
			return nil
		}
		select {
		case <-ctx.Done():
		case _, open := <-events.Next:
			if !open && ctx.Err() == nil {
				return events.Err()
			}
		}
	}
	for _, f := range known {
		if f.bar != nil {
			f.bar.Abort(false)
		}
	}
	return &interrupted{counted(len(known), "run goes on", "runs go on") + ". Follow again: hylostat run follow"}
}

// tellOne shows how a run stands.
func (c call) tellOne(known map[int64]*followed, bars *mpb.Progress, r *contract.Run) {
	f := known[r.Id]
	if f == nil {
		f = &followed{}
		known[r.Id] = f
	}
	first := f.shown.Swap(r) == nil
	if c.Bool("json") {
		return
	}
	if bars == nil {
		if line := fmt.Sprintf("run %d  %s, %s: %s", r.Id, wording.Serial(r.Serial), r.Bay.Words(), r.Standing); line != f.last {
			_, _ = fmt.Fprintln(c.out, line)
			f.last = line
		}
		return
	}
	if first {
		f.bar = bars.New(100, mpb.BarStyle().Lbound("[").Filler("#").Tip("#").Padding(" ").Rbound("]"), mpb.BarPriority(r.Bay.Number),
			mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
				now := f.shown.Load()
				return fmt.Sprintf("%2s  %-14s %-34s", now.Bay.Short(), wording.Serial(now.Serial), clip(now.Standing.Words, 34))
			})),
			mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
				now := f.shown.Load()
				return fmt.Sprintf(" %3d %%, %s left", now.Percent, left(now.LeftS))
			})))
	}
	f.bar.SetCurrent(int64(min(99, r.Percent)))
}

// clip shortens a text to so many characters.
func clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}
