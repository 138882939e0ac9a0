package handover

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/visible"
)

// gradesInOrder is how a summary counts them.
var gradesInOrder = []drive.Grade{drive.Healthy, drive.Degrading, drive.Replace, drive.Undecided}

// lotColumns are the signals a lot's table has, where any drive of it tells them.
var lotColumns = []signal.Name{
	signal.PowerOnHours,
	signal.Reallocated,
	signal.Pending,
	signal.GrownDefects,
	signal.MediaErrors,
	signal.UnreadableFound,
	signal.SlowFound,
	signal.PercentageUsed,
	signal.TemperatureHighest,
}

// LotCSV writes a lot's drives as a table (RFC 4180). Cells that a spreadsheet would take for a formula begin with an apostrophe.
func LotCSV(w io.Writer, v desk.LotView) error {
	c := csv.NewWriter(w)
	head := []string{"intake", "serial", "model", "bytes", "verdict", "judged", "signed by", "tightest margin"}
	for _, d := range drive.Duties() {
		head = append(head, "for "+string(d))
	}
	for _, n := range lotColumns {
		def, _ := signal.Lookup(n)
		head = append(head, def.Heading())
	}
	head = append(head, "outer speed B/s", "apart from siblings", "next", "goes", "data")
	if err := c.Write(head); err != nil {
		return err
	}
	for _, d := range v.Drives {
		row := []string{fmt.Sprint(d.Intake.ID), "", "", "", d.Grade.String(), "", "", ""}
		if d.Drive != nil {
			row = []string{
				fmt.Sprint(d.Intake.ID),
				d.Drive.Identity.Serial,
				d.Drive.Identity.Model,
				fmt.Sprint(d.Drive.Identity.Bytes),
				d.Grade.String(),
				d.Drive.Now.Grade.String(),
				"",
				d.Drive.Now.Margin,
			}
			if s := d.Drive.Now.Signed; s != nil {
				row[6] = s.By
			}
		}
		for _, duty := range drive.Duties() {
			fitness := "not judged"
			for _, f := range d.Duties {
				if f.Duty == duty && f.Fitness != "" {
					fitness = string(f.Fitness)
				}
			}
			row = append(row, fitness)
		}
		for _, n := range lotColumns {
			row = append(row, optionalNumber(d.Values, n))
		}
		speed := ""
		if d.Speed > 0 {
			speed = strconv.FormatFloat(d.Speed, 'f', 0, 64)
		}
		goes, data := "", ""
		if h := d.Intake.Handover; h != nil {
			goes, data = string(h.Goes), string(h.Data)
		}
		row = append(row, speed, strings.Join(d.Apart, "; "), d.Next.String(), goes, data)
		for i := range row {
			row[i] = harmless(row[i])
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

func optionalNumber(values signal.Values, n signal.Name) string {
	if x, ok := values.Get(n); ok {
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return ""
}

// harmless keeps a text that a drive or a person gave from being run by whoever opens the table: as a formula, or after a break that
// some programs pass over.
func harmless(s string) string {
	if first, _ := utf8.DecodeRuneInString(s); s != "" && strings.ContainsRune("=+-@\t\r\n＝＋－＠", first) {
		return "'" + visible.Text(s)
	}
	return visible.Text(s)
}

// LotPDF draws the summary of a lot: how many of each, what share does for which duty, and every drive.
func LotPDF(w io.Writer, name string, v desk.LotView, policy int, at time.Time) error {
	f := newPaper(fmt.Sprintf("Lot %d", v.ID), pageWidth, pageHeight, at)
	lotPages(name, v, policy, at, paperPen{Fpdf: f}, f.AddPage)
	return f.Output(w)
}

// lotPages draws the summary with a pen, and tells how many pages it took.
func lotPages(name string, v desk.LotView, policy int, at time.Time, with pen, newPage func()) int {
	l := &lotPage{page: page{with, 0, 1}, name: name, view: v, at: at}
	l.columns()
	pages := 1
	for room := l.rowsOnFirst(); room < len(v.Drives); room += l.rowsOnNext() {
		pages++
	}
	next := 0
	for n := range pages {
		newPage()
		l.head(n+1, pages)
		room := l.rowsOnNext()
		if n == 0 {
			l.summary(policy)
			room = l.rowsOnFirst()
		}
		l.tableHead()
		for ; next < len(v.Drives) && room > 0; next, room = next+1, room-1 {
			l.row(v.Drives[next])
		}
	}
	return pages
}

type lotPage struct {
	page
	name string
	view desk.LotView
	at   time.Time
	cols []lotColumn
}

type lotColumn struct {
	title string
	x, w  float64
	right bool
	value func(desk.LotDrive) string
}

const (
	lotRow      = 5.6
	lotTableTop = 112.0 // on the first page
	lotNextTop  = 34.0
	lotBottom   = pageHeight - 16.0
)

func (l *lotPage) rowsOnFirst() int { return int(math.Floor((lotBottom - lotTableTop - 7) / lotRow)) }

func (l *lotPage) rowsOnNext() int { return int(math.Floor((lotBottom - lotNextTop - 7) / lotRow)) }

// columns chooses the table's columns: of the signals, at most three that a drive of the lot tells.
func (l *lotPage) columns() {
	l.cols = []lotColumn{
		{"intake", 0, 12, false, func(d desk.LotDrive) string { return fmt.Sprint(d.Intake.ID) }},
		{"drive", 0, 29, false, func(d desk.LotDrive) string {
			if d.Drive == nil {
				return "no answer"
			}
			return d.Drive.Identity.Serial
		}},
		{"verdict", 0, 23, false, func(d desk.LotDrive) string { return d.Grade.String() }},
	}
	const signals = 3
	for _, n := range lotColumns {
		def, _ := signal.Lookup(n)
		told := false
		for _, d := range l.view.Drives {
			_, ok := d.Values.Get(n)
			told = told || ok
		}
		if told && len(l.cols) < 3+signals {
			l.cols = append(l.cols, lotColumn{short(def), 0, 18, true, func(d desk.LotDrive) string {
				if x, ok := d.Values.Get(n); ok {
					return wording.Number(x)
				}
				return "not read"
			}})
		}
	}
	l.cols = append(l.cols, lotColumn{"apart from siblings, or next", 0, 0, false, func(d desk.LotDrive) string {
		if len(d.Apart) > 0 {
			return strings.Join(d.Apart, "; ")
		}
		return d.Next.String()
	}})
	x := sideMargin
	for i := range l.cols {
		l.cols[i].x = x
		if i == len(l.cols)-1 {
			l.cols[i].w = sideMargin + fullWidth - x
		}
		x += l.cols[i].w
	}
}

// heads are the names of signals that are too long for the head of a narrow column.
var heads = map[signal.Name]string{
	signal.PowerOnHours:       "hours",
	signal.Reallocated:        "reallocated",
	signal.Pending:            "pending",
	signal.GrownDefects:       "grown",
	signal.UnreadableFound:    "unreadable",
	signal.SlowFound:          "slow",
	signal.TemperatureHighest: "hottest, °C",
}

// short is a signal's name for the head of a narrow column.
func short(def signal.Definition) string {
	if head := heads[def.Name]; head != "" {
		return head
	}
	return def.Words
}

func (l *lotPage) head(n, of int) {
	const right = pageWidth - sideMargin
	l.write(sideMargin, 24, 17, true, fit(l, 17, true, l.name, fullWidth-70))
	for i, words := range []string{fmt.Sprintf("Lot %d, page %d of %d", l.view.ID, n, of), wording.English.Day(l.at)} {
		l.write(right-l.width(9, false, words), 20.5+float64(i)*4.5, 9, false, words)
	}
	l.y = 27
	l.rule(sideMargin, fullWidth, 0.5)
}

func (l *lotPage) summary(policy int) {
	v := l.view
	l.y = 31
	facts := []string{fmt.Sprintf("%d drives", len(v.Drives))}
	if v.Expected > 0 {
		facts[0] = fmt.Sprintf("%d of %d drives", len(v.Drives), v.Expected)
	}
	if v.Customer != "" {
		facts = append(facts, v.Customer)
	}
	if v.Reference != "" {
		facts = append(facts, v.Reference)
	}
	if v.Ticket != "" {
		facts = append(facts, "ticket "+v.Ticket)
	}
	facts = append(
		facts, "taken in from "+wording.English.Day(v.At), "for "+wording.Say(wording.Code("paper.use."+v.Duty)).String(),
		fmt.Sprintf("judged by our policy %d", policy),
	)
	lines := wrap(l, 10.5, false, strings.Join(facts, " · "), fullWidth)
	for _, line := range lines[:min(2, len(lines))] {
		l.y += 5
		l.write(sideMargin, l.y, 10.5, false, line)
	}
	l.y = 44
	half := (fullWidth - columnGap) / 2
	l.section(sideMargin, half, "How many of each")
	for _, g := range gradesInOrder {
		l.y += 8.5
		drawMark(l, g, sideMargin, l.y-5.2, 6)
		number := fmt.Sprint(v.Count[g])
		l.write(sideMargin+22-l.width(15, true, number), l.y, 15, true, number)
		l.write(sideMargin+26, l.y, 12, false, g.String())
	}
	l.y = 44
	x := sideMargin + half + columnGap
	l.section(x, half, "Usable, by duty")
	for _, u := range v.Usable {
		l.y += 8.5
		l.write(x, l.y, 10.5, false, fit(l, 10.5, false, wording.Say(wording.Code("paper.use."+u.Duty)).String(), 30))
		const bar = 20.0
		l.box(x+31, l.y-3, bar, 0.2)
		l.box(x+31, l.y, bar, 0.2)
		l.box(x+31, l.y-3, 0.2, 3.2)
		l.box(x+31+bar-0.2, l.y-3, 0.2, 3.2)
		if u.Of > 0 {
			l.box(x+31, l.y-3, bar*float64(u.Does)/float64(u.Of), 3.2)
		}
		l.write(x+31+bar+2, l.y, 10.5, true, usable(u))
	}
	l.y += 7
	l.write(x, l.y, 8.5, false, "Undecided is not usable. Behind the +: with care.")
}

// usable says how many of a lot do for a duty.
func usable(u desk.Usable) string {
	if u.Of == 0 {
		return "none"
	}
	s := fmt.Sprintf("%d of %d, %.0f %%", u.Does, u.Of, 100*float64(u.Does)/float64(u.Of))
	if u.Care > 0 {
		s += fmt.Sprintf(" +%d", u.Care)
	}
	return s
}

func (l *lotPage) tableHead() {
	top := lotNextTop
	if l.y > lotNextTop {
		top = lotTableTop
	}
	l.y = top
	l.rule(sideMargin, fullWidth, 0.5)
	l.y += 5
	for _, c := range l.cols {
		l.cell(c, c.title, 8.5, false)
	}
	l.y += 2
	l.rule(sideMargin, fullWidth, 0.2)
}

func (l *lotPage) row(d desk.LotDrive) {
	l.y += lotRow - 1.6
	for i, c := range l.cols {
		words := c.value(d)
		if c.title == "verdict" {
			drawMark(l, d.Grade, c.x, l.y-3, 3.6)
			l.write(c.x+5, l.y, 9, true, words)
			continue
		}
		size := 9.0
		if i == len(l.cols)-1 {
			size = 8
		}
		l.cell(c, words, size, i == 1)
	}
	l.y += 1.6
	l.rule(sideMargin, fullWidth, 0.1)
}

func (l *lotPage) cell(c lotColumn, words string, size float64, bold bool) {
	words = fit(l, size, bold, words, c.w-2)
	x := c.x
	if c.right {
		x += c.w - 3 - l.width(size, bold, words)
	}
	l.write(x, l.y, size, bold, words)
}
