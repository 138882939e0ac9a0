package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/contract"
)

// What a shell offers for a flag is what the contract knows, all of what a flag of that name takes.
func TestWhatIsOfferedForAFlagIsTaken(t *testing.T) {
	for name, valid := range map[string]func(string) bool{
		"grade":    func(v string) bool { return contract.Grade(v).Valid() },
		"kind":     func(v string) bool { return contract.DriveMedium(v).Valid() },
		"goes":     func(v string) bool { return contract.HandoverRequestGoes(v).Valid() },
		"language": func(v string) bool { return contract.Language(v).Valid() },
		"stock":    func(v string) bool { return contract.Stock(v).Valid() },
		"role":     func(v string) bool { return contract.Role(v).Valid() },
		"duty":     func(v string) bool { return contract.Duty(v).Valid() },
		"scope":    func(v string) bool { return contract.TokenScope(v).Valid() },
		"check":    func(v string) bool { return contract.PlanRequestCheck(v).Valid() },
	} {
		assert.NotEmpty(t, values[name], name)
		for _, v := range values[name] {
			assert.True(t, valid(v), "--%s %s", name, v)
		}
	}
}
