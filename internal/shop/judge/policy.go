package judge

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/risk"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/lowpriority"
	"hylostat.example/internal/shop"
)

// Policy is the policy in force.
func (s *Judge) Policy() *policy.Policy { return s.policy.Load() }

// Policies lists all policies that were in force, newest first.
func (s *Judge) Policies(ctx context.Context) ([]shop.Published, error) { return s.store.Policies(ctx) }

// PolicyVersion gives a policy that is or was in force.
func (s *Judge) PolicyVersion(ctx context.Context, version int) (*policy.Policy, error) {
	all, err := s.store.Policies(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(p shop.Published) bool { return p.Version == version })
	if i < 0 {
		return nil, &shop.NotFound{What: fmt.Sprintf("there was no policy %d", version), Advice: "List the policies."}
	}
	p, err := policy.Parse(all[i].Text)
	if err != nil {
		return nil, fmt.Errorf("policy %d: %w", version, err)
	}
	p.Version = version
	return p, nil
}

// choosePolicy puts the shop's newest policy in force. A newer shipped one takes the place of an older shipped one, never of what the
// shop has published itself.
func (s *Judge) choosePolicy(ctx context.Context, shipped []byte) error {
	p, err := policy.Parse(shipped)
	if err != nil {
		return err
	}
	all, err := s.store.Policies(ctx)
	if err != nil {
		return err
	}
	if len(all) > 0 && (all[0].By != "" || all[0].Version >= p.Version) {
		if p, err = policy.Parse(all[0].Text); err != nil {
			return fmt.Errorf("the policy in force, version %d: %w", all[0].Version, err)
		}
		p.Version = all[0].Version
		s.policy.Store(p)
		return nil
	}
	s.policy.Store(p)
	return s.store.Write(ctx, func(tx Tx) error {
		return tx.SavePolicy(ctx, shop.Published{Version: p.Version, Name: p.Name, Text: shipped, At: s.books.Clock.Now()})
	})
}

// draft reads a policy somebody wrote.
func draft(text []byte) (*policy.Policy, error) {
	p, err := policy.Parse(text)
	if err != nil {
		return nil, &shop.Invalid{What: err.Error(), Advice: "Mend the policy, then test it again."}
	}
	return p, nil
}

// TestPolicy puts a policy's own examples to its rules; no text: those of the policy in force.
func (s *Judge) TestPolicy(text []byte) (trials []policy.Trial, without []string, err error) {
	p := s.Policy()
	if len(text) > 0 {
		if p, err = draft(text); err != nil {
			return nil, nil, err
		}
	}
	trials, without = p.Test()
	return trials, without, nil
}

// Publish puts a policy in force as the next version. Its own examples must hold. All drives are judged anew meanwhile.
func (s *Judge) Publish(ctx context.Context, by shop.Actor, text []byte, note string) (shop.Published, error) {
	if note = strings.TrimSpace(note); note == "" {
		return shop.Published{}, &shop.Invalid{What: "a policy needs a note", Advice: "Say what changes, and why."}
	}
	p, err := draft(text)
	if err != nil {
		return shop.Published{}, err
	}
	trials, _ := p.Test()
	if i := slices.IndexFunc(trials, func(t policy.Trial) bool { return !t.Passed() }); i >= 0 {
		return shop.Published{}, &shop.Invalid{
			What:   fmt.Sprintf("rule %s does not answer its example %d as that says", trials[i].Rule, trials[i].Example),
			Advice: "Mend the rule or its example: test the policy.",
		}
	}
	out := shop.Published{Name: p.Name, Text: text, At: s.books.Clock.Now(), By: by.Name, Note: note}
	err = shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		all, err := tx.Policies(ctx)
		if err != nil {
			return nil, nil, err
		}
		out.Version = 1
		if len(all) > 0 {
			out.Version = all[0].Version + 1
		}
		deed := shop.Deed{
			Kind: shop.PolicyPublished,
			Said: wording.Say(wording.PolicyPublished, wording.Values{"version": out.Version, "by": by.Name, "note": note}),
		}
		deed.Edited("policy", out.Version-1, out.Version)
		return []shop.Deed{deed}, nil, tx.SavePolicy(ctx, out)
	})
	if err != nil {
		return out, err
	}
	p.Version = out.Version
	s.policy.Store(p)
	select {
	case s.outdated <- struct{}{}:
	default: // it is under way, and looks for what is left
	}
	return out, nil
}

// JudgeAnew judges all drives whose last judgement was by another policy, whenever there are some, until the context ends.
func (s *Judge) JudgeAnew(ctx context.Context) {
	for {
		if n, err := s.RedecideAll(ctx); err != nil && ctx.Err() == nil {
			s.books.Log.Error(
				"judging drives by the new policy; the rest is judged when the service starts again", "judged", n, "error", err,
			)
		} else if n > 0 {
			s.books.Log.Info("judged by the policy in force", "drives", n, "policy", s.Policy().Version)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.outdated:
		}
	}
}

// batch is how many drives are judged in one change: a reading that comes in meanwhile waits that long at most.
const batch = 200

// RedecideAll judges anew every drive whose last judgement was by another policy, and gives how many. It judges on all cores, on
// what is stored, and then stores what came of a batch in one change; a drive that changed meanwhile is judged once more there.
// Judging while storing would be no quicker: SQLite cannot empty its log while somebody reads, and a long log slows every read.
func (s *Judge) RedecideAll(ctx context.Context) (int, error) {
	judged, after := 0, int64(0)
	for {
		version := s.Policy().Version
		all, err := s.store.Outdated(ctx, version, after, batch)
		if err != nil {
			return judged, err
		}
		if len(all) == 0 {
			if after == 0 {
				return judged, nil
			}
			after = 0 // once more from the first: a policy may have been published meanwhile
			continue
		}
		after = all[len(all)-1].ID
		some := assessed{drives: all}
		if some.all, err = s.reassessAll(ctx, all); err != nil {
			return judged, err
		}
		if err := s.settleAll(ctx, some, version); err != nil {
			return judged, err
		}
		judged += len(all)
	}
}

// assessed is some drives and what they are judged to be.
type assessed struct {
	drives []shop.Drive
	all    []assessment
}

// settleAll stores what came of some drives.
func (s *Judge) settleAll(ctx context.Context, some assessed, version int) error {
	_, err := shop.Apply(ctx, s.books, s.store, func(tx Tx) ([]shop.Event, error) {
		stands, err := tx.Standing(ctx, some.drives)
		if err != nil {
			return nil, err
		}
		var events []shop.Event
		for i, d := range some.drives {
			var more []shop.Event
			if stands[d.ID] && some.all[i].now.Policy == version {
				more, err = s.settleOn(ctx, tx, some.all[i])
			} else if d, err = tx.Drive(ctx, d.ID); err == nil {
				more, err = s.Redecide(ctx, tx, d)
			}
			if err != nil {
				return nil, fmt.Errorf("judging %s anew: %w", d.Identity.Serial, err)
			}
			events = append(events, more...)
		}
		return events, nil
	})
	return err
}

func (s *Judge) reassessAll(ctx context.Context, drives []shop.Drive) ([]assessment, error) {
	out := make([]assessment, len(drives))
	err := onAllCores(len(drives), atOnce, func(i int) error {
		var err error
		if out[i], _, err = s.reassess(ctx, s.store, drives[i]); err != nil {
			err = fmt.Errorf("judging %s anew: %w", drives[i].Identity.Serial, err)
		}
		return err
	})
	return out, err
}

// onAllCores does something for each number below n, and gives the first error by number. Each of its workers runs as it is told to:
// at once, or behind what people do.
func onAllCores(n int, as func(func() error) error, do func(i int) error) error {
	errs := make([]error, n)
	var all sync.WaitGroup
	var next atomic.Int64 // no channel: a thread of its own that waits for another costs more than what there is to do
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			_ = as(func() error {
				for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
					errs[i] = do(i)
				}
				return nil
			})
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func atOnce(f func() error) error { return f() }

// SetOutcome notes what became of a drive.
func (s *Judge) SetOutcome(ctx context.Context, by shop.Actor, d shop.Drive, o shop.Outcome) error {
	if o.At.IsZero() || o.At.After(s.books.Clock.Now().Add(24*time.Hour)) {
		return &shop.Invalid{
			What:   "an outcome needs a day that has been",
			Advice: "Say when it failed, or until when it is known to have worked.",
		}
	}
	o.Drive, o.By, o.Noted = d.ID, by.Name, s.books.Clock.Now()
	became := wording.OutcomeWorked
	if o.Failed {
		became = wording.OutcomeFailed
	}
	return shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		return []shop.Deed{
			{
				Kind:   shop.OutcomeNoted,
				Serial: d.Identity.Serial,
				Said:   wording.Say(became, wording.Values{"serial": d.Identity.Serial, "at": o.At.Format(time.RFC3339), "by": o.By}),
			},
		}, nil, tx.SaveOutcome(ctx, o)
	})
}

// Outcome gives what became of a drive; nil when nobody has noted it.
func (s *Judge) Outcome(ctx context.Context, d shop.Drive) (*shop.Outcome, error) {
	all, err := s.store.Outcomes(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// ReplayedDrive is a drive of which two policies say different things.
type ReplayedDrive struct {
	Drive shop.Drive
	verdict.Replayed
	Outcome *verdict.Outcome
	fate    risk.Fate          // of a known outcome
	told    [2][]alert.Telling // by the policy in force, by the draft
}

// Move counts drives that a draft takes from one grade to another, as they stand now.
type Move struct {
	Was, Would drive.Grade
	Drives     int
}

// ReplayResult is what a draft would have said over everything that was recorded.
type ReplayResult struct {
	Policy           int // in force
	Drives, Readings int
	Took             time.Duration
	Changed          int             // drives it says something else of at some time
	Shown            []ReplayedDrive // of these, those newly to be replaced first; mostReplayed at most
	Moves            []Move
	Was, Would       verdict.Score // on drives whose outcome is known
	Risk             RiskLearnt
	Watched          int          // drives under watch
	Told             []AlertsTold // of these, by week and kind: accepted levels are left out, and nobody settles anything
}

// AlertsTold is of how much somebody would have been told in a week.
type AlertsTold struct {
	Week       time.Time // its Monday, in UTC
	Kind       alert.Kind
	Was, Would int
}

// RiskLearnt is how the chance of failing is calibrated on the shop's outcomes, and how it does.
type RiskLearnt struct {
	risk.Calibration
	Words  string
	Tenths [10]risk.Tenth
}

// learnRisk calibrates the chance on the fates that are known. A calibration that differs is in force from the next verdicts on: what was
// said before stays as it was said.
func (s *Judge) learnRisk(ctx context.Context, by shop.Actor, fates []risk.Fate) (RiskLearnt, error) {
	k, _ := risk.Calibrate(fates)
	out := RiskLearnt{k, risk.Words(k, fates), risk.Reliability(fates)}
	if k == *s.risk.Load() {
		return out, nil
	}
	err := shop.Act(ctx, s.books, s.store, by, func(tx Tx) ([]shop.Deed, []shop.Event, error) {
		deed := shop.Deed{Kind: shop.PolicyReplayed, Said: wording.Say(wording.RiskCalibrated)}
		return []shop.Deed{deed}, nil, tx.SaveCalibration(ctx, s.books.Clock.Now(), k)
	})
	if err == nil {
		s.risk.Store(&k)
	}
	return out, err
}

// mostReplayed bounds what a replay keeps of single drives.
const mostReplayed = 500

// Replay runs a draft over the whole recorded history, drive by drive, beside the policy in force.
func (s *Judge) Replay(ctx context.Context, by shop.Actor, text []byte) (ReplayResult, error) {
	began := time.Now()
	out := ReplayResult{Policy: s.Policy().Version}
	p, err := draft(text)
	if err != nil {
		return out, err
	}
	known := map[int64]*verdict.Outcome{}
	outcomes, err := s.store.Outcomes(ctx, 0)
	if err != nil {
		return out, err
	}
	for i := range outcomes {
		known[outcomes[i].Drive] = &outcomes[i].Outcome
	}
	r := verdict.NewReplay(s.Policy(), p)
	moves := map[[2]drive.Grade]int{}
	told := map[AlertsTold][2]int{}
	var fates []risk.Fate
	after := ""
	for {
		drives, err := s.store.Drives(ctx, shop.Query{After: after, Limit: 500})
		if err != nil {
			return out, err
		}
		if len(drives) == 0 {
			break
		}
		after = drives[len(drives)-1].Identity.Serial
		replayed, err := s.replay(ctx, r, p, drives, known)
		if err != nil {
			return out, err
		}
		for i := range replayed {
			one := &replayed[i]
			if s.watched != nil && s.watched(one.Drive.ID) {
				out.Watched++
				countTold(told, one.told)
				one.told = [2][]alert.Telling{}
			}
			out.Drives++
			out.Readings += one.Readings
			if o := known[one.Drive.ID]; o != nil {
				one.Outcome = o
				if len(one.fate) > 0 {
					fates = append(fates, one.fate)
				}
				out.Was.Count(one.Was, *o)
				out.Would.Count(one.Would, *o)
			}
			if len(one.Differs) == 0 {
				continue
			}
			out.Changed++
			if last := one.Differs[len(one.Differs)-1]; last.Still {
				moves[[2]drive.Grade{last.Was.Grade, last.Would.Grade}]++
			}
			out.Shown = append(out.Shown, *one)
		}
		if len(out.Shown) > 2*mostReplayed {
			out.Shown = worst(out.Shown)
		}
	}
	out.Shown = worst(out.Shown)
	for m, n := range moves {
		out.Moves = append(out.Moves, Move{m[0], m[1], n})
	}
	slices.SortFunc(out.Moves, func(a, b Move) int {
		return (int(b.Would)-int(b.Was))*1000 + int(b.Would) - (int(a.Would)-int(a.Was))*1000 - int(a.Would)
	})
	for t, n := range told {
		t.Was, t.Would = n[0], n[1]
		out.Told = append(out.Told, t)
	}
	slices.SortFunc(out.Told, func(a, b AlertsTold) int {
		return cmp.Or(a.Week.Compare(b.Week), cmp.Compare(a.Kind, b.Kind))
	})
	out.Risk, err = s.learnRisk(ctx, by, fates)
	out.Took = time.Since(began)
	return out, err
}

// countTold adds of how much somebody would have been told of a drive.
func countTold(all map[AlertsTold][2]int, drive [2][]alert.Telling) {
	for by, told := range drive {
		for _, t := range told {
			day := t.At.UTC().Truncate(24 * time.Hour)
			week := AlertsTold{Week: day.AddDate(0, 0, -(int(day.Weekday())+6)%7), Kind: t.Thing.Kind}
			n := all[week]
			n[by]++
			all[week] = n
		}
	}
}

func worst(all []ReplayedDrive) []ReplayedDrive {
	slices.SortStableFunc(all, func(a, b ReplayedDrive) int { return verdict.Worst(a.Replayed, b.Replayed) })
	return slices.Clone(all[:min(len(all), mostReplayed)])
}

// counting counts the alerts of a drive's life by two policies; nil: it is not under watch.
func (s *Judge) counting(one *ReplayedDrive, draft *policy.Policy) func(verdict.Moment, func() verdict.Evidence, drive.Grade, drive.Grade) {
	if s.watched == nil || !s.watched(one.Drive.ID) {
		return nil
	}
	by := [2]*alert.Counter{alert.NewCounter(s.Policy(), one.Drive.ID, nil), alert.NewCounter(draft, one.Drive.ID, nil)}
	return func(m verdict.Moment, known func() verdict.Evidence, was, would drive.Grade) {
		for i, grade := range []drive.Grade{was, would} {
			one.told[i] = append(one.told[i], by[i].See(m, known, grade)...)
		}
	}
}

// replay runs over some drives, on all cores, behind what people do meanwhile.
func (s *Judge) replay(
	ctx context.Context, r *verdict.Replay, p *policy.Policy, drives []shop.Drive, known map[int64]*verdict.Outcome,
) ([]ReplayedDrive, error) {
	out := make([]ReplayedDrive, len(drives))
	err := onAllCores(len(drives), lowpriority.Do, func(i int) error {
		out[i].Drive = drives[i]
		moments, err := s.store.Moments(ctx, drives[i].ID)
		var life *verdict.Life
		if err == nil {
			life, err = s.Life(ctx, s.store, drives[i], moments)
		}
		if err == nil {
			if o := known[drives[i].ID]; o != nil {
				out[i].fate = verdict.Fate(life, drives[i].Identity, drives[i].Duty, *o)
			}
			out[i].Replayed, err = r.Over(life, drives[i].Identity, drives[i].Duty, s.counting(&out[i], p))
		}
		if err != nil {
			err = fmt.Errorf("replaying the life of %s: %w", drives[i].Identity.Serial, err)
		}
		return err
	})
	return out, err
}
