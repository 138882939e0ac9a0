package handover

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/wording"
)

// The statement's page, in millimetres.
const (
	sideMargin = 20.0
	topMargin  = 16.0
	footAt     = pageHeight - 14.0
	columnGap  = 6.5
	fullWidth  = pageWidth - 2*sideMargin
)

// page draws from top to bottom.
type page struct {
	pen
	y     float64
	scale float64 // of type and gaps
}

func (p *page) size(points float64) float64 { return points * p.scale }

func (p *page) lead(points float64) float64 { return points * p.scale * 1.42 / pointsPerMM }

// paragraph writes a text into a column and moves down.
func (p *page) paragraph(x, width, points float64, bold bool, words string) {
	for _, line := range wrap(p, p.size(points), bold, words, width) {
		p.y += p.lead(points)
		p.write(x, p.y-p.lead(points)*0.28, p.size(points), bold, line)
	}
}

func (p *page) rule(x, width, thick float64) { p.box(x, p.y, width, thick) }

// list writes numbered items.
func (p *page) list(x, width float64, items []string) {
	for i, item := range items {
		p.y += 1 * p.scale
		top := p.y
		p.paragraph(x+6, width-6, 10.5, false, item)
		bottom := p.y
		p.y = top + p.lead(10.5)
		p.write(x, p.y-p.lead(10.5)*0.28, p.size(10.5), true, fmt.Sprint(i+1))
		p.y = bottom
	}
}

func (p *page) section(x, width float64, title string) {
	p.y += 4 * p.scale
	p.rule(x, width, 0.25)
	p.y += 1.5 * p.scale
	p.paragraph(x, width, 13, true, title)
}

// columns draws two columns beside each other and goes on below the longer one.
func (p *page) columns(left, right func(x, width float64)) {
	width := (fullWidth - columnGap) / 2
	top := p.y
	left(sideMargin, width)
	bottom := p.y
	p.y = top
	right(sideMargin+width+columnGap, width)
	p.y = max(p.y, bottom)
}

// smallest is how far the statement is shrunk to stay on one page; below that nobody reads it.
const smallest = 0.62

// StatementPDF draws the statement on one page of A4. Long statements are set smaller; what does not fit even then is cut short in
// the reasons, and the page says how many there are.
func StatementPDF(w io.Writer, s Statement, at time.Time) error {
	var f *fpdf.Fpdf
	err := onOnePage(s, func() pen {
		f = newPaper(s.Head("title"), pageWidth, pageHeight, at)
		f.AddPage()
		return paperPen{Fpdf: f}
	})
	if err != nil {
		return err
	}
	return f.Output(w)
}

// onOnePage draws a statement with ever new pens until it fits.
func onOnePage(s Statement, fresh func() pen) error {
	scale := 1.0
	drawn := func() float64 {
		p := &page{fresh(), topMargin, scale}
		p.statement(s)
		return p.y
	}
	end := drawn()
	for ; end > footAt && scale > smallest; end = drawn() {
		scale -= 0.04
	}
	why, do := s.Why, s.Do
	for n := max(len(why), len(do)) - 1; end > footAt && n > 0; n-- {
		s.Why, s.Do = first(why, n, s.Language), first(do, n, s.Language)
		end = drawn()
	}
	if end > footAt {
		return fmt.Errorf("the statement %s does not fit on a page", s.Number)
	}
	return nil
}

// first is the first n of a list, and how many more there are.
func first(all []string, n int, l wording.Language) []string {
	if n >= len(all) {
		return all
	}
	return append(append([]string(nil), all[:n]...), wording.Say(wording.PaperMore, wording.Values{"n": len(all) - n}).In(l))
}

// signSpace is what the lines to sign on take.
const signSpace = 30.0

func (p *page) statement(s Statement) {
	const right = pageWidth - sideMargin
	flush := func(y, points float64, words string) {
		p.write(right-p.width(p.size(points), false, words), y, p.size(points), false, words)
	}
	head := p.lead(17)
	p.write(sideMargin, p.y+head*0.75, p.size(17), true, fit(p, p.size(17), true, s.Shop, fullWidth-60))
	flush(p.y+head*0.35, 9, s.Head("title"))
	flush(p.y+head*0.95, 9, s.Date)
	p.y += head + 2
	p.rule(sideMargin, fullWidth, 0.5)
	p.y += 6 * p.scale

	mark := 17 * p.scale
	top := p.y
	drawMark(p, s.Grade, sideMargin, p.y, mark)
	p.paragraph(sideMargin+mark+5, fullWidth-mark-5, 26, true, s.Title)
	p.paragraph(sideMargin+mark+5, fullWidth-mark-5, 12.5, false, s.Answer)
	p.y = max(p.y, top+mark) + 4*p.scale

	p.uses(s)
	p.columns(func(x, width float64) {
		p.section(x, width, s.Head("why"))
		p.list(x, width, s.Why)
	}, func(x, width float64) {
		p.section(x, width, s.Head("do"))
		p.list(x, width, s.Do)
	})
	p.columns(func(x, width float64) {
		p.section(x, width, s.Head("checked"))
		p.paragraph(x, width, 10.5, false, strings.Join(s.Checked, " "))
	}, func(x, width float64) {
		p.section(x, width, s.Head("not_checked"))
		p.paragraph(x, width, 10.5, false, strings.Join(s.NotChecked, " "))
	})
	p.section(sideMargin, fullWidth, s.Head("data"))
	p.paragraph(sideMargin, fullWidth, 10.5, false, s.Data)
	p.particulars(s.Facts)
	p.y += 4 * p.scale
	end := p.y + signSpace*p.scale

	// What is signed stands at the foot of the page.
	y := max(p.y+6*p.scale, footAt-signSpace*p.scale+4)
	third := (fullWidth - 2*columnGap) / 3
	signed := wrap(p, p.size(10.5), true, s.Signature, third)
	if len(signed) > 2 {
		signed = []string{signed[0], fit(p, p.size(10.5), true, signed[1]+" "+signed[2], third)}
	}
	for i, words := range []string{s.sign("decision"), s.sign("name"), s.sign("date")} {
		x := sideMargin + float64(i)*(third+columnGap)
		p.box(x, y, third, 0.25)
		p.write(x, y+float64(len(signed))*p.lead(10.5)+p.lead(9)+0.5, p.size(9), false, words)
	}
	for n, line := range signed {
		p.write(sideMargin, y+(1+float64(n))*p.lead(10.5), p.size(10.5), true, line)
	}
	foot := max(end, footAt)
	p.write(sideMargin, foot, p.size(9), false, fit(p, p.size(9), false, s.Foot, fullWidth-66))
	flush(foot, 9, strings.TrimSpace("Hylostat  "+s.Audit))
	p.y = end
}

// uses draws the three boxes: what it does for, with care for, and what not.
func (p *page) uses(s Statement) {
	type use struct {
		title string
		words []string
	}
	var all []use
	for _, u := range []use{{s.Head("does"), s.Does}, {s.Head("care"), s.Care}, {s.Head("not_for"), s.NotFor}} {
		if len(u.words) > 0 {
			all = append(all, u)
		}
	}
	if len(all) == 0 {
		all = []use{{s.Head("unjudged"), []string{s.Head("no_use")}}}
	}
	width := fullWidth / float64(len(all))
	top, bottom := p.y, p.y
	for i, u := range all {
		p.y = top + 2*p.scale
		x := sideMargin + float64(i)*width + 3
		p.paragraph(x, width-6, 9, false, u.title)
		p.paragraph(x, width-6, 13, true, strings.Join(u.words, ", "))
		bottom = max(bottom, p.y+2.5*p.scale)
	}
	const thick = 0.5
	for i := range len(all) + 1 {
		x, t := sideMargin+float64(i)*width, 0.25
		if i == 0 || i == len(all) {
			t = thick
			if i > 0 {
				x -= thick
			}
		}
		p.box(x, top, t, bottom-top)
	}
	p.box(sideMargin, top, fullWidth, thick)
	p.box(sideMargin, bottom-thick, fullWidth, thick)
	p.y = bottom
}

// particulars are a table of two names and values a row.
func (p *page) particulars(all []Particular) {
	p.y += 4 * p.scale
	half := fullWidth / 2
	const name = 25.0
	for i := 0; i < len(all); i += 2 {
		p.rule(sideMargin, fullWidth, 0.15)
		top, bottom := p.y, p.y
		for j, one := range all[i:min(i+2, len(all))] {
			p.y = top + 0.7*p.scale
			x := sideMargin + float64(j)*half
			p.write(x, p.y+p.lead(9)*0.72, p.size(9), false, one.Name)
			p.paragraph(x+name, half-name-3, 9, true, one.Value)
			bottom = max(bottom, p.y+0.7*p.scale)
		}
		p.y = bottom
	}
	p.rule(sideMargin, fullWidth, 0.15)
}

//go:embed statement.html
var statementPage string

var statementTemplate = template.Must(template.New("statement").Funcs(template.FuncMap{
	"join": strings.Join,
	"head": Statement.Head,
	"sign": Statement.sign,
	"mark": func(g drive.Grade) template.HTMLAttr {
		return template.HTMLAttr(`d="` + marks[g] + `"`) //nolint:gosec // one of four constants
	},
}).Parse(statementPage))

// marks are the grades' shapes in a box of 24 x 24.
var marks = map[drive.Grade]string{
	drive.Healthy: "M8 2H16V22H8Z", drive.Degrading: "M15 2H22L9 22H2Z", drive.Replace: "M3 2H11V14L3 9Z M13 10L21 15V22H13Z",
	drive.Undecided: "M12 1a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z M12 9a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z M12 17a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z",
}

// StatementHTML writes the statement as one page that needs nothing else, in any script the reader's machine has letters for.
func StatementHTML(w io.Writer, s Statement) error { return statementTemplate.Execute(w, s) }

// Head is a heading of the statement: title, does, care, not_for, why, do, checked, not_checked, data.
func (s Statement) Head(name string) string {
	if name == "title" {
		return wording.Say(wording.PaperTitle, wording.Values{"number": s.Number}).In(s.Language)
	}
	return wording.Say(wording.Code("paper.head." + name)).In(s.Language)
}

// sign is what stands below a line to sign on.
func (s Statement) sign(name string) string {
	return wording.Say(wording.Code("paper.sign." + name)).In(s.Language)
}
