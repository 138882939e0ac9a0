package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"hylostat.example/internal/core/alert"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/demo"
)

// told is what somebody would have been told of one watched life.
type told struct {
	years   float64
	healthy bool      // nothing was wrong with it, to the end
	failed  time.Time // zero: it lived on, be it with a flaw
	all     []alert.Telling
}

// keepWatch reads every life at its interval, with an extended check each month, and counts the alerts of the policy. Nobody takes,
// settles or accepts anything.
func keepWatch(p *policy.Policy, lives int, seed uint64, every time.Duration) ([]told, error) {
	return everyLife(lives, seed, func(reader *demo.Reader, r *rand.Rand) (told, error) { return watchOne(p, reader, r, every) })
}

func watchOne(p *policy.Policy, reader *demo.Reader, r *rand.Rand, every time.Duration) (told, error) {
	l, mode := newLife(r)
	t := told{failed: l.failed, healthy: mode == 0 && l.failed.IsZero()}
	var moments []time.Time
	checked := map[int]bool{}
	for at, month := began.Add(time.Duration(r.Float64()*float64(every))), began; at.Before(l.end()); at = at.Add(every) {
		if at.Sub(month) > 30*24*time.Hour {
			month, checked[len(moments)] = at, true
		}
		moments = append(moments, at.Truncate(time.Second))
	}
	if len(moments) == 0 {
		return t, nil
	}
	t.years = l.end().Sub(moments[0]).Hours() / 8766
	seen := false
	known, ids, _, err := read(reader, r, &l, moments, checked, &seen)
	if err != nil {
		return t, err
	}
	c, n := alert.NewCounter(p, 1, nil), 0
	replay := verdict.NewReplay(p, p)
	replay.Every = true
	see := func(m verdict.Moment, known func() verdict.Evidence, was, _ drive.Grade) {
		id := ids[n]
		n++
		t.all = append(t.all, c.See(m, func() verdict.Evidence { e := known(); e.Identity = id; return e }, was)...)
	}
	_, err = replay.Over(verdict.NewLife(known, nil), ids[0], l.duty, see)
	return t, err
}

// sum is of one kind of alert.
type sum struct{ healthy, flawed, failing, early, again int }

// tellWatch prints the alerts by kind for each drive-year.
func tellWatch(all []told, every, took time.Duration) {
	kinds := map[alert.Kind]*sum{}
	var years [3]float64 // healthy, with a flaw and living on, failing
	var whole sum
	failed, warned := 0, 0
	for i := range all {
		t := &all[i]
		of := 1
		switch {
		case t.healthy:
			of = 0
		case !t.failed.IsZero():
			of = 2
			failed++
		}
		years[of] += t.years
		ahead := false
		for _, x := range t.all {
			if kinds[x.Thing.Kind] == nil {
				kinds[x.Thing.Kind] = &sum{}
			}
			early := of == 2 && t.failed.Sub(x.At) >= 24*time.Hour
			ahead = ahead || early
			for _, k := range []*sum{kinds[x.Thing.Kind], &whole} {
				*[]*int{&k.healthy, &k.flawed, &k.failing}[of]++
				k.early += flag01(early)
				k.again += flag01(x.Again)
			}
		}
		warned += flag01(ahead)
	}
	fmt.Printf(
		"%.0f drive-years of %d drives (%.0f healthy, %.0f flawed and living on, %.0f failing), read every %s; %.0f s\n\n",
		years[0]+years[1]+years[2], len(all), years[0], years[1], years[2], every, took.Seconds(),
	)
	w := table.NewWriter()
	w.SetOutputMirror(os.Stdout)
	w.AppendHeader(table.Row{"alerts a drive-year", "healthy", "flawed", "failing", "of these a day ahead", "known and told again"})
	row := func(name any, k *sum) {
		per := func(n, of int) string { return fmt.Sprintf("%.3f", float64(n)/max(years[of], 1e-9)) }
		w.AppendRow(table.Row{name, per(k.healthy, 0), per(k.flawed, 1), per(k.failing, 2), share(k.early, k.failing), k.again})
	}
	for _, kind := range []alert.Kind{alert.Verdict, alert.Signal, alert.Heat, alert.SelfTest} {
		if k := kinds[kind]; k != nil {
			row(kind, k)
		}
	}
	row("all", &whole)
	w.Render()
	fmt.Printf("\nof the drives that failed %s were told of a day before, or earlier\n", share(warned, failed))
	most := slices.MaxFunc(all, func(a, b told) int { return len(a.all) - len(b.all) })
	fmt.Printf("most of one drive: %d in %.1f years\n", len(most.all), most.years)
}

func flag01(is bool) int {
	if is {
		return 1
	}
	return 0
}
