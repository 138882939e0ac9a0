// Command judge lets thousands of made-up drives live and fail, reads them at the odd times a shop does, and tells how the policy
// would have done beside three simple ways to judge. The lives come from one seed that nobody tunes to: make judge.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/demo"
)

// ways are the ways to judge: the policy at its two words, and the baselines.
var ways = []string{"replace", "degrading or replace", "its own alarm", "attributes under threshold", "any bad counter"}

const (
	byReplace = iota
	byDegrading
	byAlarm
	byThreshold
	byAny
)

// bad are the counters of which people say that any is too many.
var bad = []signal.Name{
	signal.Reallocated,
	signal.Pending,
	signal.UncorrectableOffline,
	signal.ReportedUncorrectable,
	signal.MediaErrors,
	signal.GrownDefects,
	signal.ReallocationEvents,
	signal.SpinUpRetries,
	signal.CommandTimeouts,
	signal.EndToEndErrors,
	signal.CRCErrors,
}

// fate is what came of one life.
type fate struct {
	mode     int
	readings int
	seen     bool // it was read at least once while something could be seen
	failed   bool
	end      time.Time
	alarms   [5]time.Time
	rule     string // that said "replace" first

	features [][]float64 // of each reading
	risks    []float64   // of each reading
}

func main() {
	lives, seed := flag.Int("lives", 5000, "how many"), flag.Uint64("seed", 20261125, "of all chance")
	watched := flag.Duration("watch", 0, "keep watch instead, and read each drive every so `long`")
	file := flag.String("policy", "", "judge by the policy in this `file`, not by the one that is shipped")
	flag.Parse()
	text, err := policy.Default, error(nil)
	if *file != "" {
		text, err = os.ReadFile(*file)
	}
	var p *policy.Policy
	if err == nil {
		p, err = policy.Parse(text)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "judge:", err)
		os.Exit(1)
	}
	began := time.Now()
	if *watched > 0 {
		all, err := keepWatch(p, *lives, *seed, *watched)
		if err != nil {
			fmt.Fprintln(os.Stderr, "judge:", err)
			os.Exit(1)
		}
		tellWatch(all, *watched, time.Since(began))
		return
	}
	fates, err := judge(verdict.NewJudge(p), *lives, *seed)
	if err != nil {
		fmt.Fprintln(os.Stderr, "judge:", err)
		os.Exit(1)
	}
	tell(fates, p, *seed, time.Since(began))
}

// judge lives all lives.
func judge(j *verdict.Judge, lives int, seed uint64) ([]fate, error) {
	return everyLife(lives, seed, func(reader *demo.Reader, r *rand.Rand) (fate, error) { return live(j, reader, r) })
}

// everyLife does something with each life, on all cores. The chance of each is its own.
func everyLife[T any](lives int, seed uint64, do func(*demo.Reader, *rand.Rand) (T, error)) ([]T, error) {
	out, errs := make([]T, lives), make([]error, lives)
	next := make(chan int)
	var all sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			reader := demo.NewReader()
			for i := range next {
				out[i], errs[i] = do(reader, rand.New(rand.NewPCG(seed, uint64(i))))
			}
		})
	}
	for i := range lives {
		next <- i
	}
	close(next)
	all.Wait()
	for i, err := range errs {
		if err != nil {
			return nil, fmt.Errorf("life %d: %w", i, err)
		}
	}
	return out, nil
}

// newLife makes up a drive and what becomes of it; the number is of its mode.
func newLife(r *rand.Rand) (l life, n int) {
	x := r.Float64()
	for x -= modes[0].share; x > 0 && n+2 < len(modes); x -= modes[n].share {
		n++
	}
	modes[n].make(r, &l)
	if l.dies(r) {
		n = len(modes) - 1
	}
	l.duty = drive.Everyday // a stricter duty is about fitness, not about failing
	return l, n
}

// read reads a drive at some moments, and gives what it told; fell: whether some attribute is, or was, at or below its threshold.
func read(reader *demo.Reader, r *rand.Rand, l *life, moments []time.Time, checked map[int]bool, seen *bool) (
	known []verdict.Moment, ids []drive.Identity, fell []bool, _ error,
) {
	var swept []signal.Swept
	tests := l.spec.Tests // newest first
	for i, at := range moments {
		if !l.onset.IsZero() && at.After(l.onset) {
			*seen = true
		}
		hours := l.hours(at)
		if checked[i] {
			tests = slices.Insert(tests, 0, l.test(ata.TestShort, hours-0.3))
			if r.IntN(2) == 0 || l.checks { // an extended check
				tests = slices.Insert(tests, 0, l.test(ata.TestExtended, hours-0.1))
				swept = slices.Insert(swept, 0, signal.Swept{Whole: true, Hours: math.Floor(hours), Source: "whole sweep"})
			}
		}
		spec := l.spec
		spec.Tests = tests
		spec.Awkward.Garbage = l.from > 0 && hours >= l.from
		if l.knock > 0 && hours >= l.knock {
			spec = demo.Let(spec, 187, sim.Course{From: math.Ceil(l.knocked / 4)})
			if hours < l.knock+l.waits {
				spec = demo.Let(spec, 197, sim.Course{From: l.knocked})
			} else {
				spec = demo.Let(spec, 5, sim.Course{From: l.knocked})
			}
		}
		pages, _, err := reader.Read(context.Background(), spec, at)
		if err != nil {
			return nil, nil, nil, err
		}
		l.spoil(r, i, pages)
		decoded := reading.Decode(pages)
		set := signal.Of(&decoded)
		if len(swept) > 0 && swept[0].Hours == math.Floor(hours) { // it finds what waits
			swept[0].Unreadable = set[signal.Pending].Number
		}
		set.Sweep(swept)
		if v := set[signal.AttributesFailing]; v.Number > 0 { // a drive's alarm follows its thresholds
			set[signal.Alarm] = signal.Value{Number: 1, Available: true}
		}
		fell = append(
			fell,
			slices.ContainsFunc(
				decoded.Attributes,
				func(a reading.Attribute) bool { return a.State() == reading.Failing || a.State() == reading.FellBefore },
			),
		)
		known, ids = append(known, verdict.Moment{Seq: i + 1, At: at, Signals: signal.ValuesOf(set)}), append(ids, decoded.Identity)
	}
	return known, ids, fell, nil
}

// live lives one life, reads it when the shop would, and asks every way to judge.
func live(j *verdict.Judge, reader *demo.Reader, r *rand.Rand) (fate, error) {
	l, n := newLife(r)
	f := fate{mode: n, failed: !l.failed.IsZero(), end: l.end()}
	moments, checked := visits(r, &l)
	f.readings = len(moments)
	known, ids, fell, err := read(reader, r, &l, moments, checked, &f.seen)
	if err != nil {
		return f, err
	}
	walk := verdict.NewLife(known, nil).Walk()
	hear := func(way int, alarm bool, at time.Time) {
		if alarm && f.alarms[way].IsZero() {
			f.alarms[way] = at
		}
	}
	for i, m := range known {
		set := signal.Set{}
		m.Signals.Into(set)
		has := func(n signal.Name) bool { x, _ := m.Signals.Get(n); return x > 0 }
		e := walk.Evidence(ids[i], l.duty, set, i)
		ruling, err := j.Judge(e)
		if err != nil {
			return f, err
		}
		f.features = append(f.features, features(e))
		f.risks = append(f.risks, verdict.Facts(e).Risk)
		if ruling.Grade == drive.Replace && f.rule == "" {
			f.rule = ruling.Rule.ID
		}
		hear(byReplace, ruling.Grade == drive.Replace, m.At)
		hear(byDegrading, ruling.Grade >= drive.Degrading, m.At)
		hear(byAlarm, has(signal.Alarm), m.At)
		hear(byThreshold, fell[i], m.At)
		hear(byAny, slices.ContainsFunc(bad, has), m.At)
	}
	return f, nil
}

func sortTimes(all []time.Time) { slices.SortFunc(all, time.Time.Compare) }

// tell prints what came of it.
func tell(fates []fate, p *policy.Policy, seed uint64, took time.Duration) {
	readings := 0
	for _, f := range fates {
		readings += f.readings
	}
	fmt.Printf("%d lives, seed %d, %d readings, %.0f s; policy %d, %s\n\n", len(fates), seed, readings, took.Seconds(), p.Version, p.Name)
	writer := func(head ...any) table.Writer {
		t := table.NewWriter()
		t.SetStyle(table.StyleLight)
		t.AppendHeader(head)
		return t
	}
	head := []any{"failed by", "lives", "read in time"}
	for _, w := range ways {
		head = append(head, w)
	}
	failing, sound := writer(
		append(head, "ahead: replace", "ahead: degrading")...), writer(
		append([]any{"lived on", "lives"}, head[3:]...)...)
	var scores [5]verdict.Score
	for n, m := range modes {
		var lives, seen int
		var one [5]verdict.Score
		failed := false
		for _, f := range fates {
			if f.mode != n {
				continue
			}
			lives++
			failed = f.failed
			if f.seen {
				seen++
			}
			for w := range ways {
				one[w].Count(verdict.Alarms{Replace: f.alarms[w]}, verdict.Outcome{Failed: f.failed, At: f.end})
				scores[w].Count(verdict.Alarms{Replace: f.alarms[w]}, verdict.Outcome{Failed: f.failed, At: f.end})
			}
		}
		row := table.Row{m.name, lives}
		if failed {
			row = append(row, seen)
		}
		for w := range ways {
			row = append(row, share(one[w].Hits+one[w].FalseAlarms, lives))
		}
		if !failed {
			sound.AppendRow(row)
			continue
		}
		failing.AppendRow(append(row, ahead(one[byReplace]), ahead(one[byDegrading])))
	}
	fmt.Println("Detection: of those that failed, how many had been called so before")
	fmt.Println(failing.Render())
	fmt.Println("\nFalse alarms: of those that lived on, how many were called so")
	fmt.Println(sound.Render())
	fmt.Println("\nWhich rule said \"replace\" first")
	fmt.Println(byRule(fates, writer("rule", "then failed", "lived on")).Render())
	all := writer("way to judge", "detected", "false alarms", "ahead, median")
	for w, name := range ways {
		s := &scores[w]
		all.AppendRow(
			table.Row{
				name,
				fmt.Sprintf("%s of %d", share(s.Hits, s.Failed), s.Failed),
				fmt.Sprintf("%s of %d", share(s.FalseAlarms, s.Sound), s.Sound),
				ahead(*s),
			},
		)
	}
	fmt.Println("\nAltogether")
	fmt.Println(all.Render())
	// Each simple way is held against the word of the policy that alarms about as seldom: more detected, at no more false alarms.
	for _, pair := range [][2]int{{byReplace, byAlarm}, {byReplace, byThreshold}, {byDegrading, byAny}} {
		a, b := &scores[pair[0]], &scores[pair[1]]
		how := "beats"
		if a.Hits <= b.Hits || a.FalseAlarms > b.FalseAlarms {
			how = "does not beat"
		}
		fmt.Printf(
			"%q %s %q: %d and %d detected, %d and %d false alarms\n", ways[pair[0]], how, ways[pair[1]], a.Hits, b.Hits,
			a.FalseAlarms, b.FalseAlarms,
		)
	}
	replace, degrading := limits(fates)
	fmt.Println(
		"\nBeside a logistic regression fitted on the even lives, on the odd ones, at the same false alarms: the limit of what " +
			"the signals tell",
	)
	bound := writer("word", "false alarms", "policy finds", "risk alone finds", "regression finds", "policy's share of it")
	for _, x := range []struct {
		word string
		limit
	}{{"replace", replace}, {"degrading or replace", degrading}} {
		bound.AppendRow(
			table.Row{
				x.word,
				share(x.falseAlarms, x.sound),
				share(x.way, x.failed),
				share(x.risk, x.failed),
				share(x.found, x.failed),
				fmt.Sprintf("%.2f", x.share()),
			},
		)
	}
	fmt.Println(bound.Render())
	byMode := writer("failed by", "replace: policy", "regression", "degrading or replace: policy", "regression")
	for n, m := range modes {
		if a, b := replace.modes[n], degrading.modes[n]; a[0] > 0 {
			byMode.AppendRow(table.Row{m.name, share(a[1], a[0]), share(a[2], a[0]), share(b[1], b[0]), share(b[2], b[0])})
		}
	}
	fmt.Println(byMode.Render())
	fmt.Println("Nobody can see sudden electronic death coming; what is called so there had other signs by chance.")
}

// byRule counts by the rule that said "replace" first, the most telling one first.
func byRule(fates []fate, t table.Writer) table.Writer {
	counts := map[string]*[2]int{}
	for _, f := range fates {
		if f.rule == "" {
			continue
		}
		if counts[f.rule] == nil {
			counts[f.rule] = &[2]int{}
		}
		if f.failed {
			counts[f.rule][0]++
		} else {
			counts[f.rule][1]++
		}
	}
	rules := slices.Collect(maps.Keys(counts))
	slices.SortFunc(rules, func(a, b string) int { return cmp.Or(cmp.Compare(counts[b][0], counts[a][0]), cmp.Compare(a, b)) })
	for _, r := range rules {
		t.AppendRow(table.Row{r, counts[r][0], counts[r][1]})
	}
	return t
}

// ahead is by how much the hits came before the event: half of them, with the quartiles.
func ahead(s verdict.Score) string {
	if s.Hits == 0 {
		return "-"
	}
	days := func(share float64) float64 { return s.Quantile(share).Hours() / 24 }
	return fmt.Sprintf("%.0f d (%.0f to %.0f)", days(0.5), days(0.75), days(0.25))
}

func share(n, of int) string {
	if of == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(of))
}
