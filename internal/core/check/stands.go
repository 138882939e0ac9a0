package check

import "hylostat.example/internal/core/wording"

// Stands tells where a run stands.
func (r Run) Stands() wording.Phrase {
	switch r.State {
	case Queued, Absent, Stuck, Interrupted, Stopping:
		return wording.Say(wording.Code("run." + r.State))
	case Done:
		return r.ended()
	case Paused:
		return wording.Say(wording.RunWaits, wording.Values{"why": r.Pause})
	case Running:
	}
	s := r.Current()
	switch {
	case s == nil:
		return wording.Say(wording.RunRunning)
	case s.Standing != nil && s.State == Begun && s.Standing.Unreadable > 0:
		return wording.Say(wording.RunFinding, wording.Values{"step": string(s.Kind), "n": s.Standing.Unreadable})
	}
	return wording.Say(wording.RunAtStep, wording.Values{"step": string(s.Kind)})
}

// ended tells how a run ended: of one that did not pass, why.
func (r Run) ended() wording.Phrase {
	outcome := string(r.Outcome)
	if r.Reason.Code == wording.StoppedBy { // it names the outcome itself
		return r.Reason
	}
	if !r.Reason.IsZero() && r.Outcome != Passed {
		return wording.Say(wording.RunEndedFor, wording.Values{"outcome": outcome, "why": r.Reason})
	}
	for i := range r.Steps {
		if s := &r.Steps[i]; s.State == StepFailed {
			return wording.Say(wording.RunEndedAt, wording.Values{"outcome": outcome, "step": string(s.Kind), "why": s.Note})
		}
	}
	return wording.Say(wording.RunEnded, wording.Values{"outcome": outcome})
}

// Says tells what a sweep found, and what it rules out and cannot. once is why places were slow only once, where that is known.
func (s Standing) Says(once wording.Phrase) []wording.Phrase {
	all := []wording.Phrase{}
	if s.Written != nil { // its step says what it did
		return all
	}
	if once.IsZero() {
		once = wording.Say(wording.OnceUnknown)
	}
	say := func(c wording.Code, v wording.Values) { all = append(all, wording.Say(c, v)) }
	count := func(n uint64, c wording.Code) {
		if n > 0 {
			say(c, wording.Values{"n": n})
		}
	}
	count(s.Unreadable, wording.SaysUnreadable)
	count(s.Confirmed, wording.SaysSlow)
	if passing := s.Slow - min(s.Slow, s.Confirmed); s.Share < 1 {
		count(passing, wording.SaysSlowSoFar)
	} else if passing > 0 {
		say(wording.SaysSlowOnce, wording.Values{"n": passing, "why": once})
	}
	count(s.Other, wording.SaysFailed)
	if !s.Early.IsZero() {
		say(wording.SaysEarly, wording.Values{"n": int(100 * s.Share), "why": s.Early})
	}
	count(s.Lost, wording.SaysLost)
	clean := s.Unreadable == 0 && s.Confirmed == 0 && s.Lost == 0
	switch {
	case s.Share < 1:
	case s.Sample != nil && clean:
		say(wording.SaysSampleRead, wording.Values{"n": 100 * s.Sample.RulesOut(0.95)})
		say(wording.SaysSampleMisses, nil)
	case s.Sample == nil && clean:
		say(wording.SaysAllRead, nil)
	}
	if s.Held != nil && s.Share == 1 {
		say(wording.SaysHeld, wording.Values{"share": *s.Held})
	}
	return all
}
