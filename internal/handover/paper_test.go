package handover

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/policy"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/volume"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	keep "hylostat.example/internal/shop/record"
	"hylostat.example/internal/visible"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)

// paperOf is a degrading drive of a customer who wants the data.
func paperOf() desk.Paper {
	v := shop.Verdict{Verdict: verdict.Verdict{
		Grade:  drive.Degrading,
		Duty:   drive.Everyday,
		Policy: 7,
		Advice: []string{"Keep a second copy of the data."},
		Findings: []verdict.Finding{
			{
				Sentence: "3 reallocated sectors",
				Customer: "A small part of the surface has failed",
				Margin:   &verdict.Margin{Used: 3, Of: 100},
			},
		},
		Duties: []verdict.Fit{
			{Duty: drive.Continuous, Fitness: policy.Not},
			{Duty: drive.Everyday, Fitness: policy.Care},
			{Duty: drive.Carry, Fitness: policy.Does},
		},
	}}
	d := shop.Drive{Duty: drive.Everyday, Now: shop.Now{Grade: drive.Degrading, Hours: 20512, HasHours: true}}
	d.Identity.Key = drive.Key{Model: "Korvan K4-2000", Serial: "KVA077M511"}
	d.Identity.Bytes = 2_000_398_934_016
	p := desk.Paper{
		Shop:     "Saltmarsh Lane",
		At:       noon,
		Drive:    d,
		Intake:   &shop.Intake{ID: 31, Ticket: "2214", Customer: "Pellwick Spit tide gauge", Made: "2021-08", CopiedAt: noon},
		Visits:   3,
		Verdict:  &v,
		Grade:    drive.Degrading,
		Fits:     v.Duties,
		Counters: 17,
		Data:     shop.Untouched,
	}
	p.Latest.Seq, p.Latest.At = 32, noon
	return p
}

func TestNoPaperTellsTheChance(t *testing.T) {
	p := paperOf()
	p.Verdict.Risk = &verdict.Risk{
		Words:   "about 1 in 6, between 1 in 9 and 1 in 4",
		Year:    0.17,
		Factors: []verdict.RiskFactor{{Words: "pending sectors: 8 sectors", Ratio: 3}},
	}
	var page bytes.Buffer
	require.NoError(t, StatementHTML(&page, StatementOf(p, wording.Language{})))
	text, err := json.Marshal(StatementOf(p, wording.Language{}))
	require.NoError(t, err)
	for _, paper := range []string{page.String(), string(text)} {
		assert.NotContains(t, paper, "1 in 6")
		assert.NotContains(t, paper, "0.17")
	}
}

func TestStatementSaysWhatIsKnown(t *testing.T) {
	s := StatementOf(paperOf(), wording.Language{})
	assert.Equal(t, []string{"carrying files"}, s.Does)
	assert.Equal(t, []string{"everyday use"}, s.Care)
	assert.Equal(t, []string{"always-on use"}, s.NotFor)
	assert.Equal(t, []string{"A small part of the surface has failed. We count 3; our limit is 100."}, s.Why)
	assert.Equal(t, []string{"Keep a second copy of the data.", "Keep the copy of 4 March 2026."}, s.Do)
	assert.Equal(t, "Its surface was not read.", s.NotChecked[0], "what was not checked is said first")
	assert.Equal(t, "Untouched. Nothing was written to the drive at this visit. A copy exists, noted on 4 March 2026.", s.Data)
	assert.Equal(t, "Not signed", s.Signature)
	assert.Contains(t, s.Facts, Particular{"Used for", "20\u00A0512 hours, made August 2021"})
	assert.Contains(t, s.Facts, Particular{"Ticket", "2214, intake 31, visit 3"})

	p := paperOf()
	p.Verdict.Signed = &shop.SignOff{At: noon, By: "Maud", Grade: drive.Healthy, Reason: "the count is from a mend"}
	p.Grade = drive.Healthy
	s = StatementOf(p, wording.Language{})
	assert.Equal(t, "Healthy", s.Title)
	assert.Equal(
		t, "By our rules it is degrading. Maud decided otherwise: the count is from a mend.", s.Why[0],
		"an overruled verdict shows both",
	)
	assert.Equal(t, "Decided by Maud, 4 March 2026", s.Signature)

	p = paperOf()
	p.Grade, p.Verdict.Findings, p.Verdict.Advice = drive.Healthy, nil, nil
	p.Volumes = &keep.VolumesView{
		At:     noon,
		Says:   wording.Literal("The drive is sound, the file system is damaged: ext4."),
		Layout: volume.Layout{Volumes: []volume.Volume{{Kind: "ext4", State: volume.Damaged}}},
	}
	s = StatementOf(p, wording.Language{})
	assert.Contains(t, s.Why, "The drive is sound, the file system is damaged: ext4.")
	assert.Contains(t, s.Do, "Have the file system repaired, after a copy. The drive can stay.")

	p = paperOf()
	held := 0.384
	p.Sweep = &shop.Sweep{Sweep: check.Sweep{Kind: check.WholeSweep, Standing: check.Standing{Share: 1, Held: &held}}}
	assert.Equal(
		t, "Its empty cells: 38 % of what was read held data, and a flash drive answers for the rest without touching it.",
		StatementOf(p, wording.Language{}).NotChecked[0],
	)

	p = paperOf()
	p.Data, p.Reworks = shop.Altered, []check.Run{{Kind: check.Mend}, {Kind: check.Mend}}
	assert.Contains(t, StatementOf(p, wording.Language{}).Data, "Altered. Parts of the drive were written to at this visit (mend).")
}

// recorder is a pen that notes what leaves a page, and texts that lie over each other.
type recorder struct {
	pen
	width_, height_ float64
	outside         []string
	words           []string
	texts           [][4]float64
}

func (r *recorder) check(what string, x, y, right, bottom float64) {
	if x < -0.01 || y < -0.01 || right > r.width_+0.01 || bottom > r.height_+0.01 {
		r.outside = append(r.outside, fmt.Sprintf("%s from %.1f,%.1f to %.1f,%.1f", what, x, y, right, bottom))
	}
}

func (r *recorder) box(x, y, w, h float64) { r.check("box", x, y, x+w, y+h) }

func (r *recorder) shape(points ...[2]float64) {
	for _, p := range points {
		r.check("shape", p[0], p[1], p[0], p[1])
	}
}

func (r *recorder) write(x, y, size float64, bold bool, words string) {
	r.words = append(r.words, words)
	here := [4]float64{x, y - size/pointsPerMM*0.72, x + r.width(size, bold, words), y}
	for i, t := range r.texts {
		if here[0] < t[2] && t[0] < here[2] && here[1] < t[3] && t[1] < here[3] {
			r.outside = append(r.outside, fmt.Sprintf("%q lies over the %d. text of the page", words, i+1))
		}
	}
	r.texts = append(r.texts, here)
	r.check(words, x, y-size/pointsPerMM*0.8, x+r.width(size, bold, words), y+size/pointsPerMM*0.25)
}

func record(width, height float64) *recorder {
	return &recorder{pen: paperPen{Fpdf: newPaper("", width, height, noon)}, width_: width, height_: height}
}

// The longest texts anybody may give, in scripts that run wide, and a word without a space.
func longest() desk.Paper {
	p := paperOf()
	p.Shop = strings.Repeat("Reparaturwerkstätte ", 20)
	p.Intake.Customer, p.Intake.Reference = strings.Repeat("Щербаковський ", 9), strings.Repeat("W", 100)
	p.Intake.Ticket = strings.Repeat("漢", 33)
	p.Drive.Identity.Model, p.Drive.Identity.Serial = strings.Repeat("M", 40), strings.Repeat("W", 20)
	for range 30 {
		p.Verdict.Findings = append(
			p.Verdict.Findings,
			verdict.Finding{
				Customer: strings.Repeat("Ein sehr langer Befund ", 10),
				Sentence: strings.Repeat("Befund ", 40),
				Margin:   &verdict.Margin{Used: 123456789, Of: 987654321},
			},
		)
		p.Verdict.Advice = append(p.Verdict.Advice, strings.Repeat("Rat ", 30))
	}
	p.Verdict.Signed = &shop.SignOff{
		At:     noon,
		By:     strings.Repeat("Wwwwwwwwww", 10),
		Grade:  drive.Replace,
		Reason: strings.Repeat("Grund", 100),
	}
	p.Without = []signal.Name{signal.Temperature, signal.PowerOnHours, signal.PercentageUsed, signal.Alarm}
	return p
}

func TestNothingLeavesThePaper(t *testing.T) {
	for _, language := range wording.Languages() {
		for name, p := range map[string]desk.Paper{"usual": paperOf(), "longest": longest()} {
			name += " in " + language.String()
			var last *recorder
			require.NoError(t, onOnePage(StatementOf(p, language), func() pen {
				last = record(pageWidth, pageHeight)
				return last
			}), name)
			assert.Empty(t, last.outside, name)
			for _, stock := range Stocks {
				for _, g := range []drive.Grade{drive.Healthy, drive.Degrading, drive.Replace, drive.Undecided} {
					p.Grade = g
					r := record(stock.Width, stock.Height)
					l := LabelOf(p, "http://127.0.0.1:8347/drives/"+p.Drive.Identity.Serial, language)
					require.NoError(t, drawLabel(r, stock, l))
					assert.Empty(t, r.outside, "%s on %s, %s", name, stock.Name, g)
					assert.Contains(t, r.words, l.Ending, "the serial's ending is never shortened")
					assert.Contains(t, r.words, l.Word)
				}
			}
		}
	}
}

// TestOurOwnWordsFitTheLabel draws a label for every grade and state of data, every use and every kind of finding, in every language:
// where the words are ours, none is cut short.
func TestOurOwnWordsFitTheLabel(t *testing.T) {
	var all []desk.Paper
	paper := func(change func(p *desk.Paper)) {
		p := paperOf()
		p.Intake.Wanted, p.Verdict.Findings = false, nil
		change(&p)
		all = append(all, p)
	}
	grades := []drive.Grade{drive.Healthy, drive.Degrading, drive.Replace, drive.Undecided}
	for _, g := range grades {
		for _, data := range []shop.DataState{shop.Untouched, shop.Altered, shop.Overwritten} {
			paper(func(p *desk.Paper) { p.Grade, p.Data = g, data })
		}
	}
	for _, duty := range drive.Duties() {
		for _, fitness := range []policy.Fitness{policy.Does, policy.Not} {
			paper(func(p *desk.Paper) {
				p.Grade, p.Drive.Duty, p.Fits = drive.Healthy, duty, []verdict.Fit{{Duty: duty, Fitness: fitness}}
			})
		}
	}
	seen := map[string]bool{}
	for _, d := range signal.Registry {
		if !seen[d.Group] {
			seen[d.Group] = true
			paper(func(p *desk.Paper) {
				p.Verdict.Findings = []verdict.Finding{{Sentence: "3 reallocated sectors", Signals: []signal.Name{d.Name}}}
			})
		}
	}
	paper(func(p *desk.Paper) { p.Intake.Wanted, p.Intake.CopiedAt = true, time.Time{} })
	paper(func(p *desk.Paper) { p.Verdict = nil; p.Latest.Seq = 0 })
	paper(func(p *desk.Paper) {
		p.Grade, p.Sweep = drive.Healthy, &shop.Sweep{
			Sweep: check.Sweep{Kind: check.WholeSweep, Ended: noon, Standing: check.Standing{Share: 1}},
		}
	})
	for _, language := range wording.Languages() {
		for _, p := range all {
			r := record(Stocks[0].Width, Stocks[0].Height)
			l := LabelOf(p, "http://127.0.0.1:8347/drives/KVA077M511", language)
			require.NoError(t, drawLabel(r, Stocks[0], l))
			assert.NotContains(t, strings.Join(r.words, "|"), "\u2026", "%s: %+v", language, l)
			assert.NotContains(t, strings.Join(r.words, "|"), "label.", "a value without its word")
		}
	}
}

func TestAStatementInEveryLanguage(t *testing.T) {
	p := paperOf()
	p.Language = wording.German
	p.Verdict.Findings[0].Customer = "Some data could not be read."
	p.Tests = []reading.SelfTest{{Kind: "extended", Passed: true, Hours: 20400}}
	p.Volumes = &keep.VolumesView{
		At:     noon,
		Layout: volume.Layout{Volumes: []volume.Volume{{Kind: "ext4", State: volume.Damaged}}},
		Says:   wording.Say(wording.VolumesDamagedAlone, wording.Values{"what": wording.Say(wording.PartitionTable)}),
	}
	s := StatementOf(p, wording.Language{})
	assert.Equal(t, "Lässt nach", s.Title, "the customer's language, when none is said")
	assert.Equal(t, "4. März 2026", s.Date)
	assert.Equal(
		t,
		[]string{
			"Einige Daten konnten nicht gelesen werden. Wir zählen 3; unsere Grenze ist 100.",
			"Das Laufwerk ist in Ordnung, das Dateisystem ist beschädigt: die Partitionstabelle.",
		},
		s.Why,
	)
	assert.Equal(t, []string{"Behalten Sie eine zweite Kopie der Daten.", "Behalten Sie die Kopie vom 4. März 2026."}, s.Do)
	assert.Equal(t, "Seinen eigenen ausführlichen Test bestand es zuletzt bei 20\u00A0400 Betriebsstunden.", s.Checked[1])
	assert.Contains(t, s.Facts, Particular{"Benutzt", "20\u00A0512 Stunden, hergestellt August 2021"})
	var page bytes.Buffer
	require.NoError(t, StatementHTML(&page, s))
	assert.Contains(t, page.String(), `<html lang="de">`)
	assert.Contains(t, page.String(), "Was jetzt zu tun ist")
	assert.Equal(
		t, "Les 2,5 TB ont été lus une fois, les endroits lents une seconde fois.",
		wording.Say(wording.PaperReadAll, wording.Values{"bytes": 2.5e12}).In(wording.French),
	)
	assert.Equal(t, "En declive", StatementOf(p, wording.Spanish).Title, "and another one when it is")
}

func TestLabelPictureHasItsSizeInIt(t *testing.T) {
	for _, dpi := range []int{203, 300} {
		var b bytes.Buffer
		require.NoError(t, LabelPNG(&b, Stocks[0], LabelOf(paperOf(), "http://127.0.0.1:8347/drives/KVA077M511", wording.English), dpi))
		assert.Contains(t, b.String(), "pHYs")
		picture, err := png.Decode(&b)
		require.NoError(t, err)
		assert.InDelta(t, 62/25.4*float64(dpi), picture.Bounds().Dx(), 0.5)
		ink := map[uint32]bool{}
		for y := range picture.Bounds().Dy() {
			for x := range picture.Bounds().Dx() {
				r, _, _, _ := picture.At(x, y).RGBA()
				ink[r] = true
			}
		}
		assert.Equal(t, map[uint32]bool{0: true, 0xFFFF: true}, ink, "one ink")
	}
}

// What the type has no letter for is shown as such, never left out unseen; the page in HTML has every script.
func TestScripts(t *testing.T) {
	assert.Equal(t, "Щ Ω ž □□", printable("Щ Ω ž 漢字"))
	assert.Equal(t, "ab", printable("a\x1bb"))
	p := paperOf()
	p.Intake.Customer = "漢字 <b>"
	var b bytes.Buffer
	require.NoError(t, StatementHTML(&b, StatementOf(p, wording.Language{})))
	assert.Contains(t, b.String(), "漢字 &lt;b&gt;")
}

func lotOf(n int) desk.LotView {
	v := desk.LotView{
		Lot:   shop.Lot{ID: 114, Customer: strings.Repeat("Quillet Ferry ", 7), Duty: drive.Everyday, At: noon, Expected: n},
		Count: map[drive.Grade]int{},
	}
	for i := range n {
		d := shop.Drive{Now: shop.Now{Grade: drive.Healthy}}
		d.Identity.Key = drive.Key{Model: "Korvan K4-2000", Serial: fmt.Sprintf("=KVA%07d", i)}
		v.Drives = append(v.Drives, desk.LotDrive{
			Intake: shop.Intake{ID: int64(i + 1)},
			Drive:  &d,
			Grade:  drive.Grade(i % 4),
			Next:   wording.Say(wording.NextSign),
			Apart:  []string{strings.Repeat("hours 41 806 h, ", 5)},
			Duties: []verdict.Fit{{Duty: drive.Carry, Fitness: policy.Does}},
			Values: signal.ValuesOf(
				signal.Set{
					signal.PowerOnHours: {Number: 20000, Available: true},
					signal.Reallocated:  {Number: float64(i), Available: true},
				},
			),
		})
		v.Count[drive.Grade(i%4)]++
	}
	for _, d := range drive.Duties() {
		v.Usable = append(v.Usable, desk.Usable{Duty: d, Does: n / 2, Care: 3, Of: n})
	}
	return v
}

func TestLotSummaryHoldsEveryDrive(t *testing.T) {
	for _, n := range []int{0, 1, 30, 200} {
		v := lotOf(n)
		r := record(pageWidth, pageHeight)
		pages := lotPages(strings.Repeat("Saltmarsh Lane ", 9), v, 7, noon, r, func() { r.texts = nil })
		assert.Empty(t, r.outside)
		serials := 0
		for _, w := range r.words {
			if strings.HasPrefix(w, "=KVA") {
				serials++
			}
		}
		assert.Equal(t, n, serials)
		assert.Equal(t, n > 28, pages > 1, "%d drives on %d pages", n, pages)
	}
	var b bytes.Buffer
	require.NoError(t, LotCSV(&b, lotOf(3)))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, "'=KVA0000000", rows[1][1], "a serial is no formula")
	assert.Equal(t, "does", rows[1][slices.Index(rows[0], "for carry")])
	assert.Equal(t, "not judged", rows[1][slices.Index(rows[0], "for archive")])
	assert.Equal(t, "2", rows[3][slices.Index(rows[0], "reallocated sectors")])
}

func TestArchiveCarriesItsChecksums(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, Archive(&b, []File{{"drive.json", "who it is", []byte("{}")}}, noon))
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	bodies := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		body, err := io.ReadAll(r)
		require.NoError(t, err)
		bodies[f.Name] = string(body)
	}
	require.Len(t, bodies, 3)
	for _, name := range []string{"drive.json", "README.txt"} {
		assert.Contains(t, bodies["SHA256SUMS"], fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(bodies[name])), name))
	}
	assert.Contains(t, bodies["README.txt"], "who it is")
}

func TestACellOfATableIsNoFormula(t *testing.T) {
	for _, s := range []string{"=1+1", "+1", "-1", "@x", "\t=1", "\r=1", "\n=1", "＝1", "＋1", "－1", "＠x"} {
		assert.Equal(t, "'"+visible.Text(s), harmless(s))
	}
	for _, s := range []string{"", "KVA077M511", "a=1", "éa", "\u00a0"} {
		assert.Equal(t, s, harmless(s))
	}
}
