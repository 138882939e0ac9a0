package write

import (
	"context"
	"fmt"
	"sync"
	"time"

	"hylostat.example/internal/bench/journal"
)

// Consents are the shop's words that the releases of reworks still hold. Nothing is written without one: it is asked for at the begin, at
// every resume, before every intent and every chunk. Each is in the journal before it counts, and ends by itself. Times are of the wall
// clock, whatever the drives' is.
type Consents struct {
	journal *journal.Journal
	now     func() time.Time
	mu      sync.Mutex // guards of
	of      map[int64]journal.Consent
}

// LoadConsents gives what the journal holds.
func LoadConsents(ctx context.Context, j *journal.Journal) (*Consents, error) {
	of, err := j.Consents(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the consents to reworks: %w", err)
	}
	return &Consents{journal: j, now: time.Now, of: of}, nil
}

// Hear takes the shop's word for a rework: its release holds, and may be relied on for so long; 0: it does not hold any more, and nothing
// is written from now on, whether or not that could be stored.
func (c *Consents) Hear(ctx context.Context, run int64, lasts time.Duration) error {
	now := c.now()
	word := journal.Consent{Granted: now, Until: now.Add(lasts)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if lasts <= 0 {
		c.of[run] = word
	}
	if err := c.journal.SaveConsent(ctx, run, word); err != nil {
		return fmt.Errorf("keeping the consent to run %d: %w", run, err)
	}
	c.of[run] = word
	return nil
}

// Hold reports whether a rework may write, and will be allowed to for some time still. A clock that was set back ends it.
func (c *Consents) Hold(run int64, still time.Duration) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	word, ok := c.of[run]
	now := c.now()
	return ok && !now.Before(word.Granted) && now.Add(still).Before(word.Until)
}
