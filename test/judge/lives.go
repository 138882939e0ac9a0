package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/demo"
)

// window is how long every drive is lived, unless it fails before.
const window = 3 * 365 * 24 * time.Hour

var began = time.Date(2023, 1, 1, 8, 0, 0, 0, time.UTC)

// life is a made-up drive with what becomes of it.
type life struct {
	spec   sim.Spec
	duty   drive.Duty
	onset  time.Time // when it began to go wrong; zero: it did not, or nobody could see it
	failed time.Time // zero: it works to the end of the window
	from   float64   // power-on hours from which its SMART data comes garbled; 0: never
	broken bool      // its servo or electronics fail its own test from the onset on

	knock, knocked float64 // power-on hours at which it lost so many sectors, once
	waits          float64 // for so many hours they wait to be written, and fail its tests; then they are reallocated

	holes  float64 // the share of readings in which a page is missing
	wild   int     // one reading, by its number from 1, that is garbage; 0: none
	checks bool    // it is checked at every visit, with an extended check
}

func (l *life) end() time.Time {
	if l.failed.IsZero() {
		return began.Add(window)
	}
	return l.failed
}

// hours is the power-on hours at a moment.
func (l *life) hours(at time.Time) float64 { return l.spec.Hours + at.Sub(began).Hours()*l.spec.Share }

// A mode is one way to live, or to fail.
type mode struct {
	name  string
	share float64 // of all lives
	make  func(r *rand.Rand, l *life)
}

// between draws a time on a logarithmic scale, in hours.
func between(r *rand.Rand, least, most float64) float64 {
	return math.Exp(math.Log(least) + r.Float64()*(math.Log(most)-math.Log(least)))
}

// fails lets a drive fail at some time of the window, and gives the power-on hours since it began to go wrong, lead being the
// calendar's hours before.
func (l *life) fails(r *rand.Rand, lead float64) (onset, last float64) {
	l.failed = began.Add(time.Duration((0.1 + 0.9*r.Float64()) * float64(window))).Truncate(time.Second)
	l.onset = l.failed.Add(-time.Duration(lead * float64(time.Hour)))
	if l.onset.Before(began) {
		l.onset = began
	}
	return l.hours(l.onset), l.hours(l.failed)
}

// defects lets sectors go bad between two power-on hours, so many in all, in some steps; each waits until it is written.
func (l *life) defects(r *rand.Rand, from, to, count float64) {
	steps := 4 + float64(r.IntN(26))
	s := &l.spec
	s.Defects = sim.Course{Start: from, Every: max(0.5, (to-from)/steps), Step: int(max(1, 2*count/steps))}
	s.Wait = between(r, 20, 2000)
	if s.SCSI != nil {
		s.SCSI.Grown = s.Defects
		if r.IntN(2) == 0 {
			s.SCSI.Uncorrected = sim.Course{Start: from, Every: max(1, (to-from)/6), Step: 2}
		}
		return
	}
	s.Unread, s.FirstLBA = sim.Course{Start: from, Every: s.Defects.Every, Step: s.Defects.Step}, uint32(r.IntN(200_000_000))
	for i := range s.Counters {
		switch s.Counters[i].ID {
		case 5:
			s.Counters[i].Kind = sim.Reallocated
		case 197:
			s.Counters[i].Kind = sim.Waiting
		}
	}
	if r.IntN(3) > 0 {
		*s = demo.Let(*s, 187, sim.Course{Start: from, Every: max(1, (to-from)/5), Step: 3})
	}
}

// spoil makes of a reading what adapters and cables make of it: a page is missing, or comes as all ones or all zeros.
func (l *life) spoil(r *rand.Rand, n int, pages []reading.Page) {
	hole, which, ones := r.Float64() < l.holes, r.IntN(1<<16), r.IntN(2) == 0
	var some []int
	for i := range pages {
		if pages[i].Fault == nil && pages[i].Name != reading.PageIdentify && pages[i].Name != reading.PageInquiry &&
			pages[i].Name != reading.PageController &&
			pages[i].Name != reading.PageVPD(scsi.VPDSerial) {
			some = append(some, i)
		}
	}
	if len(some) == 0 {
		return
	}
	if hole {
		p := &pages[some[which%len(some)]]
		p.Bytes, p.Fault = nil, &drive.Fault{Class: drive.FaultNoAnswer, What: p.Name.Title(), Cause: "no answer"}
	}
	if l.wild == n+1 {
		for _, i := range some {
			garbage := make([]byte, len(pages[i].Bytes))
			for k := range garbage {
				garbage[k] = byte(0xFF * int(truth(ones)))
			}
			if pages[i].Fault == nil {
				pages[i].Bytes = garbage
			}
		}
	}
}

func spinning(r *rand.Rand, l *life) {
	l.spec = demo.Build([]string{"K4", "K4", "K2", "TB"}[r.IntN(4)], ending(r), between(r, 100, 40_000), began)
}

func flash(r *rand.Rand, l *life) {
	l.spec = demo.Build([]string{"EE", "HN"}[r.IntN(2)], ending(r), between(r, 100, 25_000), began)
}

func anyKind(r *rand.Rand, l *life) {
	switch r.IntN(10) {
	case 0:
		l.spec = demo.Build("OS", ending(r), between(r, 1000, 45_000), began)
	case 1, 2, 3:
		flash(r, l)
	default:
		spinning(r, l)
	}
}

func ending(r *rand.Rand) string { return fmt.Sprintf("%05X", r.IntN(1<<20)) }

// modes are how drives live and fail, with shares a shop may meet: its drives are symptomatic, so many fail, and many that look ill
// live on; a third of those that fail show nothing before (over half did in FAST 2007, in a population that was not symptomatic). They
// were written down before the first run and are not fitted to what comes out.
var modes = []mode{
	{"sound", 0.24, anyKind},
	{"sound, an old flaw", 0.05, func(r *rand.Rand, l *life) {
		spinning(r, l)
		l.spec = demo.Let(l.spec, 5, sim.Course{From: float64(1 + r.IntN(20))})
	}},
	{"sound, an old flaw, checked", 0.04, func(r *rand.Rand, l *life) {
		spinning(r, l)
		l.spec, l.checks = demo.Let(l.spec, 5, sim.Course{From: float64(1 + r.IntN(20))}), true
	}},
	{"sound, flash errors now and then", 0.04, func(r *rand.Rand, l *life) { // common, and recurring (FAST 2016)
		flash(r, l)
		errors := sim.Course{From: float64(r.IntN(24)), Start: l.spec.Hours, Every: between(r, 1500, 8000), Step: 1}
		if l.spec.NVMe != nil {
			l.spec.NVMe.Media = errors
			return
		}
		l.spec = demo.Let(demo.Let(l.spec, 187, errors), 5, sim.Course{From: float64(r.IntN(6))})
	}},
	{"sound, one bad day", 0.10, func(r *rand.Rand, l *life) { // a knock, or the power went: some sectors, then nothing more
		spinning(r, l)
		at := l.hours(began.Add(time.Duration(r.Float64() * float64(window))))
		l.knock, l.knocked, l.waits = at, float64(1+r.IntN(12)), between(r, 20, 2000)
	}},
	{"sound, a weak power supply", 0.02, func(r *rand.Rand, l *life) {
		spinning(r, l)
		l.spec = demo.Let(l.spec, 10, sim.Course{From: float64(r.IntN(4)), Start: l.spec.Hours, Every: between(r, 800, 6000), Step: 1})
	}},
	{"sound, a page of its own wrong", 0.01, func(r *rand.Rand, l *life) { // a fault of its firmware, from some day on
		spinning(r, l)
		l.from = l.hours(began.Add(time.Duration(r.Float64() * float64(window))))
	}},
	{"sound, some blocks retired", 0.03, func(r *rand.Rand, l *life) { // most flash drives have some (FAST 2016)
		flash(r, l)
		if l.spec.NVMe != nil {
			l.spec.NVMe.Spare = sim.Course{From: float64(r.IntN(8)), Start: l.spec.Hours, Every: 4000, Step: 1}
			return
		}
		retired := sim.Course{From: float64(r.IntN(40)), Start: l.spec.Hours, Every: between(r, 1500, 9000), Step: 2}
		l.spec = demo.Let(demo.Let(l.spec, 5, retired), 171, retired)
	}},
	{
		"sound, several bad days",
		0.06,
		func(r *rand.Rand, l *life) { // some sectors, and some more a year later; most such drives live on (FAST 2007)
			spinning(r, l)
			for i := range l.spec.Counters {
				switch l.spec.Counters[i].ID {
				case 5:
					l.spec.Counters[i].Kind = sim.Reallocated
				case 197:
					l.spec.Counters[i].Kind = sim.Waiting
				}
			}
			l.spec.Defects, l.spec.Wait = sim.Course{
				Start: l.spec.Hours,
				Every: between(r, 2500, 9000),
				Step:  1 + r.IntN(8),
			}, between(r, 20, 1000)
		},
	},
	{"sound, slowly growing", 0.05, func(r *rand.Rand, l *life) { // and outliving the window
		spinning(r, l)
		l.spec = demo.Let(l.spec, 5, sim.Course{Start: l.spec.Hours, Every: 2500, Step: 1})
	}},
	{"sound, trouble on the link", 0.05, func(r *rand.Rand, l *life) {
		spinning(r, l)
		l.spec = demo.Let(l.spec, 199, sim.Course{From: float64(r.IntN(40)), Start: l.spec.Hours, Every: between(r, 40, 800), Step: 30})
		l.spec = demo.Let(l.spec, 188, sim.Course{Start: l.spec.Hours, Every: 1500, Step: 1})
	}},
	{"sound, too hot", 0.04, func(r *rand.Rand, l *life) {
		spinning(r, l)
		for i := range l.spec.Counters { // most drives have a threshold for that, which condemns nothing
			if l.spec.Counters[i].ID == 194 {
				l.spec.Counters[i].Threshold = 45
			}
		}
		l.spec.Heat = sim.Heat{Base: 52 + 12*r.Float64(), Wave: 3, Noise: 1}
	}},
	{"sound, counters wiped", 0.02, func(r *rand.Rand, l *life) {
		spinning(r, l)
		l.spec.Wiped = l.spec.Hours - 1
	}},
	{"flash chips failing", 0.02, func(r *rand.Rand, l *life) {
		flash(r, l)
		from, to := l.fails(r, between(r, 10*24, 300*24))
		blocks := sim.Course{Start: from, Every: max(1, (to-from)/between(r, 2, 12)), Step: int(between(r, 4, 60))}
		if l.spec.NVMe != nil {
			l.spec.NVMe.Media, l.spec.NVMe.Spare = blocks, sim.Course{Start: from, Every: max(1, (to-from)/10), Step: 8}
			return
		}
		l.spec = demo.Let(demo.Let(l.spec, 5, blocks), 171, blocks)
		if r.IntN(2) == 0 {
			l.spec = demo.Let(l.spec, 187, sim.Course{Start: from, Every: max(1, (to-from)/6), Step: 4})
		}
	}},
	{"media defects in clusters", 0.03, func(r *rand.Rand, l *life) { // few and large, as errors cluster (SIGMETRICS 2007)
		spinning(r, l)
		from, to := l.fails(r, between(r, 10*24, 400*24))
		l.defects(r, from, to, between(r, 20, 2000))
		l.spec.Defects.Every = max(1, (to-from)/between(r, 1, 5))
	}},
	{"growing media defects", 0.08, func(r *rand.Rand, l *life) {
		spinning(r, l)
		if r.IntN(8) == 0 {
			l.spec = demo.Build("OS", ending(r), between(r, 1000, 45_000), began)
		}
		from, to := l.fails(r, between(r, 5*24, 500*24))
		l.defects(r, from, to, between(r, 4, 3000))
	}},
	{"loss of a head", 0.03, func(r *rand.Rand, l *life) {
		spinning(r, l)
		from, to := l.fails(r, between(r, 12, 20*24))
		l.defects(r, from, to, between(r, 200, 20_000))
		l.broken = r.IntN(2) == 0
	}},
	{"bad firmware pages", 0.02, func(r *rand.Rand, l *life) {
		spinning(r, l)
		from, _ := l.fails(r, between(r, 24, 90*24))
		l.from = from
	}},
	{"motor", 0.02, func(r *rand.Rand, l *life) {
		spinning(r, l)
		from, to := l.fails(r, between(r, 10*24, 300*24))
		l.spec = demo.Let(l.spec, 10, sim.Course{Start: from, Every: max(1, (to-from)/5), Step: 2})
		l.broken = r.IntN(3) == 0
	}},
	{"wear-out", 0.03, func(r *rand.Rand, l *life) {
		flash(r, l)
		l.spec.Share = 0.8
		from, to := l.fails(r, between(r, 20*24, 200*24))
		l.spec.Used = sim.Course{Rate: (92 + 20*r.Float64()) / to}
		errors := sim.Course{Start: from, Every: max(1, (to-from)/8), Step: 3}
		if l.spec.NVMe != nil {
			l.spec.NVMe.Media, l.spec.NVMe.Spare = errors, sim.Course{Start: from, Every: max(1, (to-from)/30), Step: 6}
			return
		}
		l.spec = demo.Let(demo.Let(l.spec, 187, errors), 5, errors)
	}},
	{"media defects, counters wiped before", 0.02, func(r *rand.Rand, l *life) {
		spinning(r, l)
		from, to := l.fails(r, between(r, 30*24, 500*24))
		l.defects(r, from, to, between(r, 4, 800))
		l.spec.Wiped = from + r.Float64()*(to-from)
	}},
	{"sudden electronic death", 0, nil}, // takes its share of those that would have lived on, whatever they showed
}

// sudden is the share of drives that would live on and die of their electronics, without a sign.
const sudden = 0.2

// dies lets a drive that would live on die suddenly, or not.
func (l *life) dies(r *rand.Rand) bool {
	if !l.failed.IsZero() || r.Float64() >= sudden {
		return false
	}
	l.fails(r, 0)
	l.onset = time.Time{}
	return true
}

// visits are the moments at which the shop reads a drive: it comes with a trouble, stays an afternoon, is away for months, comes
// again; a few stay attached and are read every week. Nothing is read after it has failed.
func visits(r *rand.Rand, l *life) (all []time.Time, checked map[int]bool) {
	end := l.end()
	var arrivals []time.Time
	first := began.Add(time.Duration(r.Float64() * float64(end.Sub(began))))
	if r.IntN(4) == 0 { // behind an adapter, or a cable, that does not always bring everything
		l.holes = 0.1
	}
	if r.IntN(8) == 0 {
		l.wild = 1 + r.IntN(6)
	}
	for at := first; at.Before(end); at = at.Add(time.Duration(r.ExpFloat64() * float64(8*30*24*time.Hour))) {
		arrivals = append(arrivals, at)
	}
	if !l.onset.IsZero() && r.IntN(10) < 6 { // it is brought because it troubles somebody
		arrivals = append(arrivals, l.onset.Add(time.Duration(r.Float64()*float64(end.Sub(l.onset)))))
	}
	if r.IntN(5) == 0 {
		for at := first; at.Before(end); at = at.Add(7 * 24 * time.Hour) {
			arrivals = append(arrivals, at)
		}
	}
	sortTimes(arrivals)
	checked = map[int]bool{}
	for _, at := range arrivals {
		for _, later := range []time.Duration{0, 40 * time.Minute, time.Duration(26+r.IntN(40)) * time.Hour} {
			moment := at.Add(later).Truncate(time.Second)
			if later > time.Hour && r.IntN(10) >= 4 || !moment.Before(end) || len(all) > 0 && !moment.After(all[len(all)-1]) {
				continue
			}
			if later == 40*time.Minute {
				checked[len(all)] = true
			}
			all = append(all, moment)
		}
	}
	return all, checked
}

// test is what the drive's own test says at some hours.
func (l *life) test(number uint8, hours float64) ata.SelfTest {
	t := ata.SelfTest{Number: number, Hours: uint16(hours)}
	switch onset := l.hours(l.onset); {
	case l.broken && !l.onset.IsZero() && hours >= onset:
		t.Status, t.Remaining = ata.TestServo, 90
	case l.knock > 0 && hours >= l.knock && hours < l.knock+l.waits:
		t.Status, t.Remaining, t.LBA, t.HasLBA = ata.TestRead, 60, 4711, true
	case l.spec.Unread.At(hours, l.spec.Seed) > l.spec.Unread.At(0, l.spec.Seed):
		t.Status, t.Remaining, t.LBA, t.HasLBA = ata.TestRead, 60, uint64(l.spec.FirstLBA), true
	}
	return t
}
