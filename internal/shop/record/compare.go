package record

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/judge"
)

// DriveByID gives one drive.
func (s *Keeper) DriveByID(ctx context.Context, id int64) (shop.Drive, error) {
	return s.store.Drive(ctx, id)
}

// Drives lists drives.
func (s *Keeper) Drives(ctx context.Context, q shop.Query) ([]shop.Drive, error) {
	return s.store.Drives(ctx, q)
}

// List lists drives with what a list tells of them.
func (s *Keeper) List(ctx context.Context, q shop.Query) ([]shop.Listed, error) {
	return s.store.List(ctx, q)
}

// Reading gives a reading of a drive; seq 0 is the latest.
func (s *Keeper) Reading(ctx context.Context, d shop.Drive, seq int) (shop.Reading, error) {
	if seq == 0 { // the latest in time
		latest, err := s.store.Latest(ctx, d.ID)
		if shop.IsNone(err) {
			return shop.Reading{}, &shop.NotFound{What: d.Identity.Serial + " has no reading", Advice: "Take one."}
		}
		if err != nil {
			return shop.Reading{}, err
		}
		seq = latest.Seq
	}
	return s.store.Reading(ctx, d.ID, seq)
}

// Readings lists the moments of a drive's readings, oldest first, those that do not count among them.
func (s *Keeper) Readings(ctx context.Context, d shop.Drive) ([]shop.Moment, error) {
	return s.store.AllMoments(ctx, d.ID)
}

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

// Known is what most of what is said of a drive is made of: its readings that count, and the pages of the latest.
type Known struct {
	Moments []shop.Moment
	Latest  shop.Reading // when there is one
	Decoded reading.Reading
}

// Know reads what is known of a drive.
func (s *Keeper) Know(ctx context.Context, d shop.Drive) (k Known, err error) {
	if k.Moments, err = s.store.Moments(ctx, d.ID); err != nil || len(k.Moments) == 0 {
		return k, err
	}
	k.Latest, err = s.store.Reading(ctx, d.ID, k.Moments[len(k.Moments)-1].Seq)
	k.Decoded = reading.DecodeAs(k.Latest.Pages, d.Hints)
	return k, err
}

// Courses gives every signal of a drive, tightest margin first, then those that moved, then the rest.
func (s *Keeper) Courses(ctx context.Context, d shop.Drive) ([]Course, []shop.Moment, error) {
	k, err := s.Know(ctx, d)
	if err != nil {
		return nil, nil, err
	}
	all, err := s.CoursesOf(ctx, d, k)
	return all, k.Moments, err
}

// CoursesOf is Courses, where that is known which most of it is made of.
func (s *Keeper) CoursesOf(ctx context.Context, d shop.Drive, k Known) ([]Course, error) {
	moments := k.Moments
	if len(moments) == 0 {
		return nil, nil
	}
	now, err := s.judge.Signals(ctx, s.store, d, &k.Decoded, time.Time{})
	if err != nil {
		return nil, err
	}
	v, err := s.store.LastVerdict(ctx, d.ID)
	if err != nil && !shop.IsNone(err) {
		return nil, err
	}
	before, err := s.lastVisit(ctx, d, moments)
	if err != nil {
		return nil, err
	}
	life, err := s.judge.Life(ctx, s.store, d, moments)
	if err != nil {
		return nil, err
	}
	margins := verdict.Margins(s.judge.Policy(), d.Identity, d.Duty, now)
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
		points := life.Drawn(def.Name, mostDrawn)
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
			c.Since = judge.Moved(was, c.Value.Number, def.Unit)
		}
		all = append(all, c)
	}
	slices.SortStableFunc(all, func(a, b Course) int { return cmp.Compare(weight(b), weight(a)) })
	return all, nil
}

// mostDrawn is about how many points of a signal are shown: a figure is not so wide.
const mostDrawn = 400

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

// lastVisit is the last reading before the drive's present intake; without an intake, the last one more than a day before
// the latest.
func (s *Keeper) lastVisit(ctx context.Context, d shop.Drive, moments []shop.Moment) (shop.Moment, error) {
	i, err := s.judge.Intake(ctx, d)
	if err != nil {
		return shop.Moment{}, err
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
	Then, Now shop.Moment
	Swapped   bool // they were asked for the other way round
	Rows      []Difference
}

// Compare lays two readings of a drive beside each other, the earlier first; 0 for now is the latest, 0 for then the last visit's last.
func (s *Keeper) Compare(ctx context.Context, d shop.Drive, then, now int) (Comparison, error) {
	moments, err := s.store.Moments(ctx, d.ID)
	if err != nil {
		return Comparison{}, err
	}
	if len(moments) == 0 {
		return Comparison{}, &shop.NotFound{What: d.Identity.Serial + " has no reading", Advice: "Take one."}
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
	for _, m := range moments { // in the order of the drive's life
		if m.Seq == then {
			c.Then = m
			c.Swapped = c.Now.Seq != 0
		}
		if m.Seq == now {
			c.Now = m
		}
	}
	if c.Swapped {
		c.Then, c.Now = c.Now, c.Then
	}
	if c.Then.Seq == 0 || c.Now.Seq == 0 {
		return c, &shop.NotFound{
			What:   fmt.Sprintf("%s has readings 1 to %d, not %d and %d", d.Identity.Serial, len(moments), then, now),
			Advice: "List them with reading numbers.",
		}
	}
	latest, err := s.store.Reading(ctx, d.ID, c.Now.Seq)
	if err != nil {
		return c, err
	}
	decoded := reading.DecodeAs(latest.Pages, d.Hints)
	set, err := s.judge.Signals(ctx, s.store, d, &decoded, c.Now.At)
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
			row.Change = judge.Moved(*row.Then, *row.Now, onlyBytes(def.Unit))
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

// EachMoment goes through the readings that count of all drives that match, drive by drive, the earliest first.
func (s *Keeper) EachMoment(ctx context.Context, q shop.Query, f func(d shop.Drive, m shop.Moment) error) error {
	for q.Limit = 200; ; {
		some, err := s.store.Drives(ctx, q)
		if err != nil || len(some) == 0 {
			return err
		}
		for _, d := range some {
			moments, err := s.store.Moments(ctx, d.ID)
			if err != nil {
				return err
			}
			for _, m := range moments {
				if err := f(d, m); err != nil {
					return err
				}
			}
			q.After = d.Identity.Serial
		}
	}
}
