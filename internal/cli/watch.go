package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"golang.org/x/term"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
)

// watchPace bounds how often a bench that is watched is asked how it stands.
const watchPace = 500 * time.Millisecond

// What a terminal is told to show a page that stays: another screen, the cursor hidden; and to go back.
const (
	screenOn   = "\x1b[?1049h\x1b[?25l"
	screenOff  = "\x1b[?25h\x1b[?1049l"
	screenHome = "\x1b[H"
	clearLine  = "\x1b[K"
	clearRest  = "\x1b[J"
)

// watchBays shows all bays as they stand, until Ctrl-C: on a terminal a page that is drawn anew, elsewhere a line for each change.
func watchBays(ctx context.Context, c call) error {
	show := c.tellChanges()
	if c.drawsPages() {
		show = c.drawPage
	}
	return c.keepShowing(ctx, "The bench goes on. See it again: hylostat bay watch", nil, func(ctx context.Context) error {
		benches, err := c.benches(ctx)
		if err != nil {
			return err
		}
		all, err := c.Bays(ctx)
		if err != nil {
			return err
		}
		return show(benches, all)
	})
}

// drawsPages reports whether what is kept showing is a page of a terminal.
func (c call) drawsPages() bool { return terminal(c.out) && !c.Bool("json") }

// keepShowing shows something anew whenever anything happens, until Ctrl-C. hear, where it is given, hears of each thing that does.
func (c call) keepShowing(ctx context.Context, again string, hear func(contract.Event), show func(context.Context) error) error {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	events := c.Events(ctx, -1)
	if c.drawsPages() {
		screen := raw(c.out)
		_, _ = io.WriteString(screen, screenOn)
		defer func() { _, _ = io.WriteString(screen, screenOff) }()
	}
	heard := func(e contract.Event, open bool) bool {
		if open && hear != nil {
			hear(e)
		}
		return open
	}
	for {
		err := show(ctx)
		if ctx.Err() != nil {
			return &interrupted{again}
		}
		if err != nil {
			return err
		}
		quiet := time.After(watchPace)
		select { // times to go run down even when nothing happens
		case <-ctx.Done():
		case <-time.After(10 * time.Second):
		case e, open := <-events.Next:
			if !heard(e, open) && ctx.Err() == nil {
				return events.Err()
			}
		}
		for waiting := true; waiting; { // what comes meanwhile is shown together
			select {
			case <-quiet:
				waiting = false
			case e, open := <-events.Next:
				waiting = heard(e, open)
			}
		}
	}
}

// drawPage draws the bays over what was there, as many as there is room for.
func (c call) drawPage(benches []contract.Bench, all []contract.Bay) error {
	going := 0
	for i := range all {
		if all[i].Run != nil {
			going++
		}
	}
	return c.draw(counted(going, "run goes on", "runs go on"), func(w io.Writer) { c.printBenches(w, benches, all) })
}

// draw draws what is printed over what was there, as many lines as there is room for.
func (c call) draw(foot string, printed func(w io.Writer)) error {
	screen, _ := raw(c.out).(*os.File)
	_, high, err := term.GetSize(int(screen.Fd()))
	if err != nil {
		return fmt.Errorf("the size of the terminal: %w", err)
	}
	var page bytes.Buffer
	printed(&plain{Writer: &sized{&page, screen}}) // what drives say of themselves is made visible
	lines := strings.Split(strings.TrimRight(page.String(), "\n"), "\n")
	if room := max(1, high-2); high > 0 && len(lines) > room { // a terminal may not know how high it is
		lines = append(lines[:room-1], fmt.Sprintf("... and %s", counted(len(lines)-room+1, "line more", "lines more")))
	}
	foot = fmt.Sprintf("%s, %s. Ctrl-C leaves.", time.Now().Format("15:04:05"), foot)
	var out strings.Builder
	out.WriteString(screenHome)
	for _, l := range append(lines, "", foot) {
		out.WriteString(l + clearLine + "\n")
	}
	_, err = io.WriteString(screen, strings.TrimSuffix(out.String(), "\n")+clearRest)
	return err
}

// tellChanges gives what prints a line for each bay of which something changed, or with --json the bay.
func (c call) tellChanges() func([]contract.Bench, []contract.Bay) error {
	known := map[contract.BayName]string{}
	return func(_ []contract.Bench, all []contract.Bay) error {
		for i := range all {
			b := &all[i]
			name, answer := occupant(b)
			line := fmt.Sprintf("%s  %s: %s  %s  next: %s", b.Name.Words(), name, doingOf(b, false), answer, b.Next)
			if known[b.Name] == line || optional(b.Hidden) {
				continue
			}
			known[b.Name] = line
			if err := c.show(b, func(w io.Writer) { _, _ = fmt.Fprintln(w, line) }); err != nil {
				return err
			}
		}
		return nil
	}
}

// sized writes elsewhere than to the terminal whose width it has.
type sized struct {
	io.Writer
	screen *os.File
}

// occupant names what is in a bay, and gives its verdict.
func occupant(b *contract.Bay) (name, answer string) {
	switch {
	case b.Drive != nil:
		return wording.Serial(b.Drive.Serial), grade(b.Drive.Grade)
	case b.Intake != nil:
		return fmt.Sprintf("intake %d", b.Intake.Id), grade(contract.GradeUndecided)
	case b.Attached != nil:
		return attachedName(*b.Attached), grade(contract.GradeUndecided)
	case b.Connection != "empty":
		return "no name", grade(contract.GradeUndecided)
	}
	return "empty", ""
}

// doingOf is what goes on in a bay; of a run, how far it is when so wanted.
func doingOf(b *contract.Bay, progress bool) string {
	switch {
	case b.Run == nil:
		return b.Doing.Words
	case !progress:
		return b.Run.Standing.Words
	}
	return fmt.Sprintf("%s, %d %%, %s left", b.Run.Standing, b.Run.Percent, left(b.Run.LeftS))
}
