package watch

import (
	"cmp"
	"slices"
	"time"

	"github.com/teambition/rrule-go"

	"hylostat.example/internal/core/drive"
)

// Drive is what the planner has to know of a watched drive.
type Drive struct {
	ID       int64
	Key      drive.Key
	Bench    string
	Plan     int64     // by its number, the narrowest there is for the drive
	Since    time.Time // it has been watched by that plan since
	Attached bool      // in a bay, and answering
	Asleep   bool      // found so when it was asked last
	AtRisk   bool      // its data is wanted and not copied
	Taken    bool      // somebody's own run goes on there, or waits for its turn
	Told     time.Time // when it told its counters last; zero: never
	Reads    bool      // a reading for the watch is on its way
	Doing    Task      // what loads it for the watch, under way; Reading: nothing does
	Waits    bool      // the sweep it does is made to wait by the watch
	Did      [tasks]Did
	Takes    [tasks]time.Duration // about

	known known
}

// known is until when nothing is due for a drive as it stands, so that nobody works it out again before.
type known struct {
	plan        *compiled
	since       time.Time
	did         [tasks]Did
	from, until time.Time
	shares      [tasks]float64
	hashed      bool
}

// rests reports whether nothing is due for a drive, as was worked out before.
func (k *known) rests(c *compiled, d *Drive, now time.Time) bool {
	return now.Before(k.until) && k.plan == c && !now.Before(k.from) && k.since.Equal(d.Since) && k.did == d.Did
}

// Did is how a drive stands with a task.
type Did struct {
	Slot  time.Time // the newest that was begun; zero: none
	At    time.Time // when it was done last, by whomever and whatever for; zero: never
	Tried time.Time // when it could not begin; zero: that did not happen
}

// What an order is about.
type Verb string

// The verbs.
const (
	Begin  Verb = "begin"
	Pause  Verb = "pause" // the sweep that goes on: its window closes
	Resume Verb = "resume"
	Stop   Verb = "stop" // what goes on: it must not any more
)

// Order is one thing to have a bench do now.
type Order struct {
	Verb  Verb
	Drive int64
	Task  Task
	Slot  time.Time // of a Begin: when it came due, once for all; it is kept with the drive as Did.Slot
	Wake  bool      // the reading is to wake the drive
}

// againAfter is how long the planner leaves a drive alone that could not begin something.
const againAfter = time.Minute

// spread is how far the times of a rule are spread over the drives of a plan at most.
const spread = 15 * time.Minute

// leastSweep is how long a window has to be open still for a sweep to begin or go on.
const leastSweep = 10 * time.Minute

// Planner knows the plans. It is not for several goroutines at once.
type Planner struct {
	plans map[int64]*compiled
}

// compiled is a plan ready to be asked.
type compiled struct {
	Plan
	zone  *time.Location
	rules [tasks]*recurs
	tasks []Task        // that it has
	room  time.Duration // the longest window; 0: there are none

	closes, opens time.Time // at the moment Due is asked about: when the open windows close, and when the next one opens
}

// recurs is a rule with the times about the moment it was asked for last.
type recurs struct {
	option *rrule.ROption
	last   []time.Time // two at most, the later first
	next   time.Time   // zero: there is none
	asked  time.Time
}

// New makes a planner of plans that Check has nothing against.
func New(plans []Plan) (*Planner, error) {
	p := &Planner{plans: map[int64]*compiled{}}
	for _, plan := range plans {
		zone, err := time.LoadLocation(plan.Zone)
		if err != nil {
			return nil, &Wrong{What: "the time zone " + plan.Zone + " is not known here", Advice: "Say another, or none for UTC."}
		}
		c := &compiled{Plan: plan, zone: zone, room: longest(plan.Windows)}
		for _, t := range Tasks() {
			rule := plan.Of(t)
			if !rule.IsZero() {
				c.tasks = append(c.tasks, t)
			}
			if rule.Rule != "" {
				o, err := rule.option()
				if err != nil {
					return nil, &Wrong{What: err.Error(), Advice: "Change the rule."}
				}
				c.rules[t] = &recurs{option: o}
			}
		}
		p.plans[plan.ID] = c
	}
	return p, nil
}

// about makes sure that the rule's times about now are known.
func (r *recurs) about(now time.Time, zone *time.Location) {
	if !r.asked.IsZero() && !now.Before(r.asked) && (r.next.IsZero() || now.Before(r.next)) {
		return
	}
	r.asked, r.last, r.next = now, before(*r.option, now, zone), after(*r.option, now, zone)
}

// share is shareOf, worked out once.
func (d *Drive) share(t Task) float64 {
	if k := &d.known; !k.hashed {
		for t := range k.shares {
			k.shares[t] = shareOf(d.Key, Task(t))
		}
		k.hashed = true
	}
	return d.known.shares[t]
}

// shareOf is the share of all drives below which a drive lies, by its name: the same for ever, and different for each task.
func shareOf(k drive.Key, t Task) float64 {
	sum := uint64(14695981039346656037) // FNV-1a
	for _, s := range [...]string{t.String(), k.Model, k.Serial} {
		for i := range len(s) {
			sum = (sum ^ uint64(s[i])) * 1099511628211
		}
		sum *= 1099511628211
	}
	sum ^= sum >> 33 // which leaves its high bits little mixed
	sum *= 0xff51afd7ed558ccd
	sum ^= sum >> 33
	return float64(sum>>11) / (1 << 53)
}

// slots gives the newest moment up to now at which a task came due for a drive, when the next one is, and how far they lie apart;
// zero times: there is none.
func (c *compiled) slots(t Task, d *Drive, now time.Time) (newest, next time.Time, apart time.Duration) {
	cadence := c.Of(t)
	share := d.share(t)
	if every := cadence.Every; every > 0 {
		phase := time.Duration(share * float64(every)).Truncate(time.Millisecond)
		since := now.Sub(time.Unix(0, 0)) - phase
		n := since / every
		if since < 0 && since%every != 0 {
			n--
		}
		newest = time.Unix(0, 0).UTC().Add(n*every + phase)
		return newest, newest.Add(every), every
	}
	r := c.rules[t]
	if r == nil {
		return newest, next, 0
	}
	r.about(now, c.zone)
	if len(r.last) > 0 && !r.next.IsZero() {
		apart = r.next.Sub(r.last[0])
	}
	late := time.Duration(share * float64(c.jitter(t, apart))).Truncate(time.Millisecond)
	if !r.next.IsZero() {
		next = r.next.Add(late)
	}
	for _, at := range r.last {
		if at = at.Add(late); !at.After(now) {
			return at, next, apart
		}
		next = at
	}
	return newest, next, apart
}

// jitter is how far the drives of a plan are spread behind the times of a rule.
func (c *compiled) jitter(t Task, apart time.Duration) time.Duration {
	most := spread
	if apart > 0 {
		most = min(most, apart/50)
	}
	if t.Loads() && c.room > 0 {
		most = min(most, c.room/4)
	}
	return most
}

// due tells whether a task is due for a drive, since when, and when to look again.
func (c *compiled) due(t Task, d *Drive, now time.Time) (slot time.Time, is bool, again time.Time) {
	did := d.Did[t]
	slot, next, apart := c.slots(t, d, now)
	if slot.IsZero() {
		return slot, false, next
	}
	for _, last := range [...]time.Time{d.Since, did.Slot, did.At} {
		if last.Sub(now) > max(apart, time.Hour) { // told by a clock that went wrong: it must not silence a drive for as long
			continue
		}
		if !slot.After(last) {
			return slot, false, next
		}
	}
	pause := againAfter
	if t == Reading { // a drive that does not answer is not asked every minute
		pause = max(pause, min(apart/8, time.Hour))
	}
	if wait := did.Tried.Add(pause); !did.Tried.After(now) && wait.After(now) {
		return slot, false, wait
	}
	return slot, true, next
}

// Due gives what benches are to be told to do now, in that order, and when to ask again at the latest; a zero time: when something
// changes. What has come due while nobody could do it comes once.
func (p *Planner) Due(now time.Time, drives []Drive) (orders []Order, again time.Time) {
	soon := func(t time.Time) {
		if !t.IsZero() && t.After(now) && (again.IsZero() || t.Before(again)) {
			again = t
		}
	}
	reads, loads := map[string]int{}, map[string]int{} // drives busy for the watch, by bench
	for i := range drives {
		d := &drives[i]
		if d.Reads {
			reads[d.Bench]++
		}
		if d.Doing != Reading && !d.Waits {
			loads[d.Bench]++
		}
	}
	type wish struct {
		Order
		drive *Drive
		bound int
	}
	var wishes []wish
	for _, c := range p.plans {
		c.closes, c.opens = c.window(now)
		soon(c.closes)
		soon(c.opens)
	}
	for i := range drives {
		d := &drives[i]
		c := p.plans[d.Plan]
		if c == nil {
			continue
		}
		if o, ok := c.underWay(d, now); ok && o.Verb != Resume {
			orders = append(orders, o)
		} else if ok {
			wishes = append(wishes, wish{o, d, c.Bound()})
		}
		if !d.Attached {
			continue
		}
		if d.known.rests(c, d, now) {
			soon(d.known.until)
			continue
		}
		rests := now.AddDate(1, 0, 0)
		for _, t := range c.tasks {
			slot, is, next := c.due(t, d, now)
			soon(next)
			if is {
				rests = now
			} else if !next.IsZero() && next.Before(rests) {
				rests = next
			}
			if is && d.free(t) && c.fits(t, d, now) {
				begin := Order{Verb: Begin, Drive: d.ID, Task: t, Slot: slot, Wake: t == Reading && c.wakes(d, now)}
				wishes = append(wishes, wish{begin, d, c.Bound()})
				break // one after the other
			}
		}
		if k := &d.known; rests.After(now) {
			k.plan, k.since, k.did, k.from, k.until = c, d.Since, d.Did, now, rests
		}
	}
	slices.SortStableFunc(wishes, func(a, b wish) int {
		if a.Task.Loads() != b.Task.Loads() {
			if a.Task.Loads() {
				return 1
			}
			return -1
		}
		return cmp.Or(b.verb()-a.verb(), a.Slot.Compare(b.Slot), cmp.Compare(a.Drive, b.Drive))
	})
	type queue struct {
		bench string
		loads bool
	}
	full := map[queue]bool{} // the first that has to wait holds up all behind it: else it would wait for ever
	for _, w := range wishes {
		q := queue{w.drive.Bench, w.Task.Loads()}
		busy := reads
		if q.loads {
			busy = loads
		}
		if full[q] = full[q] || busy[q.bench] >= w.bound; !full[q] {
			busy[q.bench]++
			orders = append(orders, w.Order)
		}
	}
	return orders, again
}

// verb puts what goes on before what begins.
func (o Order) verb() int {
	if o.Verb == Resume {
		return 1
	}
	return 0
}

// free reports whether a drive can begin a task as things stand with it.
func (d *Drive) free(t Task) bool {
	if !t.Loads() {
		return !d.Reads
	}
	return d.Doing == Reading && !d.Taken && !d.AtRisk && !d.Asleep
}

// window gives when the windows that are open now close, the zero time where none is, and when the next one opens. Without windows it is
// open for ever.
func (c *compiled) window(now time.Time) (closes, next time.Time) {
	if len(c.Windows) == 0 {
		return now.AddDate(1, 0, 0), time.Time{}
	}
	return open(c.Windows, now, c.zone), opens(c.Windows, now, c.zone)
}

// fits reports whether there is time for a task: a self-test has to fit whole, a sweep can go on another day.
func (c *compiled) fits(t Task, d *Drive, now time.Time) bool {
	left := c.closes.Sub(now)
	switch {
	case !t.Loads():
		return true
	case c.closes.IsZero():
		return false
	case t.Sweeps():
		return left >= min(leastSweep, d.Takes[t])
	}
	return left >= d.Takes[t]
}

// underWay is what has to happen to what a drive does for the watch.
func (c *compiled) underWay(d *Drive, now time.Time) (o Order, ok bool) {
	o = Order{Drive: d.ID, Task: d.Doing}
	switch {
	case d.Doing == Reading:
		return o, false
	case d.AtRisk || d.Taken:
		o.Verb = Stop
	case d.Waits && c.closes.Sub(now) >= leastSweep:
		o.Verb = Resume
	case !d.Waits && d.Doing.Sweeps() && !c.closes.After(now):
		o.Verb = Pause
	default:
		return o, false
	}
	return o, true
}

// wakes reports whether a drive has not told anything for so long that the plan has it woken.
func (c *compiled) wakes(d *Drive, now time.Time) bool {
	told := d.Told
	if told.IsZero() {
		told = d.Since
	}
	return c.WakeAfter > 0 && d.Asleep && now.Sub(told) >= time.Duration(c.WakeAfter)*24*time.Hour
}

// Never names the tasks of a drive's plan that can never begin: a self-test that takes longer than the longest window.
func (p *Planner) Never(d Drive) (never []Task) {
	c := p.plans[d.Plan]
	if c == nil || c.room == 0 {
		return nil
	}
	for _, t := range c.tasks {
		if t.Loads() && !t.Sweeps() && d.Takes[t] > c.room {
			never = append(never, t)
		}
	}
	return never
}

// Demand is how many drives of each bench the plans have busy on average: with readings, and with what loads them; and how many readings
// they ask for in a day.
type Demand struct{ Reads, Loads, ADay float64 }

// Demands adds up what plans ask of each bench. A task whose duration is not known counts for nothing.
func (p *Planner) Demands(now time.Time, drives []Drive) map[string]Demand {
	all := map[string]Demand{}
	for i := range drives {
		d := &drives[i]
		c := p.plans[d.Plan]
		if c == nil {
			continue
		}
		sum := all[d.Bench]
		for _, t := range c.tasks {
			_, _, apart := c.slots(t, d, now)
			if apart <= 0 {
				continue
			}
			takes := d.Takes[t].Seconds()
			if t.Sweeps() && c.Share > 0 {
				takes *= 100 / float64(c.Share)
			}
			if takes /= apart.Seconds(); t.Loads() {
				sum.Loads += takes
			} else {
				sum.Reads += takes
				sum.ADay += (24 * time.Hour).Seconds() / apart.Seconds()
			}
		}
		all[d.Bench] = sum
	}
	return all
}

// About gives when a task came due for a drive last, and when it does next; zero times: it did not, not any more.
func (p *Planner) About(t Task, d *Drive, now time.Time) (last, next time.Time) {
	if c := p.plans[d.Plan]; c != nil {
		last, next, _ = c.slots(t, d, now)
	}
	return last, next
}

// Slots lists when a task comes due for a drive after from and up to until, the first so many of them.
func (p *Planner) Slots(t Task, d Drive, from, until time.Time, most int) (all []time.Time) {
	c := p.plans[d.Plan]
	if c == nil {
		return nil
	}
	one := *c // the rules' memory is of now, not of then
	one.rules = [tasks]*recurs{}
	if r := c.rules[t]; r != nil {
		one.rules[t] = &recurs{option: r.option}
	}
	for at := from; len(all) < most; {
		_, next, _ := one.slots(t, &d, at)
		if next.IsZero() || next.After(until) {
			break
		}
		all, at = append(all, next), next
	}
	return all
}
