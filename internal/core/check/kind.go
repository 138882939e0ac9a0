package check

import "hylostat.example/internal/core/wording"

// Kind is the procedure.
type Kind string

// The procedures: each is a reading, one of the drive's own self-tests, a sweep, or both, and a reading.
const (
	Quick      Kind = "quick"      // the short self-test, and a spot sweep
	Extended   Kind = "extended"   // the extended self-test, and a whole sweep
	Conveyance Kind = "conveyance" // the self-test that looks for damage on the way; ATA's alone
	Selective  Kind = "selective"  // a self-test of some spans of the surface; ATA's alone
	Short      Kind = "short"      // the short self-test alone
	Long       Kind = "long"       // the extended self-test alone
	Spot       Kind = "spot"       // a sweep of a sample
	Whole      Kind = "whole"      // a sweep of everything
	Copy       Kind = "copy"       // a sweep that keeps what it reads
	Mend       Kind = "mend"       // rework: writes the sectors that cannot be read
	Renew      Kind = "renew"      // rework: writes back all data in place
	Overwrite  Kind = "overwrite"  // rework: writes a pattern everywhere, and reads it back
)

// StepKind names a step.
type StepKind string

// The steps of this edition.
const (
	ReadingBefore  StepKind = "reading_before"
	ShortTest      StepKind = "short_self_test"
	ExtendedTest   StepKind = "extended_self_test"
	ConveyanceTest StepKind = "conveyance_self_test"
	SelectiveTest  StepKind = "selective_self_test"
	SpotSweep      StepKind = "spot_sweep"
	WholeSweep     StepKind = "whole_sweep"
	Copying        StepKind = "copying"
	Comparing      StepKind = "comparing" // reads back what was copied
	Mending        StepKind = "mending"
	Renewing       StepKind = "renewing"
	Overwriting    StepKind = "overwriting"
	Verifying      StepKind = "verifying" // reads back what was written
	ReadingAfter   StepKind = "reading_after"
)

// Plan is the steps of a procedure.
func (k Kind) Plan() []StepKind {
	return map[Kind][]StepKind{
		Quick: {ReadingBefore, ShortTest, SpotSweep, ReadingAfter}, Extended: {ReadingBefore, ExtendedTest, WholeSweep, ReadingAfter},
		Conveyance: {ReadingBefore, ConveyanceTest, ReadingAfter}, Selective: {ReadingBefore, SelectiveTest, ReadingAfter},
		Short: {ReadingBefore, ShortTest, ReadingAfter}, Long: {ReadingBefore, ExtendedTest, ReadingAfter},
		Spot: {ReadingBefore, SpotSweep, ReadingAfter}, Whole: {ReadingBefore, WholeSweep, ReadingAfter},
		Copy: {ReadingBefore, Copying, Comparing, ReadingAfter},
		Mend: {ReadingBefore, Mending, ReadingAfter}, Renew: {ReadingBefore, Renewing, ReadingAfter}, Overwrite: {
			ReadingBefore, Overwriting, Verifying, ReadingAfter,
		},
	}[k]
}

// Brings is the check that a policy calls so: "quick check", "extended check", "whole sweep"; empty is the quickest there is.
func Brings(called string) (Kind, bool) {
	k, ok := map[string]Kind{"": Quick, "quick check": Quick, "extended check": Extended, "whole sweep": Whole}[called]
	return k, ok
}

// IsRework reports whether a procedure writes.
func (k Kind) IsRework() bool { return k == Mend || k == Renew || k == Overwrite }

// IsTest reports whether a step is a self-test of the drive's.
func (k StepKind) IsTest() bool {
	return k == ShortTest || k == ExtendedTest || k == ConveyanceTest || k == SelectiveTest
}

// IsSweep reports whether a step goes over the surface, reading or writing.
func (k StepKind) IsSweep() bool {
	return k == SpotSweep || k == WholeSweep || k == Copying || k == Comparing || k == Verifying || k.Writes()
}

// Writes reports whether a step writes to the surface.
func (k StepKind) Writes() bool { return k == Mending || k == Renewing || k == Overwriting }

// ReadsAll reports whether a step that came to its end has read every sector.
func (k StepKind) ReadsAll() bool { return k == WholeSweep || k == Copying || k == Verifying }

// Title is the procedure's name for people.
func (k Kind) Title() string {
	return wording.Say(wording.Code("check." + k)).String()
}

// Title is the step's name for people.
func (k StepKind) Title() string {
	return wording.Say(wording.Code("step." + k)).String()
}
