package cli

import (
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/stretchr/testify/assert"

	"hylostat.example/internal/contract"
)

// A table in a narrow terminal keeps the drive and its verdict, whatever else has to go.
func TestATableFitsItsTerminal(t *testing.T) {
	drives := []any{"drive", "model", "size", "powered on", "bay", "ticket", "customer", "verdict", "signed", "why"}
	row := table.Row{
		"KVL02 3T9C1", "Korvan K2-1000", "1 TB", "30 866 h", "3", "2230", "Ferry Road puppet theatre", "X replace", "no",
		"Surface errors grow: 8 pending, 0 reallocated",
	}
	for within, want := range map[int]string{
		0:   "drive model size powered on bay ticket customer verdict signed why",
		200: "drive model size powered on bay ticket customer verdict signed why",
		120: "drive model size powered on bay ticket customer verdict why",
		80:  "drive powered on bay ticket verdict why",
		60:  "drive bay verdict why",
		40:  "drive bay verdict",
		24:  "drive verdict",
		12:  "drive verdict",
	} {
		columns, most := fit(within, drives, []table.Row{row})
		var names []string
		sum := 0
		for _, n := range columns {
			names = append(names, drives[n].(string))
			sum += max(len(drives[n].(string)), len(row[n].(string))) + gap
			if most[n] > 0 {
				sum += most[n] - max(len(drives[n].(string)), len(row[n].(string)))
			}
		}
		assert.Equal(t, want, strings.Join(names, " "), "in %d", within)
		if within >= 24 {
			assert.LessOrEqual(t, sum-gap, within, "in %d", within)
		}
	}
	assert.Equal(t, "Surface e…", short("Surface errors grow", 10))
	assert.Equal(t, "Größe", short("Größe", 5), "by what is seen, not by bytes")
	assert.Equal(t, "     reallocated    \n     sectors: +268", wrapped("     reallocated sectors: +268", 20))
}

func TestWhatIsDrawn(t *testing.T) {
	t.Setenv("LC_ALL", "C.UTF-8")
	course := func(hours []float64, values ...float64) string {
		return sparkline(contract.Signal{Hours: hours, Values: values}, 8)
	}
	assert.Equal(t, "▁▁▁▁▁▁▁█", course([]float64{0, 50, 100}, 0, 0, 8))
	assert.Equal(t, "▁▁▁█████", course([]float64{0, 50, 100}, 0, 8, 8), "by the drive's hours, not by the number of readings")
	assert.Equal(t, "▁▁▁▁▁▁▁▁", course([]float64{0, 100}, 5, 5))
	assert.Equal(t, "▁▁▁▅▅▅▅█", course([]float64{-1, -1, -1}, 0, 4, 8), "of hours nobody knows, evenly")
	assert.Empty(t, course([]float64{7}, 3), "one value is no course")

	s := contract.Sweep{Cells: 16, Segments: []contract.RibbonSegment{
		{First: 0, Classes: "0012-345", Unread: []contract.RibbonUnread{}},
		{First: 10, Classes: "00", Unread: []contract.RibbonUnread{{Cell: 11, Sectors: 1}, {Cell: 99, Sectors: 1}}},
	}}
	assert.Equal(t, "░░░░·▒▓▓··░█····", shaded(ribbonCells(s), 16))
	assert.Equal(t, "░░▒▓·█··", shaded(ribbonCells(s), 8), "the worst of each stretch")
	assert.Empty(t, shaded(ribbonCells(s), -2), "where there is no room")
	t.Setenv("LC_ALL", "POSIX")
	assert.Equal(t, "..oO #  ", shaded(ribbonCells(s), 8), "where a terminal has no such letters")
	assert.Equal(t, "_______^", course([]float64{0, 50, 100}, 0, 0, 8))
}
