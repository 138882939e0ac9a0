package handover

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

// Particular is a name and a value of the statement's foot.
type Particular struct{ Name, Value string }

// Statement is what the page about a drive says to its owner, line by line, in one language. Page, PDF and API are all made of it.
type Statement struct {
	Language            wording.Language
	Shop, Number, Date  string
	Grade               drive.Grade
	Title, Answer       string
	Does, Care, NotFor  []string // duties in words
	Why, Do             []string
	Checked, NotChecked []string
	DataState           shop.DataState
	Data                string
	Facts               []Particular
	Signature           string
	Foot                string
	Audit               string // the head of the shop's audit when it was made
}

// writer puts a paper into words of one language.
type writer struct {
	desk.Paper
	language wording.Language
}

// say says a code in the paper's language.
func (w writer) say(c wording.Code, v ...wording.Values) string {
	return wording.Say(c, v...).In(w.language)
}

// word says a value by the code that the group and it make.
func (w writer) word(group, value string) string { return w.say(wording.Code(group + "." + value)) }

// day is a time as a value.
func day(t time.Time) string { return t.Format(time.RFC3339) }

// StatementOf puts a paper into words of a language; when that is not said, of its owner's.
func StatementOf(p desk.Paper, l wording.Language) Statement {
	w := writer{p, l.Or(p.Language)}
	l = w.language
	s := Statement{
		Language:   l,
		Shop:       p.Shop,
		Number:     w.number(),
		Date:       l.Day(p.At),
		Grade:      p.Grade,
		Title:      w.word("paper.grade", p.Grade.String()),
		Answer:     w.word("paper.answer", p.Grade.String()),
		DataState:  p.Data,
		Foot:       w.say(wording.PaperFoot),
		Audit:      p.Audit,
		Why:        w.reasons(),
		Do:         w.steps(),
		Checked:    w.checked(),
		NotChecked: w.notChecked(),
		Data:       w.data(),
		Signature:  w.signature(),
		Facts:      w.particulars(),
	}
	for _, f := range p.Fits {
		switch words := w.word("paper.use", string(f.Duty)); f.Fitness {
		case policy.Does:
			s.Does = append(s.Does, words)
		case policy.Care:
			s.Care = append(s.Care, words)
		case policy.Not:
			s.NotFor = append(s.NotFor, words)
		}
	}
	return s
}

// number is the statement's: that of the intake, of a drive without one its serial.
func (w writer) number() string {
	if w.Intake == nil {
		return w.Drive.Identity.Serial
	}
	return strconv.FormatInt(w.Intake.ID, 10)
}

// reasons are the findings in the owner's words, each with what was counted and the limit it is held against.
func (w writer) reasons() []string {
	var all []string
	if w.Verdict == nil {
		return []string{w.say(wording.PaperSilent)}
	}
	if sign := w.Verdict.Signed; sign != nil && sign.Grade != w.Verdict.Grade {
		all = append(
			all,
			w.say(wording.PaperOverruled, wording.Values{"grade": w.Verdict.Grade.String(), "by": sign.By, "why": sentence(sign.Reason)}),
		)
	}
	for _, f := range slices.Concat(w.Verdict.Findings, w.Verdict.Notes) {
		line := sentence(w.language.Policy(f.Customer))
		// A number stands where it is the reason: of a drive to be replaced only one that has passed its limit.
		if f.Margin != nil && f.Margin.Used > 0 && (w.Grade != drive.Replace || f.Margin.Used >= f.Margin.Of) {
			line += " " + w.say(wording.PaperCount, wording.Values{"n": f.Margin.Used, "of": f.Margin.Of})
		}
		all = append(all, line)
	}
	if w.Grade == drive.Undecided {
		for _, m := range w.Verdict.Missing {
			all = append(all, w.say(wording.PaperMissing, wording.Values{"what": sentence(w.language.Policy(m.What))}))
		}
	}
	if w.Volumes != nil {
		if _, damaged := w.Volumes.Damaged(); damaged {
			all = append(all, w.Volumes.Says.In(w.language))
		}
	}
	if len(all) == 0 {
		all = append(all, w.say(wording.PaperNoFault))
	}
	return all
}

// sentence ends a text with a full stop.
func sentence(s string) string {
	if s = strings.TrimSpace(s); s != "" && !strings.ContainsAny(s[len(s)-1:], ".!?") {
		s += "."
	}
	return s
}

func (w writer) steps() []string {
	var all []string
	if w.Verdict != nil {
		for _, advice := range w.Verdict.Advice {
			all = append(all, w.language.Policy(advice))
		}
	}
	if w.Volumes != nil && w.Grade == drive.Healthy {
		if _, damaged := w.Volumes.Damaged(); damaged { // that is where to look
			all = []string{w.say(wording.PaperRepair)}
		}
	}
	if w.Intake != nil && !w.Intake.CopiedAt.IsZero() && w.Grade != drive.Healthy {
		all = append(all, w.say(wording.PaperKeepCopy, wording.Values{"at": day(w.Intake.CopiedAt)}))
	}
	switch {
	case len(all) > 0:
	case w.Grade == drive.Healthy:
		all = append(all, w.say(wording.PaperElsewhere), w.say(wording.PaperCopyAlways))
	default:
		all = append(all, w.say(wording.PaperAskUs))
	}
	return all
}

func (w writer) checked() []string {
	var all []string
	if w.Counters > 0 {
		all = append(all, w.say(wording.PaperCounters, wording.Values{"n": w.Counters, "at": day(w.Latest.At)}))
	}
	seen := map[string]bool{}
	for _, t := range w.Tests {
		if (t.Passed || t.Failed) && !seen[t.Kind] {
			seen[t.Kind] = true
			code := wording.PaperTestPassed
			if t.Failed {
				code = wording.PaperTestFailed
			}
			all = append(all, w.say(code, wording.Values{"kind": t.Kind, "hours": t.Hours}))
		}
	}
	if one := w.Sweep; one != nil {
		g := one.Standing.Geometry
		switch {
		case one.ReadAll():
			all = append(all, w.say(wording.PaperReadAll, wording.Values{"bytes": g.Sectors * uint64(g.Logical)}))
		case one.Standing.Sample != nil:
			all = append(all, w.say(wording.PaperReadSample))
		default:
			all = append(all, w.say(wording.PaperReadShare, wording.Values{"share": one.Standing.Share}))
		}
	}
	if v := w.Volumes; v != nil {
		all = append(all, w.say(wording.PaperVolumes, wording.Values{"at": day(v.At)}))
	}
	if len(all) == 0 {
		all = append(all, w.say(wording.PaperNothing))
	}
	return all
}

func (w writer) notChecked() []string {
	var all []string
	if w.Sweep == nil {
		all = append(all, w.say(wording.PaperNotSwept))
	} else {
		if !w.Sweep.ReadAll() {
			all = append(all, w.say(wording.PaperNotAllSwept))
		}
		if held := w.Sweep.Standing.Held; held != nil && *held < 1 {
			all = append(all, w.say(wording.PaperEmptyCells, wording.Values{"share": *held}))
		}
	}
	if w.Counters == 0 {
		all = append(all, w.say(wording.PaperNoCounters))
	}
	if len(w.Without) > 0 {
		var names []string
		for _, n := range w.Without {
			names = append(names, w.word("paper.signal", string(n)))
		}
		all = append(all, w.say(wording.PaperWithout, wording.Values{"names": strings.Join(names, ", ")}))
	}
	if w.Interrupted > 0 {
		all = append(all, w.say(wording.PaperStopped, wording.Values{"n": w.Interrupted}))
	}
	if w.Volumes == nil {
		all = append(all, w.say(wording.PaperNoVolumes))
	}
	return append(all, w.say(wording.PaperNever))
}

func (w writer) data() string {
	var text string
	switch w.Data {
	case shop.Overwritten:
		text = w.say(wording.DataOverwritten)
	case shop.Altered:
		var kinds []string
		for _, r := range w.Reworks {
			kinds = append(kinds, w.word("paper.rework", string(r.Kind)))
		}
		slices.Sort(kinds)
		if text = w.say(wording.DataAltered); len(kinds) > 0 {
			text = w.say(wording.DataAlteredBy, wording.Values{"how": strings.Join(slices.Compact(kinds), ", ")})
		}
	default:
		text = w.say(wording.DataUntouched)
	}
	switch i := w.Intake; {
	case i == nil:
	case !i.CopiedAt.IsZero():
		text += " " + w.say(wording.DataCopyOf, wording.Values{"at": day(i.CopiedAt)})
	case i.Copied:
		text += " " + w.say(wording.DataCopyExists)
	case i.Wanted && !i.Copied:
		text += " " + w.say(wording.DataNoCopy)
	}
	return text
}

func (w writer) signature() string {
	if w.Verdict == nil || w.Verdict.Signed == nil {
		return w.say(wording.NotSigned)
	}
	sign, code := w.Verdict.Signed, wording.SignedBy
	if sign.Grade != w.Verdict.Grade {
		code = wording.DecidedBy
	}
	return w.say(code, wording.Values{"by": sign.By, "at": day(sign.At)})
}

func (w writer) particulars() []Particular {
	var all []Particular
	fact := func(name, value string) { all = append(all, Particular{w.word("paper.fact", name), value}) }
	id := w.Drive.Identity
	model := id.Model
	if id.Bytes > 0 {
		model += ", " + w.language.Of(float64(id.Bytes), "B")
	}
	fact("drive", model)
	fact("serial", id.Serial)
	if w.Drive.Now.HasHours {
		used := w.say(wording.UsedHours, wording.Values{"n": w.Drive.Now.Hours})
		if w.Intake != nil && w.Intake.Made != "" {
			if made, err := time.Parse("2006-01", w.Intake.Made); err == nil {
				used += ", " + w.say(wording.MadeIn, wording.Values{"month": w.language.Month(made)})
			}
		}
		fact("used", used)
	}
	if i := w.Intake; i != nil {
		if i.Customer != "" {
			customer := i.Customer
			if i.Reference != "" {
				customer += ", " + i.Reference
			}
			fact("customer", customer)
		}
		ticket := w.say(wording.IntakeNumber, wording.Values{"n": i.ID})
		if i.Ticket != "" {
			ticket = i.Ticket + ", " + ticket
		}
		if w.Visits > 1 {
			ticket += ", " + w.say(wording.VisitNumber, wording.Values{"n": w.Visits})
		}
		fact("ticket", ticket)
		if h := i.Handover; h != nil {
			fact("handed_over", w.word("paper.goes", strings.ReplaceAll(string(h.Goes), " ", "_"))+", "+w.language.Day(h.At))
		}
	}
	if v := w.Verdict; v != nil {
		fact(
			"judged",
			w.say(wording.JudgedBy, wording.Values{"policy": v.Policy, "use": w.word("paper.use", string(v.Duty)), "reading": v.Reading}),
		)
	}
	return all
}

// Label is what the sticker says.
type Label struct {
	Grade  drive.Grade
	Word   string // the grade, in words
	Ending string // of the serial
	Serial string
	Use    string
	Lines  []string // two
	Foot   string
	Link   string // to the drive's page, for its code
}

// endingLength is how much of a serial a person reads at arm's length.
const endingLength = 5

// LabelOf puts a paper into the few words a label has room for, in the language of StatementOf. link is the address of the drive's page.
func LabelOf(p desk.Paper, link string, l wording.Language) Label {
	w := writer{p, l.Or(p.Language)}
	serial := p.Drive.Identity.Serial
	return Label{
		Grade: p.Grade, Word: w.word("label.grade", p.Grade.String()), Serial: serial, Ending: tail(serial, endingLength), Link: link,
		Use: w.labelUse(), Lines: []string{w.labelWhat(), w.labelDo()}, Foot: w.labelFoot(),
	}
}

// labelFoot says when the drive was looked at, and for which ticket.
func (w writer) labelFoot() string {
	at := wording.Values{"at": day(w.Latest.At)}
	foot := w.say(wording.LabelRead, at)
	switch {
	case w.Latest.Seq == 0:
		foot = w.say(wording.LabelNotRead)
	case w.Sweep != nil || len(w.Tests) > 0:
		foot = w.say(wording.LabelChecked, at)
	}
	if w.Intake == nil {
		return foot
	}
	if w.Intake.Ticket != "" {
		return foot + " · " + w.Intake.Ticket
	}
	return foot + " · " + w.number()
}

// labelUse says what the drive may be used for.
func (w writer) labelUse() string {
	duty := wording.Values{"use": w.word("label.duty", string(w.Drive.Duty))}
	switch {
	case w.Intake != nil && w.Intake.AtRisk():
		return w.say(wording.LabelWanted)
	case w.Grade == drive.Replace:
		return w.say(wording.LabelNotForUse)
	case w.Grade == drive.Undecided:
		return w.say(wording.LabelNotJudged)
	case slices.ContainsFunc(w.Fits, func(f verdict.Fit) bool { return f.Duty == w.Drive.Duty && f.Fitness == policy.Not }):
		return w.say(wording.LabelNotFor, duty)
	}
	return w.say(wording.LabelFor, duty)
}

// labelWhat says what was found. The findings' own sentences are English; other languages name what they are about.
func (w writer) labelWhat() string {
	switch v := w.Verdict; {
	case v == nil:
		return w.say(wording.LabelUnjudged)
	case len(v.Findings) > 0:
		var all []string
		for _, f := range v.Findings {
			if w.language.String() == wording.English.String() {
				all = append(all, f.Sentence)
			} else if what := w.word("label.found", groupOf(f)); !slices.Contains(all, what) {
				all = append(all, what)
			}
		}
		return wording.Capital(strings.Join(all, "; "))
	case w.Grade == drive.Undecided && len(v.Missing) > 0:
		return w.say(wording.LabelMissing, wording.Values{"what": w.language.Policy(v.Missing[0].What)})
	case w.Sweep != nil && w.Sweep.ReadAll():
		return w.say(wording.LabelAllRead)
	}
	return w.say(wording.LabelNoFindings)
}

// labelDo says what to do.
func (w writer) labelDo() string {
	if w.Intake != nil && w.Intake.AtRisk() {
		return w.say(wording.LabelCopyFirst)
	}
	if w.Data != shop.Untouched && w.Data != "" { // two things on one line
		return w.word("label.data", string(w.Data)) + "; " + w.word("label.also", w.Grade.String())
	}
	return w.word("label.do", w.Grade.String())
}

// tail gives the last n characters of a text.
func tail(s string, n int) string {
	r := []rune(strings.ReplaceAll(s, " ", ""))
	return string(r[max(0, len(r)-n):])
}

// groupOf is what a finding is about: the group of its first signal. What looks at the whole drive is about the drive.
func groupOf(f verdict.Finding) string {
	for _, n := range f.Signals {
		if d, ok := signal.Lookup(n); ok && d.Group != "life" {
			return d.Group
		}
	}
	return "life"
}
