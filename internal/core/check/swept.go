package check

import (
	"time"

	"hylostat.example/internal/core/wording"
)

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
	if last.Unreadable > 0 || last.Confirmed > 0 || last.Lost > 0 || last.Copied != nil && last.Copied.Missing > 0 {
		state = StepFailed
	}
	finish(s, state, sweepNote(s.Kind, last), now)
	return advance(r, now)
}

// sweepNote tells what a sweep found, or did.
func sweepNote(kind StepKind, s Standing) wording.Phrase {
	var parts []wording.Phrase
	add := func(n uint64, c wording.Code) {
		if n > 0 {
			parts = append(parts, wording.Say(c, wording.Values{"n": n}))
		}
	}
	if w := s.Written; w != nil {
		add(w.Cleared, wording.SectorsCleared)
		add(w.Readable, wording.SectorsReadable)
		add(w.Restored, wording.SectorsRestored)
	}
	unread := wording.SectorsUnreadable
	switch kind {
	case Mending:
		unread = wording.SectorsStill
	case Overwriting:
		unread = wording.SectorsNotWritten
	default:
	}
	if s.Copied != nil {
		add(s.Copied.Missing, wording.SectorsMissing)
	}
	add(s.Unreadable, unread)
	add(s.Lost, wording.SectorsLost)
	add(s.Confirmed, wording.PlacesSlow)
	add(s.Slow-min(s.Slow, s.Confirmed), wording.PlacesSlowOnce)
	add(s.Other, wording.PlacesFailed)
	if len(parts) == 0 && (s.Share == 1 || !kind.Writes()) {
		parts = append(parts, wording.Say(clean(kind, s)))
	}
	if s.Share < 1 {
		done := wording.ShareSwept
		switch {
		case kind.Writes():
			done = wording.ShareDone
		case kind == Copying:
			done = wording.ShareCopied
		}
		parts = append(parts, wording.Say(done, wording.Values{"n": int(100 * s.Share)}))
	}
	if s.Beyond > 0 {
		parts = append(parts, beyond(s.Beyond))
	}
	if !s.Early.IsZero() {
		parts = append(parts, s.Early)
	}
	return wording.Say(wording.SweepFound, wording.Values{"parts": parts})
}

// clean is what is said of a step that found nothing.
func clean(kind StepKind, s Standing) wording.Code {
	switch kind {
	case Mending:
		return wording.NothingToWrite
	case Renewing:
		return wording.AllWrittenBack
	case Overwriting:
		return wording.AllWritten
	case Verifying:
		return wording.AllHolds
	case Copying:
		return wording.AllCopied
	case Comparing:
		return wording.AllAlike
	default:
	}
	if s.Sample != nil {
		return wording.SamplesRead
	}
	return wording.AllRead
}
