package desk

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/trend"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// Compared is one quantity over the drives of one model of a lot.
type Compared struct {
	Words  string
	Unit   string
	Model  string
	Values []ComparedValue
	Median float64
}

// ComparedValue is one drive's value.
type ComparedValue struct {
	Serial string
	trend.Sibling
}

// least is the smallest difference between siblings that says anything, in the unit of a signal.
func least(unit string) float64 {
	switch unit {
	case "°C":
		return 5
	case "%", "h":
		return 5
	case "B":
		return 1e9
	}
	return 1
}

// measure is something siblings are compared by.
type measure struct {
	words, unit string
	least       float64
	of          func(LotDrive) (float64, bool)
}

// leastHours is from how many power-on hours on a rate says something.
const leastHours = 100

// accrues reports whether a signal comes with use: such a one is compared by its rate, or the younger drive would stand apart for having
// done less. Flaws are compared by their number: none is usual at any age.
func accrues(d signal.Definition) bool {
	return d.Direction == signal.Grows && d.Usual != "usual 0" && d.Unit != "°C" && d.Name != signal.PowerOnHours
}

// measures are all signals but those of the moment, and the speed of the outer tracks.
func measures() []measure {
	all := []measure{{"outer speed", "B/s", 1e6, func(d LotDrive) (float64, bool) { return d.Speed, d.Speed > 0 }}}
	for _, def := range signal.Registry {
		if def.Inner || def.Group == "tests" || def.Name == signal.Temperature {
			continue
		}
		m := measure{def.Words, def.Unit, least(def.Unit), func(d LotDrive) (float64, bool) { return d.Values.Get(def.Name) }}
		if def.TellsUnit() {
			m.unit = ""
		}
		if accrues(def) {
			m.words += " in 1\u00a0000 h"
			m.of = func(d LotDrive) (float64, bool) {
				x, ok := d.Values.Get(def.Name)
				hours, known := d.Values.Get(signal.PowerOnHours)
				return 1000 * x / hours, ok && known && hours >= leastHours
			}
		}
		all = append(all, m)
	}
	return all
}

// compare lays the drives of each model beside each other.
func (v *LotView) compare() {
	models := map[string][]int{}
	found := make([][]standing, len(v.Drives))
	for i, d := range v.Drives {
		if d.Drive != nil {
			models[d.Drive.Identity.Model] = append(models[d.Drive.Identity.Model], i)
		}
	}
	for model, places := range models {
		for _, q := range measures() {
			var values []float64
			var whose []int
			for _, i := range places {
				if x, ok := q.of(v.Drives[i]); ok {
					values, whose = append(values, x), append(whose, i)
				}
			}
			c := Compared{Words: q.words, Unit: q.unit, Model: model}
			worst := 0.0
			for n, sibling := range trend.Siblings(values, q.least) {
				c.Median = sibling.Median
				c.Values = append(c.Values, ComparedValue{v.Drives[whose[n]].Drive.Identity.Serial, sibling})
				if sibling.Apart {
					found[whose[n]] = append(found[whose[n]], standing{apart(q.words, q.unit, sibling), math.Abs(sibling.Score)})
					worst = max(worst, math.Abs(sibling.Score))
				}
			}
			if worst > 0 {
				v.Compared = append(v.Compared, c)
			}
		}
	}
	for i, all := range found {
		v.Drives[i].Apart = strongest(all)
	}
	slices.SortFunc(v.Compared, func(a, b Compared) int {
		return cmp.Or(cmp.Compare(b.worst(), a.worst()), cmp.Compare(a.Words, b.Words))
	})
}

// standing is one way in which a drive stands apart.
type standing struct {
	words string
	score float64
}

// strongest says the two that stand out most, and how many more there are: an old drive has more of everything.
func strongest(all []standing) []string {
	slices.SortStableFunc(all, func(a, b standing) int { return cmp.Compare(b.score, a.score) })
	var words []string
	for i, s := range all {
		if i == 2 {
			return append(words, fmt.Sprintf("and in %d more", len(all)-i))
		}
		words = append(words, s.words)
	}
	return words
}

func (c Compared) worst() (worst float64) {
	for _, x := range c.Values {
		if x.Apart {
			worst = max(worst, math.Abs(x.Score))
		}
	}
	return worst
}

// apart says how a value stands apart, with how many were compared.
func apart(words, unit string, s trend.Sibling) string {
	times := ""
	if t := s.Times(); t >= 1.5 {
		times = fmt.Sprintf(", %s times the median", wording.Number(math.Round(t*10)/10))
	} else if s.Value < s.Median && s.Median > 0 {
		times = fmt.Sprintf(", %.0f %% under the median", 100*(1-s.Value/s.Median))
	}
	return fmt.Sprintf("%s %s, median %s of %d%s", words, rate(s.Value, unit), rate(s.Median, unit), s.Of, times)
}

func rate(x float64, unit string) string {
	if unit == "B/s" {
		return wording.Of(x, "B") + "/s"
	}
	return wording.Of(x, unit)
}

// SiblingsView is a drive among the shop's drives of the same model.
type SiblingsView struct {
	Model string
	Of    int // drives of the model the shop has met, itself among them
	Apart []string
	Rows  []SiblingRow
}

// SiblingRow is one quantity.
type SiblingRow struct {
	Words, Unit string
	trend.Sibling
}

// mostSiblings is how many drives of a model a drive is compared with.
const mostSiblings = 300

// Siblings compares a drive with the shop's other drives of its model.
func (s *Desk) Siblings(ctx context.Context, d shop.Drive) (SiblingsView, error) {
	v := SiblingsView{Model: d.Identity.Model}
	all, err := s.store.Drives(ctx, shop.Query{Model: d.Identity.Model, Limit: mostSiblings})
	if err != nil {
		return v, err
	}
	v.Of = len(all)
	if !slices.ContainsFunc(all, func(o shop.Drive) bool { return o.ID == d.ID }) {
		all = append(all, d)
	}
	drives := make([]LotDrive, len(all))
	own := 0
	for i, o := range all {
		latest, err := s.store.Latest(ctx, o.ID)
		if err != nil && !shop.IsNone(err) {
			return v, err
		}
		drives[i] = LotDrive{Drive: &all[i], Values: latest.Signals}
		if o.ID == d.ID {
			own = i
		}
	}
	var found []standing
	for _, q := range measures() {
		var values []float64
		at := -1
		for i := range drives {
			if x, ok := q.of(drives[i]); ok {
				if i == own {
					at = len(values)
				}
				values = append(values, x)
			}
		}
		if at < 0 {
			continue
		}
		row := SiblingRow{q.words, q.unit, trend.Siblings(values, q.least)[at]}
		v.Rows = append(v.Rows, row)
		if row.Apart {
			found = append(found, standing{apart(q.words, q.unit, row.Sibling), math.Abs(row.Score)})
		}
	}
	v.Apart = strongest(found)
	slices.SortStableFunc(v.Rows, func(a, b SiblingRow) int { return cmp.Compare(math.Abs(b.Score), math.Abs(a.Score)) })
	return v, nil
}
