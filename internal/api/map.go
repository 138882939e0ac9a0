package api

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"time"

	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/core/verdict"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/shop/desk"
	"hylostat.example/internal/shop/record"
)

// optional is nil for a zero value: what is not known is left out, never written as 0.
func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func when(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func faultOf(f drive.Fault) contract.Fault {
	return contract.Fault{Class: string(f.Class), What: f.What, Back: f.Cause, Advice: f.Advice(), Page: text(f.Page), At: optional(f.At)}
}

func bayOf(v desk.BayView) contract.Bay {
	b := contract.Bay{
		Name:       v.Bay.ID,
		Bench:      v.Bay.ID.Bench,
		Number:     v.Bay.ID.Number,
		Address:    string(v.Bay.Address),
		Connection: contract.BayConnection(v.Bay.Connection),
		Attempts:   v.Bay.Attempts,
		Since:      v.Bay.Since,
		Label:      text(v.Bay.Label),
		Hidden:     optional(v.Bay.Hidden),
		Doing:      said(v.Doing),
		Note:       saying(v.Note),
		Action:     contract.BayAction(v.Action),
		Next:       said(v.Next),
	}
	if a := v.Bay.Device; a.Node != "" {
		b.Attached = &contract.Attached{
			Node:      a.Node,
			Transport: a.Transport,
			Vendor:    text(a.Vendor),
			Model:     text(a.Model),
			Serial:    text(a.Serial),
			Bytes:     int64(a.Bytes),
			InUse:     text(a.InUse),
			Written:   optional(int64(a.Written)),
		}
		b.WriteProtected = &v.Bay.WriteProtected
	}
	if v.Drive != nil {
		d := driveOf(*v.Drive)
		b.Drive = &d
	}
	if v.Run != nil {
		r := runOf(*v.Run)
		b.Run = &r
	}
	if v.Intake != nil {
		i := intakeOf(*v.Intake)
		b.Intake = &i
	}
	if v.Bay.Fault != nil {
		f := faultOf(*v.Bay.Fault)
		b.Fault = &f
	}
	return b
}

func signOf(s *shop.SignOff, given drive.Grade) *contract.SignOff {
	if s == nil {
		return nil
	}
	return &contract.SignOff{
		At:        s.At,
		By:        s.By,
		Grade:     contract.Grade(s.Grade.String()),
		Reason:    text(s.Reason),
		Overruled: s.Grade != given,
	}
}

func featureOf(f drive.Feature) contract.Feature {
	return contract.Feature{Supported: f.Supported, Enabled: f.Enabled}
}

func driveOf(d shop.Drive) contract.Drive {
	id, l := d.Identity, listedOf(d.Listed())
	out := contract.Drive{
		Serial:         l.Serial,
		Model:          l.Model,
		Firmware:       text(id.Firmware),
		Interface:      contract.DriveInterface(l.Interface),
		Medium:         optional(contract.DriveMedium(id.Medium)),
		Bytes:          l.Bytes,
		LogicalSector:  optional(int(id.LogicalSector)),
		PhysicalSector: optional(int(id.PhysicalSector)),
		RotationRate:   optional(int(id.RotationRate)),
		FormFactor:     text(id.FormFactor),
		LinkNow:        text(id.LinkNow),
		LinkPossible:   text(id.LinkPossible),
		Namespaces:     optional(id.Namespaces),
		Hidden:         optional(int64(id.Hidden)),
		HiddenBy:       text(id.HiddenBy),
		Protection:     text(id.Protection),
		Transport:      text(id.Transport),
		Smart:          featureOf(id.SMART),
		SelfTest:       featureOf(id.SelfTest),
		Trim:           &id.TRIM.Supported,
		Security: contract.Security{
			Supported:    id.Security.Supported,
			Enabled:      id.Security.Enabled,
			Locked:       id.Security.Locked,
			Frozen:       id.Security.Frozen,
			CountExpired: id.Security.CountExpired,
		},
		Duty:        l.Duty,
		Grade:       l.Grade,
		Signed:      l.Signed,
		Headline:    l.Headline,
		Findings:    l.Findings,
		Margin:      l.Margin,
		MarginShare: l.MarginShare,
		Hours:       l.Hours,
		Temperature: l.Temperature,
		Readings:    l.Readings,
		FirstSeen:   d.FirstSeen,
		LastRead:    l.LastRead,
		Bay:         l.Bay,
	}
	if len(d.Now.OtherBays) > 0 {
		out.OtherBays = &d.Now.OtherBays
	}
	out.Wwn, out.Shown = text(string(id.WWN)), optional(int64(id.Shown))
	if id.Security.Locked {
		out.Security.By = optional(contract.SecurityBy(cmp.Or(id.Security.By, drive.LockPassword)))
	}
	if id.Security.Encrypting {
		out.Security.Encrypting = &id.Security.Encrypting
	}
	return out
}

func listedOf(d shop.Listed) contract.ListedDrive {
	n := d.Now
	out := contract.ListedDrive{
		Serial:    d.Key.Serial,
		Model:     d.Key.Model,
		Interface: contract.ListedDriveInterface(d.Interface),
		Medium:    optional(contract.ListedDriveMedium(d.Medium)),
		Bytes:     optional(int64(d.Bytes)),
		Duty:      contract.Duty(d.Duty),
		Grade:     contract.Grade(n.Grade.String()),
		Signed:    signOf(n.Signed, n.Grade),
		Headline:  text(n.First),
		Findings:  &n.Findings,
		Margin:    text(n.Margin),
		Readings:  n.Readings,
		Bay:       optional(n.Bay),
	}
	if d.Interface == drive.InterfaceUnknown {
		out.Interface = contract.ListedUnknown
	}
	if n.Margin != "" {
		out.MarginShare = &n.MarginShare
	}
	if n.HasHours {
		out.Hours = &n.Hours
	}
	if n.HasTemp {
		out.Temperature = &n.Temperature
	}
	if n.Readings > 0 {
		out.LastRead = &n.LastAt
	}
	return out
}

func intakeOf(i shop.Intake) contract.Intake {
	out := contract.Intake{
		Id:        i.ID,
		Lot:       optional(i.Lot),
		Bay:       i.Bay,
		At:        i.At,
		By:        i.By,
		Ticket:    text(i.Ticket),
		Customer:  text(i.Customer),
		Reference: text(i.Reference),
		Language:  languageSaid(i.Language),
		Complaint: text(i.Complaint),
		Label:     text(i.Label),
		Made:      text(i.Made),
		Clicks:    optional(i.Clicks),
		CopiedAt:  when(i.CopiedAt),
		Wanted:    i.Wanted,
		Copied:    i.Copied,
		AtRisk:    i.AtRisk(),
		Duty:      contract.Duty(i.Duty),
	}
	if r := i.Release; r != nil {
		out.Release = &contract.Release{Scope: contract.ReworkKind(r.Scope), Owner: r.Owner, By: r.By, At: r.At}
	}
	if len(i.Tried) > 0 && i.Drive == 0 {
		bays := each(i.Tried, func(p shop.Port) drive.Bay { return p.Bay })
		out.Tried = &bays
	}
	if h := i.Handover; h != nil {
		out.Handover = &contract.Handover{
			Goes: contract.HandoverGoes(h.Goes),
			Data: contract.DataState(h.Data),
			Note: text(h.Note),
			By:   h.By,
			At:   h.At,
		}
	}
	return out
}

func entryOf(e desk.Entry) contract.Entry {
	out := contract.Entry{
		At:      e.At,
		Kind:    contract.EntryKind(e.Kind),
		Text:    said(e.Says),
		Run:     optional(e.Run),
		Reading: optional(e.Reading),
		Verdict: optional(e.Verdict),
	}
	if e.Hours >= 0 {
		out.Hours = &e.Hours
	}
	if e.Grade != nil {
		g := contract.Grade(e.Grade.String())
		out.Grade = &g
	}
	return out
}

func marginOf(m *verdict.Margin) *contract.Margin {
	if m == nil {
		return nil
	}
	return &contract.Margin{Used: m.Used, Of: m.Of, Words: m.Words}
}

func signalsOf(courses []record.Course, moments []shop.Moment, intake *shop.Intake) contract.Signals {
	out := contract.Signals{Signals: each(courses, signalOf), Readings: len(moments), Marks: []contract.Mark{}}
	for i, m := range moments {
		h, ok := m.Signals.Get(signal.PowerOnHours)
		if !ok {
			continue
		}
		if out.FirstHours == nil {
			out.FirstHours = &h
		}
		out.LastHours = &h
		if m.Step == check.ReadingAfter {
			out.Marks = append(out.Marks, contract.Mark{Kind: "quick", Hours: h, Reading: m.Seq})
		}
		if intake != nil && i > 0 && !m.At.Before(intake.At) && moments[i-1].At.Before(intake.At) {
			out.Marks = append(out.Marks, contract.Mark{Kind: "visit", Hours: h, Reading: m.Seq})
		}
	}
	return out
}

func signalOf(c record.Course) contract.Signal {
	d, v := c.Definition, c.Value
	out := contract.Signal{
		Name:     string(d.Name),
		Words:    d.Words,
		Unit:     d.Unit,
		Usual:    d.Usual,
		Matters:  d.Matters,
		Reason:   text(v.Reason),
		Since:    text(c.Since),
		Limit:    c.Limit,
		Margin:   marginOf(c.Margin),
		Finding:  optional(c.Finding),
		Hours:    c.Hours,
		Values:   c.Values,
		Readings: c.Seqs,
		Trend:    trendOf(c),
	}
	if out.Hours == nil {
		out.Hours, out.Values, out.Readings = []float64{}, []float64{}, []int{}
	}
	if v.Available {
		out.Value, out.Source, out.Confidence, out.Page = &v.Number, text(v.Source), text(string(v.Confidence)), text(string(v.Page))
		out.Disagrees = text(v.Disagrees)
		if v.Length > 0 {
			out.Offset, out.Length = &v.Offset, &v.Length
		}
	}
	return out
}

func differenceOf(d record.Difference) contract.Difference {
	out := contract.Difference{
		Signal:  string(d.Definition.Name),
		Words:   d.Definition.Words,
		Unit:    d.Definition.Unit,
		Before:  d.Then,
		Now:     d.Now,
		Change:  text(d.Change),
		Says:    d.Says,
		Matters: d.Matters,
	}
	if d.Now == nil {
		out.Reason = text(d.Reason)
	}
	return out
}

func summaryOf(m shop.Moment) contract.ReadingSummary {
	out := contract.ReadingSummary{Seq: m.Seq, At: m.At, Run: optional(m.Run), Step: text(string(m.Step))}
	out.Hours, out.Temperature = number(m.Signals, signal.PowerOnHours), number(m.Signals, signal.Temperature)
	return out
}

func number(s signal.Values, n signal.Name) *float64 {
	if x, ok := s.Get(n); ok {
		return &x
	}
	return nil
}

func readingOf(drv shop.Drive, r shop.Reading, raw bool) contract.Reading {
	d := reading.Explain(r.Pages, drv.Hints)
	out := contract.Reading{
		Seq:         r.Seq,
		At:          r.At,
		TookMs:      int(r.Took.Milliseconds()),
		Tool:        r.Tool,
		Decoder:     reading.DecoderVersion,
		Dialect:     dialect.Version(),
		Family:      d.Dialect.ID(),
		Sheets:      each(d.Sheets, sheetOf),
		TestsKnown:  &d.HasTests,
		Bay:         optional(r.Bay),
		Run:         optional(r.Run),
		Alarm:       contract.ReadingAlarm(d.Alarm.String()),
		Attributes:  each(d.Attributes, attributeOf),
		Statistics:  each(d.Statistics, statisticOf),
		SelfTests:   each(d.Tests, testOf),
		Errors:      each(d.Errors, errorOf),
		Faults:      each(d.Faults, faultOf),
		Pages:       make([]contract.Page, len(r.Pages)),
		Hours:       number(r.Signals, signal.PowerOnHours),
		Temperature: number(r.Signals, signal.Temperature),
	}
	if d.HasErrors {
		total := int64(d.ErrorTotal)
		out.ErrorTotal = &total
	}
	for i, p := range r.Pages {
		page := contract.Page{Name: string(p.Name), Title: p.Name.Title(), How: p.How}
		if p.Fault != nil {
			f := faultOf(*p.Fault)
			page.Fault = &f
		} else {
			size := len(p.Bytes)
			page.Size = &size
		}
		if raw && p.Fault == nil {
			page.Bytes = &p.Bytes
		}
		out.Pages[i] = page
	}
	return out
}

func attributeOf(a reading.Attribute) contract.Attribute {
	raw := a.Raw
	for i, j := 0, len(raw)-1; i < j; i, j = i+1, j-1 {
		raw[i], raw[j] = raw[j], raw[i]
	}
	out := contract.Attribute{
		Id:          int(a.ID),
		Name:        a.Name,
		Explain:     a.Explain,
		Meaning:     meaning(a),
		Value:       int(a.Value),
		Worst:       int(a.Worst),
		Kind:        "advisory",
		State:       contract.AttributeState(a.State()),
		StateReason: text(a.StateReason()),
		Raw:         hex.EncodeToString(raw[:]),
		Offset:      a.Offset,
		Confidence:  string(a.Quantity.Confidence),
		From:        a.From,
	}
	if a.PreFailure() {
		out.Kind = "pre-failure"
	}
	if a.Threshold != nil {
		level := int(a.Threshold.Level)
		out.Threshold = &level
	}
	return out
}

// meaning says what the raw bytes say, as far as anyone can tell.
func meaning(a reading.Attribute) string {
	q := a.Quantity
	switch {
	case q.Operations > 0 && q.Known:
		return fmt.Sprintf("%s in %s", wording.Number(float64(q.Number)), wording.Number(float64(q.Operations)))
	case q.Operations > 0:
		return fmt.Sprintf("%s in %s, if packed", wording.Number(float64(q.Number)), wording.Number(float64(q.Operations)))
	case !q.Known:
		return fmt.Sprintf("%s, unit not known", wording.Number(float64(a.Raw48())))
	case q.HasRange:
		return fmt.Sprintf("%d °C, %d to %d °C", q.Number, q.Lowest, q.Highest)
	}
	return wording.Of(float64(q.Number), q.Unit)
}

func statisticOf(s ata.Statistic) contract.Statistic {
	out := contract.Statistic{Name: s.Name, Unit: s.Unit, Normalized: s.Normalized, Offset: int(s.Page)*ata.PageSize + int(s.Offset)}
	if s.Name == "" {
		out.Name = fmt.Sprintf("page %d, byte %d, without a name in this version", s.Page, s.Offset)
	}
	if s.Valid {
		out.Value = &s.Value
	}
	return out
}

// entrySize is how many bytes one entry of a drive's own log takes.
var entrySize = map[reading.PageName]int{
	reading.PageTestLog: 24, reading.PageTestLogExt: 26, reading.PageNVMeTests: 28, reading.PageLog(scsi.LogSelfTests): 16,
	reading.PageErrorLog: 90, reading.PageErrors: 90, reading.PageErrorsExt: 124, reading.PageNVMeErrors: 64,
}

func testOf(t reading.SelfTest) contract.SelfTest {
	out := contract.SelfTest{
		Kind:   t.Kind,
		Result: t.Result,
		Failed: t.Failed,
		Hours:  int64(t.Hours),
		Page:   string(t.Page),
		Offset: t.Offset,
		Length: entrySize[t.Page],
		OrMore: optional(t.Saturated),
	}
	if t.HasLBA {
		lba := int64(t.LBA)
		out.Lba = &lba
	}
	return out
}

func errorOf(e reading.LoggedError) contract.LoggedError {
	out := contract.LoggedError{
		Command: e.Command,
		Meaning: e.Meaning,
		State:   text(e.State),
		Host:    e.Host,
		Before:  append([]string{}, e.Before...),
		Page:    string(e.Page),
		Offset:  e.Offset,
		Length:  entrySize[e.Page],
	}
	if e.Hours >= 0 {
		out.Hours = &e.Hours
	}
	if e.HasLBA {
		lba := int64(e.LBA)
		out.Lba = &lba
	}
	return out
}

func sheetOf(s reading.Sheet) contract.Sheet {
	return contract.Sheet{Page: string(s.Page), Title: s.Page.Title(), Facts: each(s.Facts, func(f reading.Fact) contract.Fact {
		return contract.Fact{
			Name:   f.Name,
			Value:  text(f.Value),
			Number: optional(f.Number),
			Unit:   f.Unit,
			Reason: text(f.Reason),
			Offset: f.Offset,
			Length: f.Length,
		}
	})}
}

func dialectOf(d shop.Drive, r reading.Reading) contract.Dialect {
	out := contract.Dialect{
		Serial:  d.Identity.Serial,
		Family:  r.Dialect.ID(),
		Title:   "no family is known",
		Sure:    r.Dialect.Sure,
		Why:     append([]string{}, r.Dialect.Why...),
		Version: dialect.Version(),
		Source:  dialect.Source(),
	}
	if f := r.Dialect.Family; f != nil {
		out.Title, out.Source = f.Title, f.Source
	}
	if h := r.Dialect.Hints; h.Hours != "" {
		out.Inferred = text(fmt.Sprintf("attribute 9 counts %s: %s", h.Hours, h.Why))
	}
	out.Entries = each(r.Attributes, func(a reading.Attribute) contract.DialectEntry {
		layout := string(a.Layout)
		if a.Take == dialect.TakeValue {
			layout = "normalised value"
		}
		return contract.DialectEntry{
			Id:         int(a.ID),
			Name:       a.Name,
			Layout:     layout,
			Unit:       a.Unit,
			Signal:     text(a.Signal),
			Confidence: string(a.Confidence),
			From:       a.From,
			Meaning:    meaning(a),
			Explain:    a.Explain,
		}
	})
	out.NotUnderstood = []string{}
	for i := range r.Attributes {
		if a := &r.Attributes[i]; a.NotUnderstood(a.Quantity) != "" {
			out.NotUnderstood = append(out.NotUnderstood, fmt.Sprintf("%d, %s: %s", a.ID, a.Name, a.NotUnderstood(a.Quantity)))
		}
	}
	if values := signal.Of(&r); r.Identity.Medium == drive.Flash && len(r.Attributes) > 0 {
		for _, n := range []signal.Name{signal.PercentageUsed, signal.AvailableSpare} {
			if v := values[n]; !v.Available {
				words, _ := signal.Lookup(n)
				out.NotUnderstood = append(out.NotUnderstood, words.Words+": "+v.Reason)
			}
		}
	}
	return out
}

func runOf(r check.Run) contract.Run {
	return contract.Run{
		Id:       r.ID,
		Kind:     contract.RunKind(r.Kind),
		Title:    r.Kind.Title(),
		Bay:      r.Bay,
		Serial:   r.Key.Serial,
		Model:    r.Key.Model,
		By:       r.By,
		State:    contract.RunState(r.State),
		Outcome:  optional(contract.RunOutcome(r.Outcome)),
		Standing: said(r.Stands()),
		Percent:  r.Percent(),
		LeftS:    int(r.Left().Seconds()),
		Asked:    r.Asked,
		Started:  when(r.Started),
		Ended:    when(r.Ended),
		Steps:    each(r.Steps, stepOf),
		Pause:    saying(r.Pause),
		Despite:  text(r.Despite),
	}
}

func stepOf(s check.Step) contract.Step {
	out := contract.Step{
		Kind:    string(s.Kind),
		Title:   s.Kind.Title(),
		State:   contract.StepState(s.State),
		Percent: s.Percent,
		Note:    saying(s.Note),
		Begun:   when(s.Begun),
		Ended:   when(s.Ended),
	}
	if s.Adopted {
		out.Adopted = &s.Adopted
	}
	if s.Standing != nil {
		standing := standingOf(*s.Standing)
		out.Sweep = &standing
	}
	if s.LBA != nil {
		lba := int64(*s.LBA)
		out.Lba = &lba
	}
	return out
}

func findingOf(f verdict.Finding) contract.Finding {
	return contract.Finding{
		Rule:     f.Rule,
		Effect:   contract.FindingEffect(f.Effect),
		Sentence: f.Sentence,
		Detail:   f.Detail,
		Customer: f.Customer,
		Signals:  each(f.Signals, func(n signal.Name) string { return string(n) }),
		Reading:  f.Reading,
		Rests:    each(f.Rests, restOf),
		Margin:   marginOf(f.Margin),
		Source:   f.Source,
	}
}

func verdictOf(d shop.Drive, v shop.Verdict) contract.Verdict {
	return contract.Verdict{
		Serial:   d.Identity.Serial,
		Seq:      v.Seq,
		At:       v.At,
		Grade:    contract.Grade(v.Grade.String()),
		Duty:     contract.Duty(v.Duty),
		Policy:   v.Policy,
		Reading:  v.Reading,
		Findings: each(v.Findings, findingOf),
		Notes:    each(v.Notes, findingOf),
		Quiet:    v.Quiet,
		Unjudged: each(v.Unjudged, func(u verdict.Unjudged) contract.Unjudged {
			return contract.Unjudged{Rule: u.Rule, Title: u.Title, Reason: u.Reason}
		}),
		Missing: each(v.Missing, func(m verdict.Missing) contract.Missing {
			return contract.Missing{Id: m.ID, What: m.What, Run: m.Run, Minutes: m.Minutes}
		}),
		Advice: append([]string{}, v.Advice...),
		Signed: signOf(v.Signed, v.Grade),
		Duties: each(v.Duties, fitOf),
		Risk:   riskOf(v.Risk),
	}
}

func riskOf(r *verdict.Risk) *contract.Risk {
	if r == nil {
		return nil
	}
	return &contract.Risk{
		Words:      r.Words,
		Year:       r.Year,
		Low:        r.Low,
		High:       r.High,
		Base:       r.Base,
		Calibrated: r.Calibrated,
		Factors: each(r.Factors, func(f verdict.RiskFactor) contract.RiskFactor {
			return contract.RiskFactor{Words: f.Words, Ratio: f.Ratio, Source: f.Source}
		}),
	}
}
