package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
)

// Particular is a name and a value of the statement's foot.
type Particular struct{ Name, Value string }

// Statement is what the page about a drive says to its owner, line by line. Page, PDF and API are all made of it.
type Statement struct {
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
}

// inUse says duties as a lay person does.
var inUse = map[drive.Duty]string{drive.Continuous: "always-on use", drive.Archive: "long keeping", drive.Everyday: "everyday use", drive.Carry: "carrying files"}

// answers are what the grades mean to an owner. No probabilities: nobody can use them for one drive.
var answers = map[drive.Grade]string{
	drive.Healthy:   "Nothing was found wrong with the drive. It does for the uses below.",
	drive.Degrading: "The drive works, and it has begun to wear. Do not keep your only copy of anything on it.",
	drive.Replace:   "The drive is failing, or about to. Save what you need from it, and use it no more.",
	drive.Undecided: "There is no answer yet: not everything that is needed for one has been checked.",
}

// StatementOf puts a paper into words.
func StatementOf(p desk.Paper) Statement {
	s := Statement{
		Shop: p.Shop, Number: p.Drive.Identity.Serial, Date: day(p.At), Grade: p.Grade, Title: title(p.Grade.String()), Answer: answers[p.Grade], DataState: p.Data,
		Foot: "What a drive does next cannot be promised. A copy is the only safety.",
	}
	if p.Intake != nil {
		s.Number = fmt.Sprint(p.Intake.ID)
	}
	for _, f := range p.Fits {
		switch words := inUse[f.Duty]; f.Fitness {
		case policy.Does:
			s.Does = append(s.Does, words)
		case policy.Care:
			s.Care = append(s.Care, words)
		case policy.Not:
			s.NotFor = append(s.NotFor, words)
		}
	}
	s.Why, s.Do = reasons(p), steps(p)
	s.Checked, s.NotChecked = checked(p), notChecked(p)
	s.Data = data(p)
	s.Signature = signature(p)
	s.Facts = particulars(p)
	return s
}

func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func day(t time.Time) string { return t.Format("2 January 2006") }

// reasons are the findings in the owner's words, each with what was counted and the limit it is held against.
func reasons(p desk.Paper) []string {
	var all []string
	if p.Verdict == nil {
		return []string{"The drive has not told anything of itself."}
	}
	if sign := p.Verdict.Signed; sign != nil && sign.Grade != p.Verdict.Grade {
		all = append(all, fmt.Sprintf("By our rules it is %s. %s decided otherwise: %s", p.Verdict.Grade, sign.By, sentence(sign.Reason)))
	}
	for _, f := range slices.Concat(p.Verdict.Findings, p.Verdict.Notes) {
		line := sentence(f.Customer)
		// A number stands where it is the reason: of a drive to be replaced only one that has passed its limit.
		if f.Margin != nil && f.Margin.Used > 0 && (p.Grade != drive.Replace || f.Margin.Used >= f.Margin.Of) {
			line += fmt.Sprintf(" We count %s; our limit is %s.", quantity.Number(f.Margin.Used), quantity.Number(f.Margin.Of))
		}
		all = append(all, line)
	}
	if p.Grade == drive.Undecided {
		for _, m := range p.Verdict.Missing {
			all = append(all, "Missing: "+sentence(m.What))
		}
	}
	if p.Volumes != nil {
		if _, damaged := p.Volumes.Damaged(); damaged {
			all = append(all, p.Volumes.Says)
		}
	}
	if len(all) == 0 {
		all = append(all, "None of our rules found a fault.")
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

func steps(p desk.Paper) []string {
	var all []string
	if p.Verdict != nil {
		all = append(all, p.Verdict.Advice...)
	}
	if p.Volumes != nil && p.Grade == drive.Healthy {
		if _, damaged := p.Volumes.Damaged(); damaged { // that is where to look
			all = []string{"Have the file system repaired, after a copy. The drive can stay."}
		}
	}
	if p.Intake != nil && !p.Intake.CopiedAt.IsZero() && p.Grade != drive.Healthy {
		all = append(all, "Keep the copy of "+day(p.Intake.CopiedAt)+".")
	}
	if len(all) == 0 {
		switch p.Grade {
		case drive.Healthy:
			all = append(all, "Nothing with the drive. If the trouble goes on, its cause lies elsewhere: the cable, the computer, or the files.", "Keep a copy of what matters, as with every drive.")
		default:
			all = append(all, "Ask us when the checks are done.")
		}
	}
	return all
}

func checked(p desk.Paper) []string {
	var all []string
	if p.Counters > 0 {
		all = append(all, fmt.Sprintf("%d of its own counters were read, on %s.", p.Counters, day(p.Latest.At)))
	}
	seen := map[string]bool{}
	for _, t := range p.Tests {
		if (t.Passed || t.Failed) && !seen[t.Kind] {
			seen[t.Kind] = true
			result := "passed"
			if t.Failed {
				result = "failed"
			}
			all = append(all, fmt.Sprintf("It last %s its own %s test at %s hours.", result, t.Kind, quantity.Number(float64(t.Hours))))
		}
	}
	if w := p.Sweep; w != nil {
		bytes := float64(w.Standing.Geometry.Sectors) * float64(w.Standing.Geometry.Logical)
		switch {
		case w.ReadAll():
			all = append(all, fmt.Sprintf("All %s were read once, slow places again.", quantity.Of(bytes, "B")))
		case w.Standing.Sample != nil:
			all = append(all, "A sample of its surface was read.")
		default:
			all = append(all, fmt.Sprintf("%.0f %% of its surface were read.", 100*w.Standing.Share))
		}
	}
	if v := p.Volumes; v != nil {
		all = append(all, fmt.Sprintf("Its partitions and file systems were looked at, without changing them, on %s.", day(v.At)))
	}
	if len(all) == 0 {
		all = append(all, "Nothing.")
	}
	return all
}

func notChecked(p desk.Paper) []string {
	var all []string
	if p.Sweep == nil {
		all = append(all, "Its surface was not read.")
	} else {
		if !p.Sweep.ReadAll() {
			all = append(all, "Not all of its surface was read: a small damaged place may have been missed.")
		}
		if held := p.Sweep.Standing.Held; held != nil && *held < 1 {
			all = append(all, fmt.Sprintf("Its empty cells: %s of what was read held data, and a flash drive answers for the rest without touching it.", shop.Percent(*held)))
		}
	}
	if p.Counters == 0 {
		all = append(all, "Its own counters: it does not tell them, or its adapter does not pass them.")
	}
	if len(p.Without) > 0 {
		all = append(all, "What this drive does not report: "+strings.Join(p.Without, ", ")+".")
	}
	if p.Interrupted > 0 {
		all = append(all, fmt.Sprintf("Checks that were stopped before their end: %d.", p.Interrupted))
	}
	if p.Volumes == nil {
		all = append(all, "Its file systems.")
	}
	return append(all, "Whether your files open. How it behaves inside your computer.")
}

func data(p desk.Paper) string {
	var text string
	switch p.Data {
	case shop.Overwritten:
		text = "Overwritten. Everything on the drive was written over, and what was written was read back."
	case shop.Altered:
		text = "Altered. Parts of the drive were written to at this visit"
		if len(p.Reworks) > 0 {
			var kinds []string
			for _, r := range p.Reworks {
				kinds = append(kinds, strings.ToLower(r.Kind.Title()))
			}
			slices.Sort(kinds)
			text += " (" + strings.Join(slices.Compact(kinds), ", ") + ")"
		}
		text += "."
	default:
		text = "Untouched. Nothing was written to the drive at this visit."
	}
	switch i := p.Intake; {
	case i == nil:
	case !i.CopiedAt.IsZero():
		text += " A copy exists, noted on " + day(i.CopiedAt) + "."
	case i.Copied:
		text += " A copy exists."
	case i.Wanted && !i.Copied:
		text += " You want the data, and no copy of it is known to us."
	}
	return text
}

func signature(p desk.Paper) string {
	if p.Verdict == nil || p.Verdict.Signed == nil {
		return "Not signed"
	}
	sign := p.Verdict.Signed
	how := "Signed"
	if sign.Grade != p.Verdict.Grade {
		how = "Decided"
	}
	return fmt.Sprintf("%s by %s, %s", how, sign.By, day(sign.At))
}

func particulars(p desk.Paper) []Particular {
	id := p.Drive.Identity
	all := []Particular{{"Drive", id.Model}, {"Serial", id.Serial}}
	if id.Bytes > 0 {
		all[0].Value += ", " + quantity.Of(float64(id.Bytes), "B")
	}
	if p.Drive.Now.HasHours {
		used := quantity.Number(p.Drive.Now.Hours) + " hours"
		if p.Intake != nil && p.Intake.Made != "" {
			if made, err := time.Parse("2006-01", p.Intake.Made); err == nil {
				used += ", made " + made.Format("January 2006")
			}
		}
		all = append(all, Particular{"Used for", used})
	}
	if i := p.Intake; i != nil {
		if i.Customer != "" {
			customer := i.Customer
			if i.Reference != "" {
				customer += ", " + i.Reference
			}
			all = append(all, Particular{"Customer", customer})
		}
		ticket := fmt.Sprintf("intake %d", i.ID)
		if i.Ticket != "" {
			ticket = i.Ticket + ", " + ticket
		}
		if p.Visits > 1 {
			ticket += fmt.Sprintf(", visit %d", p.Visits)
		}
		all = append(all, Particular{"Ticket", ticket})
		if h := i.Handover; h != nil {
			all = append(all, Particular{"Handed over", string(h.Goes) + ", " + day(h.At)})
		}
	}
	if p.Verdict != nil {
		all = append(all, Particular{"Judged by", fmt.Sprintf("our policy %d, for %s, reading %d", p.Verdict.Policy, inUse[p.Verdict.Duty], p.Verdict.Reading)})
	}
	return all
}

// Label is what the sticker says.
type Label struct {
	Grade  drive.Grade
	Ending string // of the serial
	Serial string
	Use    string
	Lines  []string // two
	Foot   string
	Link   string // to the drive's page, for its code
}

// endingLength is how much of a serial a person reads at arm's length.
const endingLength = 5

// LabelOf puts a paper into the few words a label has room for. link is the address of the drive's page.
func LabelOf(p desk.Paper, link string) Label {
	serial := p.Drive.Identity.Serial
	l := Label{Grade: p.Grade, Serial: serial, Ending: tail(serial, endingLength), Link: link, Foot: "read " + p.Latest.At.Format("2 Jan 2006")}
	if p.Sweep != nil || len(p.Tests) > 0 {
		l.Foot = "checked " + p.Latest.At.Format("2 Jan 2006")
	}
	if p.Latest.Seq == 0 {
		l.Foot = "not read"
	}
	if p.Intake != nil {
		number := fmt.Sprint(p.Intake.ID)
		if p.Intake.Ticket != "" {
			number = p.Intake.Ticket
		}
		l.Foot += " · " + number
	}
	switch {
	case p.Intake != nil && p.Intake.AtRisk():
		l.Use = "data wanted"
	case p.Grade == drive.Replace:
		l.Use = "not for use"
	case p.Grade == drive.Undecided:
		l.Use = "not judged"
	default:
		l.Use = "for " + string(p.Drive.Duty)
		for _, f := range p.Fits {
			if f.Duty == p.Drive.Duty && f.Fitness == policy.Not {
				l.Use = "not for " + string(f.Duty)
			}
		}
	}
	what := "No findings"
	if p.Verdict != nil {
		var all []string
		for _, f := range p.Verdict.Findings {
			all = append(all, f.Sentence)
		}
		switch {
		case len(all) > 0:
			what = strings.Join(all, "; ")
		case p.Grade == drive.Undecided && len(p.Verdict.Missing) > 0:
			what = "Missing: " + p.Verdict.Missing[0].What
		case p.Sweep != nil && p.Sweep.ReadAll():
			what = "Every sector read, no findings"
		}
	} else {
		what = "Not judged"
	}
	do := map[drive.Grade]string{drive.Healthy: "Keep a copy, as always", drive.Degrading: "Keep a second copy", drive.Replace: "Take it out of use", drive.Undecided: "Check before use"}[p.Grade]
	switch p.Data {
	case shop.Overwritten:
		do += "; data overwritten"
	case shop.Altered:
		do += "; data altered"
	case shop.Untouched:
	}
	if p.Intake != nil && p.Intake.AtRisk() {
		do = "Copy before checking"
	}
	l.Lines = []string{what, do}
	return l
}

// tail gives the last n characters of a text.
func tail(s string, n int) string {
	r := []rune(strings.ReplaceAll(s, " ", ""))
	return string(r[max(0, len(r)-n):])
}

// Word is the grade as the label has it.
func (l Label) Word() string { return l.Grade.String() }
