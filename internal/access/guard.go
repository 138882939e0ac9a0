package access

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// How guessing is slowed down. Passwords are tried a few at a time, in turn, whoever asks. A wrong one is answered late: the later the more
// of them there were of late for that name or from that address; the right one is answered at once. So many answers are held back for a
// name and for an address, and no more passwords are tried for those until one is given.
const (
	triedAtOnce = 2
	freeFails   = 3 // before answers are late
	firstDelay  = time.Second
	mostDelay   = 30 * time.Second
	heldForOne  = 64
	heldInAll   = 512
	failsLast   = 15 * time.Minute // without another
	mostTallies = 10_000           // of names and addresses, the oldest forgotten first
)

// Busy says that too many passwords wait for their answers.
type Busy struct{ After time.Duration }

func (e *Busy) Error() string {
	return fmt.Sprintf("too many wrong passwords were given for that name or from here. Try again in %d s", int(e.After.Seconds()))
}

// tally is what is known of a name or an address.
type tally struct {
	fails int
	last  time.Time
	held  int // answers that are held back
}

// guard slows guessing down.
type guard struct {
	now   func() time.Time
	tried *semaphore.Weighted

	mu      sync.Mutex // guards what follows
	tallies map[string]*tally
	known   map[[2]string]bool // name and address of whoever signed in from there: others do not get in their way
	held    int
}

func newGuard(now func() time.Time) *guard {
	return &guard{
		now: now, tried: semaphore.NewWeighted(triedAtOnce), tallies: map[string]*tally{}, known: map[[2]string]bool{},
	}
}

func (g *guard) of(key string) *tally {
	t := g.tallies[key]
	if t == nil {
		g.forget()
		t = &tally{}
		g.tallies[key] = t
	}
	if g.now().Sub(t.last) > failsLast {
		t.fails = 0
	}
	return t
}

// forget makes room for one more tally.
func (g *guard) forget() {
	if len(g.tallies) < mostTallies {
		return
	}
	oldest := ""
	for key, t := range g.tallies {
		if t.held == 0 && (oldest == "" || t.last.Before(g.tallies[oldest].last)) {
			oldest = key
		}
	}
	delete(g.tallies, oldest)
}

// keys are those by which attempts are counted: name and address. Whoever signed in with a name from an address is counted by both at once.
func (g *guard) keys(name, address string) []string {
	address = network(address)
	if g.known[[2]string{name, address}] {
		return []string{"both " + address + " " + name}
	}
	return []string{"name " + name, "address " + address}
}

// network is what addresses of one sender have in common: of IPv6 the first 64 bits, below which a host chooses (RFC 4291, 2.5.1).
func network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap(); ip.Is4() {
		return ip.String()
	}
	return netip.PrefixFrom(ip.WithZone(""), 64).Masked().String()
}

// tried is what came of trying a proof.
type tried int

// What may come of it. Half of one, a password without its code, neither counts nor clears what counted: else whoever knows the password
// could try codes as fast as he likes.
const (
	isWrong tried = iota
	isHalf
	isRight
)

// attempt tries a password in turn. fails tells how many there were of late with a wrong one, this one among them; 0: it is not wrong. The
// answer to a wrong one comes late.
func (g *guard) attempt(ctx context.Context, name, address string, try func() (tried, error)) (fails int, err error) {
	g.mu.Lock()
	keys := g.keys(name, address)
	for n, key := range keys {
		t := g.of(key)
		if t.held >= heldForOne || g.held >= heldInAll {
			g.letGo(keys[:n])
			g.mu.Unlock()
			return 0, &Busy{late(t.fails)}
		}
		t.held++ // it is not forgotten for the next one
	}
	g.held++
	g.mu.Unlock()
	defer func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.held--
		g.letGo(keys)
	}()
	if err := g.tried.Acquire(ctx, 1); err != nil {
		return 0, err
	}
	is, err := try()
	g.tried.Release(1)
	if err != nil {
		return 0, err
	}
	if is == isHalf {
		return 0, nil
	}
	g.mu.Lock()
	if is == isRight {
		if len(g.known) < mostTallies {
			g.known[[2]string{name, network(address)}] = true
		}
		g.of("name " + name).fails = 0
		g.of("both " + network(address) + " " + name).fails = 0
		g.mu.Unlock()
		return 0, nil
	}
	for _, key := range keys {
		t := g.of(key)
		t.fails, t.last = t.fails+1, g.now()
		fails = max(fails, t.fails)
	}
	g.mu.Unlock()
	select {
	case <-ctx.Done():
		return fails, ctx.Err()
	case <-time.After(late(fails)):
		return fails, nil
	}
}

// once reports whether something has not been said for a minute.
func (g *guard) once(key string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	t := g.of(key)
	if g.now().Sub(t.last) < time.Minute {
		return false
	}
	t.last = g.now()
	return true
}

// letGo has tallies hold an answer less.
func (g *guard) letGo(keys []string) {
	for _, key := range keys {
		g.tallies[key].held--
	}
}

// late is how late the answer to a wrong password comes after so many.
func late(fails int) time.Duration {
	if fails <= freeFails {
		return 0
	}
	return min(firstDelay<<min(fails-freeFails-1, 10), mostDelay)
}
