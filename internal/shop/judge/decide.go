package judge

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Life lays a drive's life out, with what was reworked in it.
func (s *Judge) Life(ctx context.Context, r Reader, d shop.Drive, moments []shop.Moment) (*verdict.Life, error) {
	all := make([]verdict.Moment, len(moments))
	ran := false
	for i, m := range moments {
		all[i] = m.Moment
		ran = ran || m.Run > 0
	}
	var reworks []verdict.Rework
	var watched []verdict.Watched
	if ran {
		runs, err := r.Runs(ctx, shop.RunQuery{Drive: d.Identity.Key})
		if err != nil {
			return nil, err
		}
		for i := range runs {
			w := &runs[i]
			watched = append(watched, watchedIn(w, moments)...)
			if !w.Wrote() { // the reading after comes before the end of the run
				continue
			}
			since, err := SinceRework(ctx, r, d.ID, w)
			if err != nil {
				return nil, err
			}
			one := verdict.Rework{Run: w.ID, Ended: w.WroteUntil(), Swept: since.Swept, Cleared: cleared(w)}
			if since.Held != nil && *since.Held {
				one.Held = since.When
			}
			for _, m := range moments {
				if m.Run == w.ID && m.Step == check.ReadingAfter {
					one.After = m.Seq
				}
			}
			reworks = append(reworks, one)
		}
	}
	life := verdict.NewLife(all, reworks)
	slices.Reverse(watched) // runs come newest first
	life.Watched, life.Risk = watched, *s.risk.Load()
	return life, nil
}

// watchedIn are the self-tests of a run that the bench followed from start to end, with the reading that was taken after.
func watchedIn(r *check.Run, moments []shop.Moment) []verdict.Watched {
	after := slices.IndexFunc(moments, func(m shop.Moment) bool { return m.Run == r.ID && m.Step == check.ReadingAfter })
	if after < 0 {
		return nil
	}
	var all []verdict.Watched
	for i := range r.Steps {
		if s := &r.Steps[i]; s.Kind == check.ShortTest || s.Kind == check.ExtendedTest {
			if s.State == check.StepDone || s.State == check.StepFailed {
				all = append(
					all,
					verdict.Watched{Extended: s.Kind == check.ExtendedTest, Passed: s.State == check.StepDone, Seq: moments[after].Seq},
				)
			}
		}
	}
	return all
}

// cleared is how many sectors a rework wrote that could not be read before, and can be read since.
func cleared(r *check.Run) float64 {
	n := uint64(0)
	for i := range r.Steps {
		if s := r.Steps[i].Standing; s != nil && s.Written != nil {
			n += s.Written.Cleared
		}
	}
	return float64(n)
}

// evidence is everything known of a drive at its latest reading.
func evidence(d shop.Drive, decoded reading.Reading, now signal.Set, life *verdict.Life) verdict.Evidence {
	last := len(life.Moments) - 1
	e := life.Evidence(d.Identity, d.Duty, maps.Clone(now), last)
	for _, t := range decoded.Tests {
		if t.Failed && t.HasLBA {
			lba := t.LBA
			e.FailingLBA = &lba
			break
		}
	}
	if last < 0 {
		return e
	}
	tick := trend.Tick{Seq: life.Moments[last].Seq, At: life.Moments[last].At, Clocks: signal.Clocks(&decoded), Written: -1}
	if e.Habit != "" { // its stamps are known to be wrong: they contradict nothing
		tick.Clocks = slices.DeleteFunc(tick.Clocks, func(c trend.Clock) bool { return c.Stamp })
	}
	if v := now[signal.BytesWritten]; v.Available {
		tick.Written = v.Number
	}
	e.Contradictions = append(trend.Contradictions(history(life, tick.Clocks)), trend.Contradictions([]trend.Tick{tick})...)
	return e
}

// history is the drive's hours over its life: its other clocks are in the pages of each reading, and only the latest's are asked.
func history(life *verdict.Life, clocks []trend.Clock) []trend.Tick {
	loose := len(clocks) == 0 || clocks[0].Loose
	points := life.All(signal.PowerOnHours)
	ticks := make([]trend.Tick, 0, len(points))
	for _, p := range points {
		ticks = append(
			ticks,
			trend.Tick{
				Seq:     p.Seq,
				At:      p.At,
				Clocks:  []trend.Clock{{Name: "its count of hours", Hours: p.Value, Loose: loose}},
				Written: -1,
			},
		)
	}
	return ticks
}

// Decide judges a drive on its latest reading, stores the verdict if it says something new, and brings drive_now up to date.
func (s *Judge) Decide(
	ctx context.Context, tx Tx, d shop.Drive, decoded reading.Reading, now signal.Set, r shop.Reading, moments []shop.Moment,
) ([]shop.Event, error) {
	a, err := s.assess(ctx, tx, d, decoded, now, r, moments)
	if err != nil {
		return nil, err
	}
	return s.settleOn(ctx, tx, a)
}

// assessment is what a drive is judged to be, before it is stored.
type assessment struct {
	drive   shop.Drive
	verdict verdict.Verdict
	now     shop.Now
	reading shop.Reading // the latest, which it was made at
	news    bool         // it says something else than the verdict before
}

// assess judges a drive on its latest reading. It stores nothing.
func (s *Judge) assess(
	ctx context.Context, from Reader, d shop.Drive, decoded reading.Reading, now signal.Set, r shop.Reading,
	moments []shop.Moment,
) (assessment, error) {
	a := assessment{drive: d, now: d.Now, reading: r}
	life, err := s.Life(ctx, from, d, moments)
	if err != nil {
		return a, err
	}
	p := s.Policy()
	if d.ID != 0 {
		intakes, err := from.Intakes(ctx, d.ID)
		if err != nil {
			return a, err
		}
		if len(intakes) > 0 {
			now.Label(intakes[0].Label)
			a.news = signedBefore(d, intakes[0])
		}
	}
	e := evidence(d, decoded, now, life)
	v := verdict.Decide(p, e)
	n := &a.now
	n.Readings, n.LastAt = shop.CountReadings(moments), time.Time{}
	if len(moments) > 0 {
		n.LastAt = r.At
	}
	n.Hours, n.HasHours = now[signal.PowerOnHours].Number, now[signal.PowerOnHours].Available
	n.Temperature, n.HasTemp = now[signal.Temperature].Number, now[signal.Temperature].Available
	n.Margin, n.MarginShare = "", 0
	if margins := verdict.Margins(p, e.Identity, e.Duty, e.Now); len(margins) > 0 {
		n.Margin, n.MarginShare = margins[0].Margin.Words, margins[0].Margin.Share()
	}
	n.Grade, n.Findings, n.First, n.Policy = v.Grade, len(v.Findings), headline(v), v.Policy
	if n.Missing = ""; v.Grade == drive.Undecided && len(v.Missing) > 0 {
		n.Missing = v.Missing[0].Run
	}
	said := d.Now.VerdictDigest
	if said == nil && d.Now.VerdictSeq > 0 {
		last, err := from.LastVerdict(ctx, d.ID)
		if err != nil {
			return a, err
		}
		said = digest(last.Verdict)
	}
	n.VerdictDigest = digest(v)
	a.verdict, a.news = v, a.news || !bytes.Equal(said, n.VerdictDigest)
	return a, nil
}

// signedBefore reports whether a drive's verdict was signed before its present intake: that was the last visit's, and this one's is open.
func signedBefore(d shop.Drive, present shop.Intake) bool {
	return d.Now.Signed != nil && present.Handover == nil && d.Now.Signed.At.Before(present.At)
}

// settleOn stores an assessment: the verdict if it is news, and how the drive stands.
func (s *Judge) settleOn(ctx context.Context, tx Tx, a assessment) ([]shop.Event, error) {
	var events []shop.Event
	if a.news {
		serial, r := a.drive.Identity.Serial, a.reading
		stored := shop.Verdict{Verdict: a.verdict, Drive: a.drive.ID, At: r.At, Reading: r.Seq}
		if err := tx.AddVerdict(ctx, &stored); err != nil {
			return nil, err
		}
		a.now.VerdictSeq, a.now.Signed = stored.Seq, nil
		events = append(
			events,
			shop.Event{
				At:      s.books.Clock.Now(),
				Kind:    shop.VerdictChanged,
				Serial:  serial,
				Bay:     r.Bay,
				Reading: r.Seq,
				Said:    wording.Say(wording.VerdictNow, wording.Values{"serial": serial, "grade": a.verdict.Grade.String()}),
			},
		)
	}
	return events, tx.SaveNow(ctx, a.drive.ID, a.now)
}

// headline is the one sentence a list has room for.
func headline(v verdict.Verdict) string {
	switch {
	case len(v.Findings) > 0:
		return v.Findings[0].Sentence
	case v.Grade == drive.Healthy:
		return "No findings."
	case len(v.Missing) > 0:
		return "Missing: " + v.Missing[0].What
	}
	return ""
}

// digest is the first 16 bytes of SHA-256 over what a verdict says: two that say the same have the same. Which reading it rests on
// is not news, nor that another policy agrees. It is stored: a change of what goes in here needs a migration that forgets
// drive_now.said, or every verdict becomes news and opens what was signed.
func digest(v verdict.Verdict) []byte {
	h := sha256.New()
	say := func(words ...string) {
		for _, w := range words {
			_, _ = fmt.Fprintf(h, "%d %s", len(w), w)
		}
	}
	say(v.Grade.String(), string(v.Duty))
	for _, f := range slices.Concat(v.Findings, v.Notes) {
		say(f.Rule, string(f.Effect), f.Sentence)
	}
	for _, m := range v.Missing {
		say("missing", m.ID)
	}
	for _, u := range v.Unjudged {
		say("unjudged", u.Rule)
	}
	return h.Sum(nil)[:16]
}

// Redecide judges a drive anew on what is stored, after its duty or the policy changed.
func (s *Judge) Redecide(ctx context.Context, tx Tx, d shop.Drive) ([]shop.Event, error) {
	a, known, err := s.reassess(ctx, tx, d)
	if err != nil || !known {
		return nil, err
	}
	return s.settleOn(ctx, tx, a)
}

// reassess judges a drive on what is stored; false when it has never been read. Of one whose readings do not count nothing is known. It
// stores nothing.
func (s *Judge) reassess(ctx context.Context, from Reader, d shop.Drive) (assessment, bool, error) {
	moments, err := from.Moments(ctx, d.ID)
	if err != nil {
		return assessment{}, false, err
	}
	if len(moments) == 0 {
		a, err := s.assess(ctx, from, d, reading.Reading{}, signal.Set{}, shop.Reading{At: s.books.Clock.Now(), Bay: d.Now.Bay}, nil)
		return a, err == nil, err
	}
	r, err := from.Reading(ctx, d.ID, moments[len(moments)-1].Seq)
	if err != nil {
		return assessment{}, false, err
	}
	decoded := reading.DecodeAs(r.Pages, d.Hints)
	r.Bay = d.Now.Bay
	now, err := s.Signals(ctx, from, d, &decoded, time.Time{})
	if err != nil {
		return assessment{}, false, err
	}
	a, err := s.assess(ctx, from, d, decoded, now, r, moments)
	return a, err == nil, err
}

// LeftUnsigned is a drive that was not signed together with others, and why.
type LeftUnsigned struct{ Serial, Why string }

// SignTogether accepts the verdicts of several drives at once: of those that are healthy without a finding or a note, and of no
// others, each of which a person has to look at. No drives: of all such drives of the shop.
func (s *Judge) SignTogether(ctx context.Context, by shop.Actor, drives []shop.Drive) (signed []string, left []LeftUnsigned, err error) {
	if len(drives) == 0 {
		if drives, err = s.unsignedHealthy(ctx); err != nil {
			return nil, nil, err
		}
	}
	err = shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		signed, left = nil, nil
		var deeds []shop.Deed
		for _, d := range drives {
			current, err := tx.Drive(ctx, d.ID)
			if err != nil {
				return nil, nil, err
			}
			v, err := tx.LastVerdict(ctx, d.ID)
			if err != nil && !shop.IsNone(err) {
				return nil, nil, err
			}
			serial := d.Identity.Serial
			switch {
			case err != nil:
				left = append(left, LeftUnsigned{serial, "there is no verdict on it yet"})
				continue
			case v.Signed != nil:
				left = append(left, LeftUnsigned{serial, "it is signed by " + v.Signed.By + " already"})
				continue
			case v.Grade != drive.Healthy:
				left = append(left, LeftUnsigned{serial, "it is " + v.Grade.String() + ": look at it, then sign it alone"})
				continue
			case len(v.Findings)+len(v.Notes) > 0:
				left = append(left, LeftUnsigned{serial, "there is something to note: look at it, then sign it alone"})
				continue
			}
			sign := shop.SignOff{At: s.books.Clock.Now(), By: by.Name, Grade: v.Grade}
			if err := tx.Sign(ctx, d.ID, v.Seq, sign); err != nil {
				return nil, nil, err
			}
			current.Now.Signed = &sign
			if err := tx.SaveNow(ctx, d.ID, current.Now); err != nil {
				return nil, nil, err
			}
			signed = append(signed, serial)
			deed := shop.Deed{
				Kind:   shop.VerdictSigned,
				Serial: serial,
				Bay:    current.Now.Bay,
				Said:   wording.Say(wording.VerdictSigned, wording.Values{"serial": serial, "grade": v.Grade.String(), "by": by.Name}),
			}
			deed.Edited("signed", nil, v.Grade)
			deeds = append(deeds, deed)
		}
		return deeds, nil, nil
	})
	return signed, left, err
}

// unsignedHealthy lists the drives that can be signed together.
func (s *Judge) unsignedHealthy(ctx context.Context) ([]shop.Drive, error) {
	healthy := drive.Healthy
	var all []shop.Drive
	after := ""
	for {
		some, err := s.store.Drives(ctx, shop.Query{Grade: &healthy, After: after, Limit: 500})
		if err != nil || len(some) == 0 {
			return all, err
		}
		after = some[len(some)-1].Identity.Serial
		for _, d := range some {
			if d.Now.Signed == nil {
				all = append(all, d)
			}
		}
	}
}

// Sign accepts the present verdict of a drive, or overrules it when grade differs; that needs a reason. Signing names the
// verdict seen, so that nobody signs what changed meanwhile.
func (s *Judge) Sign(ctx context.Context, by shop.Actor, d shop.Drive, seen int, grade drive.Grade, reason string) (shop.Verdict, error) {
	reason = strings.TrimSpace(reason)
	var signed shop.Verdict
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		v, err := tx.LastVerdict(ctx, d.ID)
		if err != nil {
			return nil, nil, err
		}
		switch {
		case seen > v.Seq:
			return nil, nil, &shop.NotFound{
				What:   fmt.Sprintf("%s has no verdict %d", d.Identity.Serial, seen),
				Advice: fmt.Sprintf("Its latest is verdict %d.", v.Seq),
			}
		case seen != 0 && seen != v.Seq:
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("verdict %d of %s was followed by verdict %d", seen, d.Identity.Serial, v.Seq),
				Advice: "Look at the new one, then sign.",
			}
		case v.Signed != nil:
			return nil, nil, &shop.Conflict{
				What:   fmt.Sprintf("verdict %d of %s is signed by %s already", v.Seq, d.Identity.Serial, v.Signed.By),
				Advice: "New evidence opens it again.",
			}
		case grade == drive.Undecided && v.Grade == drive.Undecided:
			return nil, nil, &shop.Conflict{
				What:   d.Identity.Serial + " is undecided",
				Advice: "Bring the missing evidence, or overrule with a grade and a reason.",
			}
		case grade == drive.Undecided:
			grade = v.Grade
		}
		if grade != v.Grade && reason == "" {
			return nil, nil, &shop.Invalid{What: fmt.Sprintf("overruling %s with %s needs a reason", v.Grade, grade), Advice: "Say why."}
		}
		sign := shop.SignOff{At: s.books.Clock.Now(), By: by.Name, Grade: grade, Reason: reason}
		if err := tx.Sign(ctx, d.ID, v.Seq, sign); err != nil {
			return nil, nil, err
		}
		current, err := tx.Drive(ctx, d.ID)
		if err != nil {
			return nil, nil, err
		}
		current.Now.Signed = &sign
		if err := tx.SaveNow(ctx, d.ID, current.Now); err != nil {
			return nil, nil, err
		}
		said := wording.Say(wording.VerdictSigned, wording.Values{"serial": d.Identity.Serial, "grade": v.Grade.String(), "by": by.Name})
		if grade != v.Grade {
			said = wording.Say(
				wording.VerdictOverruled,
				wording.Values{"serial": d.Identity.Serial, "grade": v.Grade.String(), "now": grade.String(), "by": by.Name},
			)
		}
		deed := shop.Deed{Kind: shop.VerdictSigned, Serial: d.Identity.Serial, Bay: current.Now.Bay, Said: said}
		deed.Edited("grade", v.Grade, grade)
		deed.Edited("signed", nil, grade)
		signed = v
		signed.Signed = &sign
		return []shop.Deed{deed}, nil, nil
	})
	if err != nil {
		return shop.Verdict{}, err
	}
	return signed, nil
}
