package runs

import (
	"fmt"
	"strings"

	"hylostat.example/internal/core/check"
)

// Standing says in a few words where a run stands.
func Standing(r check.Run) string {
	switch r.State {
	case check.Queued:
		return "waits to begin"
	case check.Absent:
		return "its drive is not in the bay"
	case check.Stuck:
		return "its drive holds a command"
	case check.Interrupted:
		return "picked up again after a restart"
	case check.Stopping:
		return "stopping"
	case check.Done:
		if r.Reason != "" && r.Outcome != check.Passed {
			return string(r.Outcome) + ": " + r.Reason
		}
		for _, step := range r.Steps {
			if step.State == check.StepFailed {
				return fmt.Sprintf("%s: %s, %s", r.Outcome, strings.ToLower(step.Kind.Title()), step.Note)
			}
		}
		return string(r.Outcome)
	case check.Paused:
		return "waits: " + r.Pause
	case check.Running:
	}
	if step := r.Current(); step != nil {
		text := strings.ToLower(step.Kind.Title())
		if step.Standing != nil && step.State == check.Begun {
			if step.Standing.Unreadable > 0 {
				text += fmt.Sprintf(", %d unreadable", step.Standing.Unreadable)
			}
		}
		return text
	}
	return "running"
}
