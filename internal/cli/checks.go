package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/visible"
)

func checkCommands() *cli.Command {
	check := func(name, usage, about string, more ...cli.Flag) *cli.Command {
		return &cli.Command{
			Name:        name,
			Usage:       usage,
			ArgsUsage:   "DRIVE ...",
			Description: about,
			Flags: append(
				more, despiteFlag(),
				followFlag(),
				&cli.BoolFlag{Name: "tell", Usage: "its end is an alert, told by the shop's routes"},
			),
			Action: action(1, many, startCheck),
		}
	}
	return &cli.Command{
		Name: "check", Usage: "diagnostic procedures", Category: "drives",
		Commands: []*cli.Command{
			check(
				"quick",
				"a reading, the drive's short self-test, a sample of its surface, a reading: minutes",
				"Says what it rules out and what it cannot. Followed, Ctrl-C leaves it running.\n\nExamples:\n   hylostat check "+
					"quick 7M4Q2 --follow\n   hylostat check quick 7M4Q2 7M511 bay-10",
				shareFlag(),
			),
			check(
				"extended",
				"a reading, the drive's extended self-test, a sweep of its whole surface, a reading: hours",
				"Goes on where it was after a restart, and when the drive comes back. Ends early when nothing can change the "+
					"verdict any more.\n\nExample:\n   hylostat check extended 7M4R9",
				shareFlag(),
			),
			check(
				"conveyance", "a reading, the drive's conveyance self-test, a reading: minutes",
				"Looks for damage on the way. SATA drives only, and not all of them.\n\nExample:\n   hylostat check conveyance 7M4Q2",
			),
			check(
				"selective",
				"a reading, the drive's self-test of some spans of its surface, a reading",
				"One to five spans of sectors. SATA drives only, and not all of them.\n\nExample:\n   hylostat check selective "+
					"7M4Q2 --span 205880000-205890000",
				&cli.StringSliceFlag{Name: "span", Usage: "sectors `FIRST-LAST`, both included", Required: true},
			),
		},
	}
}

func startCheck(ctx context.Context, c call) error {
	request := contract.CheckRequest{Kind: contract.CheckRequestKind(c.Name), By: c.by()}
	var spans []contract.Span
	for _, text := range c.StringSlice("span") {
		first, last, _ := strings.Cut(ungrouped(text), "-")
		from, wrong := strconv.ParseInt(first, 10, 64)
		to, alsoWrong := strconv.ParseInt(last, 10, 64)
		if wrong != nil || alsoWrong != nil || from < 0 || to < from {
			return &usage{fmt.Sprintf("%q is no span of sectors: FIRST-LAST", text)}
		}
		spans = append(spans, contract.Span{First: from, Last: to})
	}
	if spans != nil {
		request.Spans = &spans
	}
	if request.Share = given[int](c, "share"); request.Share != nil && (*request.Share < 1 || *request.Share > 100) {
		return &usage{fmt.Sprintf("a sweep can take 1 to 100 %% of a drive's time, not %d", *request.Share)}
	}
	if why := c.String("despite"); why != "" {
		request.Despite = &why
	}
	names := c.Args().Slice()
	if len(names) == 1 {
		r, err := c.check(ctx, names[0], request)
		if err != nil {
			return err
		}
		if c.Bool("follow") {
			return c.follow(ctx, r.Id)
		}
		return c.show(r, func(w io.Writer) { printStarted(w, r) })
	}
	return c.startChecks(ctx, names, request)
}

// check starts a check, and waits for its end where that is wished.
func (c call) check(ctx context.Context, name string, request contract.CheckRequest) (contract.Run, error) {
	r, err := c.Check(ctx, name, request)
	if err != nil || !c.Bool("tell") {
		return r, err
	}
	return c.AwaitRun(ctx, r.Id, contract.AwaitRequest{On: true, By: c.by()})
}

// many is how many drives a command takes that takes several.
const many = 1000

// startChecks starts a check of each of several drives: one that cannot start is told, and keeps no other from starting.
func (c call) startChecks(ctx context.Context, names []string, request contract.CheckRequest) error {
	var started []contract.Run
	var ids []int64
	var first error
	for _, name := range names {
		r, err := c.check(ctx, name, request)
		if err != nil {
			if first == nil {
				first = err
			}
			if !c.Bool("json") {
				_, _ = fmt.Fprintf(c.Root().ErrWriter, "%s: %s\n", visible.Text(name), visible.Text(err.Error()))
			}
			continue
		}
		started, ids = append(started, r), append(ids, r.Id)
		if !c.Bool("json") && !c.Bool("follow") {
			printStarted(c.out, r)
		}
	}
	if first != nil {
		first = &someFailed{fmt.Sprintf("%d of %d did not start", len(names)-len(started), len(names)), first}
	}
	if c.Bool("follow") && len(ids) > 0 {
		return errors.Join(first, c.followAll(ctx, ids...))
	}
	if c.Bool("json") {
		first = errors.Join(first, c.show(started, nil))
	}
	return first
}

// someFailed is that some of several did not come off; the first tells the exit code.
type someFailed struct {
	how   string
	first error
}

func (s *someFailed) Error() string { return s.how }

func (s *someFailed) Unwrap() error { return s.first }

func printStarted(w io.Writer, r contract.Run) {
	_, _ = fmt.Fprintf(
		w, "Run %d started: %s of %s in %s, about %s. Follow it: hylostat run follow %d\n", r.Id, strings.ToLower(r.Title),
		wording.Serial(r.Serial), r.Bay.Words(), left(r.LeftS), r.Id,
	)
}
