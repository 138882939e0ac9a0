// Command signaldoc writes docs/signals.md from the registry, so that the page cannot say anything else than the code.
package main

import (
	"fmt"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/signal"
)

func main() {
	fmt.Print(`# Signals

One vocabulary for drives of every interface. A signal is one quantity that can be compared, with a unit, a direction, and where it
came from; "not available" with its reason is a value of its own. Sources stand in order of preference: the first that has the
value gives it, and when a later one has another number both the API and the console say so.

This page is made from the registry in ` + "`internal/core/signal`" + ` by ` + "`make generate`" + `.

`)
	group := ""
	for _, want := range []string{"media", "mechanics", "link", "flash", "heat", "life", "tests", "alarm"} {
		for i := range signal.Registry {
			d := &signal.Registry[i]
			if d.Group != want {
				continue
			}
			if group != want {
				group = want
				fmt.Printf("## %s\n\n", strings.ToUpper(want[:1])+want[1:])
			}
			write(d)
		}
	}
}

func write(d *signal.Definition) {
	facts := []string{d.Direction.String()}
	if d.Unit != "" {
		facts = append([]string{"in " + d.Unit}, facts...)
	}
	if d.Usual != "" {
		facts = append(facts, d.Usual)
	}
	switch d.Only {
	case drive.Spinning:
		facts = append(facts, "rotating drives only")
	case drive.Flash:
		facts = append(facts, "flash only")
	case drive.MediumUnknown: // both kinds have it
	}
	if d.Matters {
		facts = append(facts, "a change is an event in the drive's life")
	}
	if d.Inner {
		facts = append(facts, "for rules")
	}
	fmt.Printf("**`%s`**, %s: %s.\n\n", d.Name, d.Words, strings.Join(facts, "; "))
	for n, s := range d.Sources {
		on := map[drive.Interface]string{drive.ATA: "ATA", drive.NVMe: "NVMe", drive.SCSI: "SCSI", "": "every interface"}[s.On]
		fmt.Printf("%d. %s (%s; %s)\n", n+1, s.What, on, s.Confidence)
	}
	fmt.Println()
}
