// Package reading turns the pages a drive sent into a Reading: identity, counters, self-tests, errors, facts with the place
// of their bytes, and a fault for everything that could not be learned. All decoding happens here, at the service; a bench
// only sends bytes. Start with Decode.
package reading

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/wording"
)

// DecoderVersion is kept with everything decoded; it rises whenever the same pages would decode differently.
const DecoderVersion = 6

// Attribute is one counter with everything known of it.
type Attribute struct {
	ata.Attribute
	dialect.Entry
	Quantity  dialect.Quantity
	Threshold *ata.Threshold // nil: the drive gives none
}

// State tells where an attribute stands against its threshold.
type State string

// The states of an attribute.
const (
	Above      State = "above"    // never at or below its threshold
	FellBefore State = "fell"     // was at or below once, is above now
	Failing    State = "failing"  // at or below now
	Unjudged   State = "unjudged" // no threshold, one that never fails, or a value that carries no judgement: StateReason says which
)

// State compares Value and Worst with the threshold.
func (a Attribute) State() State {
	switch {
	case a.StateReason() != "":
		return Unjudged
	case a.Threshold.Fails(a.Value):
		return Failing
	case a.Threshold.Fails(a.Worst):
		return FellBefore
	}
	return Above
}

// StateReason says in words why the attribute is not judged by its threshold; empty: it is.
func (a Attribute) StateReason() string {
	if a.Threshold == nil {
		return "the drive gives no threshold"
	}
	return a.Threshold.Unjudged(a.Value)
}

// Capabilities tell what the drive can do for a check.
type Capabilities struct {
	SelfTest     bool
	Conveyance   bool
	Selective    bool
	ShortPoll    time.Duration // the drive's own estimate of a short self-test
	ExtendedPoll time.Duration
	// ConveyancePoll is that of a conveyance self-test; 0: the drive gives none.
	ConveyancePoll time.Duration
}

// SelfTest is one result of a drive's own log, the same for every interface.
type SelfTest struct {
	Kind      string // short, extended, conveyance ...
	Result    string // in words
	Passed    bool
	Failed    bool // the drive is at fault; aborted and interrupted tests are neither
	Mechanics bool // failed on mechanics or electronics
	Running   bool
	Hours     uint64 // power-on hours when it ended
	Wraps     bool   // Hours is the lower 16 bits
	Saturated bool   // Hours is that many or more
	LBA       uint64 // first failing
	HasLBA    bool
	Page      PageName
	Offset    int
}

// LoggedError is one error of a drive's own log.
type LoggedError struct {
	Command string // that failed
	Meaning string // what came back
	State   string // what the drive was doing; empty unknown
	Hours   int64  // powered on; -1 unknown
	LBA     uint64
	HasLBA  bool
	Before  []string // commands before it, oldest first
	Host    bool     // the host's doing, not the drive's
	Page    PageName
	Offset  int
}

// SCSI is what a SCSI drive's own pages hold besides facts. A nil pointer was not read.
type SCSI struct {
	Logs          map[scsi.LogID]scsi.LogPage
	Control       *scsi.Control
	Pending       *scsi.PendingDefects
	Environment   *scsi.Environment
	Defects       *scsi.Defects
	Background    *scsi.Background
	Informational *scsi.Informational
	Ports         []scsi.PortPhy
}

// Reading is everything a drive told at one moment, decoded. It is derived: the pages are what is kept.
type Reading struct {
	Identity      drive.Identity
	Dialect       dialect.Match
	Attributes    []Attribute
	HasCounters   bool // SMART data, or the interface's own counters, were read and decoded
	Capabilities  Capabilities
	TestRunning   bool
	TestRemaining uint8 // per cent, while TestRunning
	Alarm         ata.Alarm
	AlarmFrom     PageName   // which page told it, where that is not the usual one
	Tests         []SelfTest // newest first
	HasTests      bool
	Errors        []LoggedError
	ErrorTotal    uint64
	HasErrors     bool
	Statistics    []ata.Statistic
	PHY           []ata.PHYCounter
	Pending       *ata.PendingLog
	Elements      *scsi.Elements // heads with their surfaces, where the drive tells of them
	SCT           *ata.SCTReport
	Curve         *ata.TemperatureHistory
	Health        *nvme.Health
	Datacenter    *nvme.Datacenter
	Controller    *nvme.Controller
	Endurance     []nvme.Endurance // of each group
	SCSI          SCSI
	Sheets        []Sheet // only of Explain
	Faults        []drive.Fault

	adapter  shown
	hasExt   bool // tests or errors of the extended logs stand already
	explains bool // facts are wanted
}

// Attribute finds a counter by its number.
func (r *Reading) Attribute(id uint8) (Attribute, bool) {
	for i := range r.Attributes {
		if r.Attributes[i].ID == id {
			return r.Attributes[i], true
		}
	}
	return Attribute{}, false
}

// Statistic finds a device statistic that has a value.
func (r *Reading) Statistic(key ata.StatisticKey) (ata.Statistic, bool) {
	for i := range r.Statistics {
		if s := &r.Statistics[i]; s.StatisticKey == key && s.Valid && (!s.Normalized || key.IsShare()) {
			return *s, true
		}
	}
	return ata.Statistic{}, false
}

// FaultOf gives the fault that stands for a page, if one does.
func (r *Reading) FaultOf(page PageName) (drive.Fault, bool) {
	for _, f := range r.Faults {
		if f.Page == string(page) && f.At == 0 {
			return f, true
		}
	}
	return drive.Fault{}, false
}

// Decode reads all pages. A broken page becomes faults; what is whole in it, and the other pages, are still decoded.
func Decode(pages []Page) Reading { return DecodeAs(pages, dialect.Hints{}) }

// DecodeAs is Decode with what was concluded earlier from the drive's own behaviour.
func DecodeAs(pages []Page, hints dialect.Hints) Reading { return decode(pages, hints, false) }

// naming are the pages from which a drive has its name.
var naming = []PageName{PageInquiry, PageIdentify, PageController, PageImage, PageVPD(scsi.VPDSerial)}

// Named is the key that Decode gives the drive, for those who need nothing else of its pages.
func Named(pages []Page) drive.Key {
	var some []Page
	for _, p := range pages {
		if slices.Contains(naming, p.Name) {
			some = append(some, p)
		}
	}
	return Decode(some).Identity.Key
}

// Explain is DecodeAs with Sheets: the facts of every page in words. They are for people and cost more than all else.
func Explain(pages []Page, hints dialect.Hints) Reading { return decode(pages, hints, true) }

func decode(pages []Page, hints dialect.Hints, explain bool) Reading {
	r := Reading{explains: explain}
	var thresholds []ata.Threshold
	for _, p := range pages {
		if p.Fault != nil {
			f := *p.Fault
			f.Page = string(p.Name)
			r.Faults = append(r.Faults, f)
			continue
		}
		var err error
		if b, is := blank(p); is { // nothing in it is the drive's
			r.Faults = append(
				r.Faults,
				drive.Fault{
					Class: drive.FaultBadAnswer,
					What:  "decoding " + p.Name.Title(),
					Cause: fmt.Sprintf("every byte is %02Xh", b),
					Page:  string(p.Name),
				},
			)
			continue
		}
		if p.Name == PageThresholds {
			thresholds, err = ata.DecodeThresholds(p.Bytes)
		} else {
			err = r.page(p)
		}
		r.broken(p.Name, err)
	}
	r.translate(thresholds, hints)
	r.settle()
	return r
}

// emptyMay are the pages that are all zeros when there is nothing to tell.
var emptyMay = []PageName{
	PagePending,
	PageNVMeErrors,
	PageNVMeTests,
	PageSanitize,
	PagePHY,
	PageErrorLog,
	PageErrors,
	PageErrorsExt,
	PageTestLog,
	PageTestLogExt,
	PageSelective,
	PageDirectory,
	PageDirectoryExt,
	PageEffects,
	PageNamespaces,
	PageDatacenter,
	PageVPD(scsi.VPDPages),
	PageLog(scsi.LogPages),
	PageInternalStatus,
	PageIdentifyData,
	PageTelemetry,
}

// leastBlank is the length from which a page of one byte, repeated, is no chance.
const leastBlank = 64

// blank reports whether a page is one byte over and over: all ones, which no page ever is, or all zeros, which some are when there is
// nothing to tell. Such a page passes its own checksum, and says of every counter what no drive said.
func blank(p Page) (b byte, is bool) {
	if len(p.Bytes) < leastBlank {
		return 0, false
	}
	if b = p.Bytes[0]; b != 0 && b != 0xFF {
		return b, false
	}
	for _, x := range p.Bytes {
		if x != b {
			return b, false
		}
	}
	if b == 0 &&
		(slices.Contains(emptyMay, p.Name) || strings.HasPrefix(string(p.Name), nsPrefix) ||
			strings.HasPrefix(string(p.Name), namesPrefix)) {
		return b, false
	}
	return b, true
}

// settle concludes what only several pages together tell.
func (r *Reading) settle() {
	if c := r.SCSI.Control; c != nil && c.Disabled && r.Alarm == ata.AlarmNotRaised { // it was told to be silent
		r.Alarm = ata.AlarmUnknown
	}
	if r.SCT != nil && (r.Alarm == ata.AlarmUnknown || r.Alarm == ata.AlarmEchoed) { // where an adapter drops or hands back registers
		if told := r.SCT.Alarm(); told != ata.AlarmUnknown {
			r.Alarm, r.AlarmFrom = told, PageSCTStatus
		}
	}
	if s := &r.Identity.Security; !s.Locked &&
		slices.ContainsFunc(r.Faults, func(f drive.Fault) bool { return f.Class == drive.FaultLocked }) {
		s.Locked, s.By = true, drive.LockRefuses
	}
	r.compareCapacity()
}

// compareCapacity holds the size an adapter shows against the drive's own.
func (r *Reading) compareCapacity() {
	id := &r.Identity
	shown := r.adapter.bytes()
	if id.Interface != drive.ATA || id.Bytes == 0 || shown == 0 || shown == id.Bytes {
		return
	}
	id.Shown = shown
	f := drive.Fault{
		Class: drive.FaultCapacity, What: "comparing capacities", Page: string(PageCapacity), At: 8,
		Cause: fmt.Sprintf("the drive has %s, this adapter shows %s", wording.Of(float64(id.Bytes), "B"), wording.Of(float64(shown), "B")),
		Extra: "Use a direct port: through this adapter a part of the drive is out of reach.",
	}
	if shown > id.Bytes {
		f.Extra = "Use a direct port: this adapter shows more than there is."
	}
	r.Faults = append(r.Faults, f)
}

// page decodes one page.
func (r *Reading) page(p Page) error {
	switch {
	case p.Name.Attachment():
		return nil
	case strings.HasPrefix(string(p.Name), "ata/"):
		return r.ataPage(p)
	case strings.HasPrefix(string(p.Name), "nvme/"):
		return r.nvmePage(p)
	case strings.HasPrefix(string(p.Name), "scsi/"):
		return r.scsiPage(p)
	case p.Name == PageImage:
		return r.image(p.Bytes)
	}
	r.unknown(p.Name)
	return nil
}

// Image is what a machine says of an image file, or of a block device without a drive behind it.
type Image struct {
	Name   string `json:"name"`
	Bytes  uint64 `json:"bytes"`
	Sector uint32 `json:"sector"`
}

func (r *Reading) image(b []byte) error {
	var i Image
	if err := json.Unmarshal(b, &i); err != nil {
		return err
	}
	r.Identity = drive.Identity{
		Key:            drive.Key{Model: "Image file", Serial: drive.Name(i.Name)},
		Bytes:          i.Bytes,
		LogicalSector:  i.Sector,
		PhysicalSector: i.Sector,
		Transport:      "image",
	}
	s := r.sheet(PageImage)
	s.add("Name", 0, len(b), r.Identity.Serial, "")
	s.add("Size", 0, len(b), i.Bytes, "B")
	return nil
}

func (r *Reading) unknown(n PageName) {
	r.Faults = append(
		r.Faults,
		drive.Fault{
			Class: drive.FaultOutOfRange,
			What:  "decoding " + string(n),
			Cause: "a page this version has no decoder for",
			Page:  string(n),
		},
	)
}

// sheet begins the facts of a page; nil, which takes facts and forgets them, when they are not wanted.
func (r *Reading) sheet(n PageName) *Sheet {
	if !r.explains {
		return nil
	}
	r.Sheets = append(r.Sheets, Sheet{Page: n})
	return &r.Sheets[len(r.Sheets)-1]
}

// translate gives the attributes their meaning, which takes identity and all attribute numbers, and their thresholds.
func (r *Reading) translate(thresholds []ata.Threshold, hints dialect.Hints) {
	if len(r.Attributes) == 0 {
		return
	}
	s := dialect.Subject{WWN: r.Identity.WWN, Model: r.Identity.Model, Medium: r.Identity.Medium, Numbers: make([]uint8, len(r.Attributes))}
	for i := range r.Attributes {
		s.Numbers[i] = r.Attributes[i].ID
	}
	r.Dialect = dialect.Find(s)
	r.Dialect.Hints = hints
	if hours, ok := r.Statistic(ata.StatPowerOnHours); ok {
		if nine, has := r.Attribute(9); has {
			h, ok := dialect.CompareHours(nine.Raw48(), float64(hours.Value))
			if ok && h.Hours == dialect.HoursLayout(r.Dialect.Family) { // it says what the family says
				h = dialect.Hints{}
			}
			if ok {
				r.Dialect.Hints = h
			}
		}
	}
	for i := range r.Attributes {
		a := &r.Attributes[i]
		a.Entry = r.Dialect.Entry(a.ID)
		a.Quantity = dialect.Decode(a.Entry, a.Raw, a.Value)
		for j := range thresholds {
			if thresholds[j].ID == a.ID {
				a.Threshold = &thresholds[j]
				break
			}
		}
	}
}

// shown is the capacity an adapter shows for a drive that has its own word for it.
type shown struct {
	blocks uint64
	block  uint32
}

func (s shown) bytes() uint64 { return s.blocks * uint64(s.block) }

// placed is an error of the standards' rooms.
type placed interface {
	error
	Place() (structure string, offset int, reason string)
}

// places lists the parts an error joins.
func places(err error) []placed {
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		var all []placed
		for _, e := range many.Unwrap() {
			all = append(all, places(e)...)
		}
		return all
	}
	if one, ok := err.(placed); ok { //nolint:errorlint // joined errors are taken apart above
		return []placed{one}
	}
	return nil
}

// broken records a decoder's complaints as faults of the page. Counters from a page whose checksum is wrong are shown
// and marked, never judged: HasCounters goes.
func (r *Reading) broken(page PageName, err error) {
	if err == nil {
		return
	}
	all := places(err)
	for _, e := range all {
		structure, at, reason := e.Place()
		r.Faults = append(
			r.Faults,
			drive.Fault{
				Class: drive.FaultBadAnswer,
				What:  "decoding " + structure,
				Cause: fmt.Sprintf("byte %d: %s", at, reason),
				Page:  string(page),
				At:    at,
			},
		)
	}
	if len(all) == 0 {
		r.Faults = append(
			r.Faults,
			drive.Fault{Class: drive.FaultBadAnswer, What: "decoding " + page.Title(), Cause: err.Error(), Page: string(page)},
		)
	}
	switch page {
	case PageAttributes, PageHealth:
		r.HasCounters = false
	case PageTestLog, PageNVMeTests, PageLog(scsi.LogSelfTests):
		r.HasTests = false
	case PageErrorLog, PageNVMeErrors:
		r.HasErrors = false
	default: // nothing else is judged by these
	}
}
