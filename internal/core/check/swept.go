package check

import (
	"fmt"
	"strings"
	"time"
)

// expected is about how long a sweep takes, before there is anything to go by: a spinning drive streams 130 MB/s on
// average, flash 500; a spot costs a seek.
func expected(kind StepKind, s *Standing) time.Duration {
	speed, spot := 500e6, 3*time.Millisecond
	if s.Geometry.RPM > 0 {
		speed, spot = 130e6, 25*time.Millisecond
	}
	if kind == SpotSweep && s.Sample != nil {
		return time.Duration(s.Sample.Independent)*spot + time.Second
	}
	switch kind {
	case Mending:
		return time.Minute
	case Renewing: // read, and written
		speed /= 2.5
	default:
	}
	return time.Duration(float64(s.Geometry.Bytes())/speed) * time.Second
}

// moved takes over how a sweep stands.
func moved(r *Run, now Standing) *Step {
	s := r.Current()
	if s == nil || !s.Kind.IsSweep() {
		return nil
	}
	s.Standing, s.Percent = &now, max(s.Percent, int(100*now.Share))
	if now.Share > 0.02 && now.Left > 0 {
		s.Expect = time.Duration(float64(now.Left) / (1 - min(0.99, now.Share)))
	}
	return s
}

// swept ends a sweep. Finding something is no failure of the step's: it did what it was for; a sweep in which sectors could
// not be read has failed the drive.
func swept(r Run, last Standing, now time.Time) (Run, Effect) {
	s := moved(&r, last)
	if s == nil {
		return r, Nothing
	}
	state := StepDone
	if last.Unreadable > 0 || last.Confirmed > 0 || last.Lost > 0 {
		state = StepFailed
	}
	finish(s, state, sweepNote(s.Kind, last), now)
	return advance(r, now)
}

// sweepNote puts into words what a sweep found, or did.
func sweepNote(kind StepKind, s Standing) string {
	var parts []string
	add := func(n uint64, one, many string) {
		if n == 1 {
			parts = append(parts, "1 "+one)
		} else if n > 1 {
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	if w := s.Written; w != nil {
		add(w.Cleared, "sector cleared", "sectors cleared")
		add(w.Readable, "sector could be read after all", "sectors could be read after all")
		add(w.Restored, "sector written once more from its copy", "sectors written once more from their copy")
	}
	unread := [2]string{"unreadable sector", "unreadable sectors"}
	switch kind {
	case Mending:
		unread = [2]string{"sector still unreadable", "sectors still unreadable"}
	case Overwriting:
		unread = [2]string{"sector could not be written", "sectors could not be written"}
	default:
	}
	add(s.Unreadable, unread[0], unread[1])
	add(s.Lost, "sector does not hold what was written to it", "sectors do not hold what was written to them")
	add(s.Confirmed, "slow place, confirmed", "slow places, confirmed")
	add(s.Slow-min(s.Slow, s.Confirmed), "place slow once", "places slow once")
	add(s.Other, "place failed for another reason", "places failed for another reason")
	if len(parts) == 0 {
		clean := map[StepKind]string{Mending: "nothing needed writing", Renewing: "everything was written back", Overwriting: "everything was written", Verifying: "everything holds what was written to it"}[kind]
		switch {
		case s.Share < 1 && kind.Writes():
		case clean != "":
			parts = []string{clean}
		case s.Sample != nil:
			parts = []string{"every sample was read"}
		default:
			parts = []string{"everything was read"}
		}
	}
	if s.Share < 1 {
		done := "swept"
		if kind.Writes() {
			done = "done"
		}
		parts = append(parts, fmt.Sprintf("%d %% %s", int(100*s.Share), done))
	}
	if s.Beyond > 0 {
		parts = append(parts, beyond(s.Beyond))
	}
	if s.Early != "" {
		parts = append(parts, s.Early)
	}
	return strings.Join(parts, "; ")
}
