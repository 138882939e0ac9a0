package shop

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/quantity"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/protocol"
)

// Runs lists runs, open ones as fresh as their progress.
func (s *Shop) Runs(ctx context.Context, q RunQuery) ([]check.Run, error) {
	all, err := s.store.Runs(ctx, q)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, r := range all {
		if live, ok := s.live[r.ID]; ok && r.State != check.Done {
			all[i] = live
		}
	}
	return all, nil
}

// RunByID gives one run.
func (s *Shop) RunByID(ctx context.Context, id int64) (check.Run, error) {
	r, err := s.store.Run(ctx, id)
	if err != nil && !isNone(err) {
		return r, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if live, ok := s.live[id]; ok && r.State != check.Done {
		return live, nil
	}
	return r, err
}

// DriveByID gives one drive.
func (s *Shop) DriveByID(ctx context.Context, id int64) (Drive, error) { return s.store.Drive(ctx, id) }

// Verdicts lists every verdict on a drive, newest first.
func (s *Shop) Verdicts(ctx context.Context, d Drive) ([]Verdict, error) {
	return s.store.Verdicts(ctx, d.ID)
}

// Drives lists drives.
func (s *Shop) Drives(ctx context.Context, q Query) ([]Drive, error) { return s.store.Drives(ctx, q) }

// List lists drives with what a list tells of them.
func (s *Shop) List(ctx context.Context, q Query) ([]Listed, error) { return s.store.List(ctx, q) }

// Reading gives a reading of a drive; seq 0 is the latest.
func (s *Shop) Reading(ctx context.Context, d Drive, seq int) (Reading, error) {
	if seq == 0 { // the latest in time
		latest, err := s.store.Latest(ctx, d.ID)
		if isNone(err) {
			return Reading{}, &NotFound{d.Identity.Serial + " has no reading", "Take one."}
		}
		if err != nil {
			return Reading{}, err
		}
		seq = latest.Seq
	}
	return s.store.Reading(ctx, d.ID, seq)
}

// Readings lists the moments of a drive's readings, oldest first.
func (s *Shop) Readings(ctx context.Context, d Drive) ([]Moment, error) {
	return s.store.Moments(ctx, d.ID)
}

// Verdict gives the present verdict of a drive, with the advice as things stand with its data now.
func (s *Shop) Verdict(ctx context.Context, d Drive) (Verdict, error) {
	v, err := s.store.LastVerdict(ctx, d.ID)
	if err != nil {
		return v, err
	}
	i, err := s.Intake(ctx, d)
	if err != nil || i == nil || i.AtRisk() {
		return v, err
	}
	v.Advice = slices.DeleteFunc(slices.Clone(v.Advice), func(says string) bool { // the data is not wanted, or it is copied
		return slices.ContainsFunc(s.Policy().Advice, func(a policy.Advice) bool { return a.ID == policy.CopyAdvice && a.Says == says })
	})
	return v, nil
}

// Intake gives the drive's present intake, nil when it has none.
func (s *Shop) Intake(ctx context.Context, d Drive) (*Intake, error) {
	all, err := s.store.Intakes(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// Bench tells of the bench.
func (s *Shop) Benches() []protocol.Description { return s.fleet.Benches() }

// Clock is the shop's time now.
func (s *Shop) Clock() time.Time { return s.clock.Now() }

// Course is a signal over a drive's life, with what it is measured against.
type Course struct {
	Definition signal.Definition
	Value      signal.Value
	Hours      []float64 // of each point; -1 unknown
	Values     []float64
	Seqs       []int
	Limit      *float64
	Margin     *verdict.Margin
	Since      string          // what became of it since the last visit, short
	Finding    int             // number of the finding it belongs to, from 1
	Course     *verdict.Course // nil: it never had a value
}

// Courses gives every signal of a drive, tightest margin first, then those that moved, then the rest.
func (s *Shop) Courses(ctx context.Context, d Drive) ([]Course, []Moment, error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil || len(moments) == 0 {
		return nil, moments, err
	}
	latest, err := s.store.Reading(ctx, d.ID, moments[len(moments)-1].Seq)
	if err != nil {
		return nil, nil, err
	}
	decoded := reading.DecodeAs(latest.Pages, d.Hints)
	now, err := s.signals(ctx, s.store, d, &decoded, time.Time{})
	if err != nil {
		return nil, nil, err
	}
	v, err := s.store.LastVerdict(ctx, d.ID)
	if err != nil && !isNone(err) {
		return nil, nil, err
	}
	before, err := s.lastVisit(ctx, d, moments)
	if err != nil {
		return nil, nil, err
	}
	life, err := s.life(ctx, s.store, d, moments)
	if err != nil {
		return nil, nil, err
	}
	margins := verdict.Margins(s.Policy(), d.Identity, d.Duty, now)
	found := slices.Concat(v.Findings, v.Notes)
	marks := verdict.Marks{Intake: before.At}
	for _, m := range moments[:len(moments)-1] {
		if m.Step == check.ReadingAfter {
			marks.Check = m.At
		}
	}
	all := make([]Course, 0, len(signal.Registry))
	for _, def := range signal.Registry {
		if def.Inner {
			continue
		}
		c := Course{Definition: def, Value: now[def.Name]}
		points := life.All(def.Name)
		c.Hours, c.Values, c.Seqs = make([]float64, len(points)), make([]float64, len(points)), make([]int, len(points))
		for i, p := range points {
			c.Hours[i], c.Values[i], c.Seqs[i] = p.Hours, p.Value, p.Seq
		}
		if i := slices.IndexFunc(margins, func(m verdict.SignalMargin) bool { return m.Signal == def.Name }); i >= 0 {
			c.Limit, c.Margin = &margins[i].Limit, &margins[i].Margin
		}
		if course, ok := life.Course(def.Name, c.Limit, marks); ok {
			c.Course = &course
		}
		if c.Value.Number > 0 {
			c.Finding = 1 + slices.IndexFunc(found, func(f verdict.Finding) bool { return slices.Contains(f.Signals, def.Name) })
		}
		if was, ok := before.Signals.Get(def.Name); ok && c.Value.Available {
			c.Since = Moved(was, c.Value.Number, def.Unit)
		}
		all = append(all, c)
	}
	slices.SortStableFunc(all, func(a, b Course) int { return cmp.Compare(weight(b), weight(a)) })
	return all, moments, nil
}

// weight orders signals for a person: used-up allowance, then findings, then movement, then anything above zero.
func weight(c Course) float64 {
	w := 0.0
	if c.Margin != nil {
		w += c.Margin.Share()
	}
	if c.Finding > 0 {
		w += 10
	}
	if len(c.Values) > 1 && c.Values[0] != c.Values[len(c.Values)-1] {
		w += 0.02
	}
	if c.Definition.Matters {
		w += 0.01
	}
	return w
}

// Moved says how a value changed: "+3", "steady".
func Moved(before, after float64, unit string) string {
	if before == after {
		return "steady"
	}
	sign := "+"
	if after < before {
		sign = "\u2212"
	}
	return sign + quantity.Of(max(after-before, before-after), unit)
}

// lastVisit is the last reading before the drive's present intake; without an intake, the last one more than a day before
// the latest.
func (s *Shop) lastVisit(ctx context.Context, d Drive, moments []Moment) (Moment, error) {
	i, err := s.Intake(ctx, d)
	if err != nil {
		return Moment{}, err
	}
	limit := moments[len(moments)-1].At.Add(-24 * time.Hour)
	if i != nil {
		limit = i.At
	}
	before := moments[0]
	for _, m := range moments[:len(moments)-1] { // the latest is what it is compared with
		if m.At.Before(limit) {
			before = m
		}
	}
	return before, nil
}

// Difference is one signal between two readings.
type Difference struct {
	Definition signal.Definition
	Then, Now  *float64 // nil: not available
	Reason     string   // why not
	Change     string
	Says       string
	Matters    bool // it moved, or it counts
}

// Comparison is two readings laid beside each other.
type Comparison struct {
	Then, Now Moment
	Rows      []Difference
}

// Compare lays two readings of a drive beside each other; 0 for now is the latest, 0 for then the last visit's last.
func (s *Shop) Compare(ctx context.Context, d Drive, then, now int) (Comparison, error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return Comparison{}, err
	}
	if len(moments) == 0 {
		return Comparison{}, &NotFound{d.Identity.Serial + " has no reading", "Take one."}
	}
	if now == 0 {
		now = moments[len(moments)-1].Seq
	}
	if then == 0 {
		before, err := s.lastVisit(ctx, d, moments)
		if err != nil {
			return Comparison{}, err
		}
		then = before.Seq
	}
	var c Comparison
	for _, m := range moments {
		if m.Seq == then {
			c.Then = m
		}
		if m.Seq == now {
			c.Now = m
		}
	}
	if c.Then.Seq == 0 || c.Now.Seq == 0 {
		return c, &NotFound{fmt.Sprintf("%s has readings 1 to %d, not %d and %d", d.Identity.Serial, len(moments), then, now), "List them with reading numbers."}
	}
	latest, err := s.store.Reading(ctx, d.ID, now)
	if err != nil {
		return c, err
	}
	decoded := reading.DecodeAs(latest.Pages, d.Hints)
	set, err := s.signals(ctx, s.store, d, &decoded, c.Now.At)
	if err != nil {
		return c, err
	}
	for _, def := range signal.Registry {
		if def.Inner {
			continue
		}
		row := Difference{Definition: def, Reason: set[def.Name].Reason, Says: def.Usual}
		if x, ok := c.Then.Signals.Get(def.Name); ok {
			row.Then = &x
		}
		if x, ok := c.Now.Signals.Get(def.Name); ok {
			row.Now = &x
		}
		if row.Then != nil && row.Now != nil {
			row.Change = Moved(*row.Then, *row.Now, onlyBytes(def.Unit))
			row.Says = def.Says(*row.Then, *row.Now)
			row.Matters = def.Matters && (*row.Then != *row.Now || *row.Now != 0 && def.Unit != "°C")
		}
		c.Rows = append(c.Rows, row)
	}
	slices.SortStableFunc(c.Rows, func(a, b Difference) int { return cmp.Compare(importance(b), importance(a)) })
	return c, nil
}

// onlyBytes is the unit a change cannot be read without; others stand at the head of their row.
func onlyBytes(unit string) string {
	if unit == "B" {
		return unit
	}
	return ""
}

func importance(d Difference) int {
	switch {
	case d.Matters && *d.Then != *d.Now:
		return 3
	case d.Matters:
		return 2
	case d.Now != nil:
		return 1
	}
	return 0
}

// Entry is one line of a drive's life.
type Entry struct {
	At      time.Time
	Hours   float64 // -1 unknown
	Kind    string  // verdict, change, run, intake, handover, reading
	Text    string
	Grade   *drive.Grade
	Run     int64
	Reading int
	Verdict int
}

// History is everything that happened to a drive, newest first.
func (s *Shop) History(ctx context.Context, d Drive) ([]Entry, error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	hoursAt := func(seq int) float64 {
		for _, m := range moments {
			if h, ok := m.Signals.Get(signal.PowerOnHours); ok && m.Seq == seq {
				return h
			}
		}
		return -1
	}
	near := func(at time.Time) float64 {
		h := -1.0
		for _, m := range moments {
			if x, ok := m.Signals.Get(signal.PowerOnHours); ok && (h < 0 || !m.At.After(at)) {
				h = x
			}
		}
		return h
	}
	var all []Entry
	changes, err := s.store.Changes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		def, _ := signal.Lookup(c.Signal)
		all = append(all, Entry{At: c.At, Hours: c.Hours, Kind: "change", Reading: c.Seq, Text: fmt.Sprintf("%s %s to %s", capital(def.Words), quantity.Number(c.Before), quantity.Number(c.After))})
	}
	verdicts, err := s.store.Verdicts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for n, v := range verdicts {
		text := fmt.Sprintf("for %s, policy %d.", v.Duty, v.Policy)
		switch {
		case v.Signed != nil && v.Signed.Grade != v.Grade:
			text += fmt.Sprintf(" Overruled with %s by %s: “%s”", v.Signed.Grade, v.Signed.By, v.Signed.Reason)
		case v.Signed != nil:
			text += " Signed by " + v.Signed.By + "."
		case n == 0:
			text += " Not signed."
		}
		all = append(all, Entry{At: v.At, Hours: hoursAt(v.Reading), Kind: "verdict", Text: text, Grade: &v.Grade, Verdict: v.Seq, Reading: v.Reading})
	}
	runs, err := s.Runs(ctx, RunQuery{Drive: d.Identity.Key, Limit: 200})
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		at := r.Ended
		if at.IsZero() {
			at = r.Asked
		}
		all = append(all, Entry{At: at, Hours: near(at), Kind: "run", Run: r.ID, Text: fmt.Sprintf("%s, %s: %s", r.Kind.Title(), r.Bay.Words(), Standing(r))})
	}
	intakes, err := s.store.Intakes(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, i := range intakes { // newest first
		text := fmt.Sprintf("Taken in, intake %d", i.ID)
		if i.Lot != 0 {
			text += fmt.Sprintf(", lot %d", i.Lot)
		}
		switch {
		case !sameOwner(i, intakes[0]):
			text += ", from an earlier owner"
		default:
			if i.Ticket != "" {
				text += ", ticket " + i.Ticket
			}
			if i.Complaint != "" {
				text += ": “" + i.Complaint + "”"
			}
		}
		all = append(all, Entry{At: i.At, Hours: near(i.At), Kind: "intake", Text: text})
		if h := i.Handover; h != nil && h.Goes != NotNoted {
			text := fmt.Sprintf("Handed over by %s: %s, data %s", h.By, h.Goes, h.Data)
			if h.Note != "" && sameOwner(i, intakes[0]) {
				text += ". “" + h.Note + "”"
			}
			all = append(all, Entry{At: h.At, Hours: near(h.At), Kind: "handover", Text: text})
		}
	}
	if len(moments) > 0 {
		all = append(all, Entry{At: moments[0].At, Hours: hoursAt(moments[0].Seq), Kind: "reading", Reading: moments[0].Seq, Text: "First reading here"})
	}
	slices.SortStableFunc(all, func(a, b Entry) int { return b.At.Compare(a.At) })
	return all, nil
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
