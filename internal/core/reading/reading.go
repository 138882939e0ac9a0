// Package reading turns the pages a drive sent into a Reading: identity, counters, self-tests, errors, and a fault for
// everything that could not be learned. All decoding happens here, at the service; a bench only sends bytes.
// Start with Decode.
package reading

import (
	"fmt"
	"time"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/dialect"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// DecoderVersion is kept with everything decoded; it rises whenever the same pages would decode differently.
const DecoderVersion = 2

// PageName is the address of a page: what was asked of which command set.
type PageName string

// The pages of this edition.
const (
	PageInquiry    PageName = "scsi/inquiry"
	PageIdentify   PageName = "ata/identify"
	PageAttributes PageName = "ata/attributes"
	PageThresholds PageName = "ata/thresholds"
	PageAlarm      PageName = "ata/alarm" // sense data: the answer is in the registers
	PageDirectory  PageName = "ata/log-00"
	PageErrorLog   PageName = "ata/log-01"
	PageStatistics PageName = "ata/log-04"
	PageTestLog    PageName = "ata/log-06"
)

var pageTitles = map[PageName]string{
	PageInquiry: "Inquiry", PageIdentify: "Identify", PageAttributes: "SMART data", PageThresholds: "Thresholds",
	PageAlarm: "The drive's own alarm", PageDirectory: "Log directory", PageErrorLog: "Error log", PageStatistics: "Device statistics", PageTestLog: "Self-test log",
}

// Title is the page's name for people.
func (n PageName) Title() string {
	if title, ok := pageTitles[n]; ok {
		return title
	}
	return string(n)
}

// Page is one block of bytes as the drive sent it, or the fault that stands for it.
type Page struct {
	Name  PageName     `json:"name"`
	How   string       `json:"how"` // the command it came by: "ATA PASS-THROUGH(16)"
	Bytes []byte       `json:"bytes,omitempty"`
	Fault *drive.Fault `json:"fault,omitempty"`
}

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
	Unjudged   State = "unjudged" // no threshold, or a threshold that never fails
)

// State compares Value and Worst with the threshold.
func (a Attribute) State() State {
	switch {
	case a.Threshold == nil || a.Threshold.Level == 0:
		return Unjudged
	case a.Threshold.Fails(a.Value):
		return Failing
	case a.Threshold.Fails(a.Worst):
		return FellBefore
	}
	return Above
}

// Capabilities tell what the drive can do for a check.
type Capabilities struct {
	SelfTest     bool
	Conveyance   bool
	Selective    bool
	ShortPoll    time.Duration // the drive's own estimate of a short self-test
	ExtendedPoll time.Duration
}

// Reading is everything a drive told at one moment, decoded. It is derived: the pages are what is kept.
type Reading struct {
	Identity     drive.Identity
	Attributes   []Attribute
	HasCounters  bool // SMART data was read and decoded
	Capabilities Capabilities
	TestNow      ata.TestStatus // running or last result; meaningful with HasCounters
	TestPercent  uint8          // remaining, while TestNow is ata.TestRunning
	Alarm        ata.Alarm
	Tests        []ata.SelfTest // newest first
	HasTests     bool
	Errors       []ata.LoggedError
	ErrorTotal   uint16
	HasErrors    bool
	Statistics   []ata.Statistic
	Faults       []drive.Fault
}

// Attribute finds a counter by its number.
func (r *Reading) Attribute(id uint8) (Attribute, bool) {
	for _, a := range r.Attributes {
		if a.ID == id {
			return a, true
		}
	}
	return Attribute{}, false
}

// Statistic finds a device statistic that has a value.
func (r *Reading) Statistic(key ata.StatisticKey) (ata.Statistic, bool) {
	for _, s := range r.Statistics {
		if s.StatisticKey == key && s.Valid && !s.Normalized {
			return s, true
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
func Decode(pages []Page) Reading {
	var r Reading
	thresholds := map[uint8]ata.Threshold{}
	for _, p := range pages {
		if p.Fault != nil {
			f := *p.Fault
			f.Page = string(p.Name)
			r.Faults = append(r.Faults, f)
			continue
		}
		var err error
		switch p.Name {
		case PageInquiry:
			err = r.inquiry(p.Bytes)
		case PageIdentify:
			err = r.identify(p.Bytes)
		case PageAttributes:
			err = r.counters(p.Bytes)
		case PageThresholds:
			var all []ata.Threshold
			all, err = ata.DecodeThresholds(p.Bytes)
			for _, t := range all {
				thresholds[t.ID] = t
			}
		case PageAlarm:
			err = r.alarm(p.Bytes)
		case PageDirectory:
			_, err = ata.DecodeLogDirectory(p.Bytes)
		case PageStatistics:
			r.Statistics, err = ata.DecodeStatistics(p.Bytes)
		case PageErrorLog:
			var l ata.ErrorLog
			l, err = ata.DecodeErrorLog(p.Bytes)
			r.Errors, r.ErrorTotal, r.HasErrors = l.Errors, l.Total, len(p.Bytes) >= ata.PageSize
		case PageTestLog:
			var l ata.SelfTestLog
			l, err = ata.DecodeSelfTestLog(p.Bytes)
			r.Tests, r.HasTests = l.Tests, len(p.Bytes) >= ata.PageSize
		default:
			r.Faults = append(r.Faults, drive.Fault{
				Class: drive.FaultOutOfRange, What: "decoding " + string(p.Name), Back: "a page this version has no decoder for", Page: string(p.Name),
			})
		}
		r.broken(p.Name, err)
	}
	for i := range r.Attributes {
		if t, ok := thresholds[r.Attributes[i].ID]; ok {
			r.Attributes[i].Threshold = &t
		}
	}
	return r
}

// broken records a decoder's complaints as faults of the page. Counters from a page whose checksum is wrong are shown
// and marked, never judged: HasCounters goes.
func (r *Reading) broken(page PageName, err error) {
	if err == nil {
		return
	}
	for _, e := range ata.FormatErrors(err) {
		r.Faults = append(r.Faults, drive.Fault{Class: drive.FaultBadAnswer, What: "decoding " + e.Structure, Back: fmt.Sprintf("byte %d: %s", e.Offset, e.Reason), Page: string(page), At: e.Offset})
	}
	if len(ata.FormatErrors(err)) == 0 {
		r.Faults = append(r.Faults, drive.Fault{Class: drive.FaultBadAnswer, What: "decoding " + page.Title(), Back: err.Error(), Page: string(page)})
	}
	switch page {
	case PageAttributes:
		r.HasCounters = false
	case PageTestLog:
		r.HasTests = false
	case PageErrorLog:
		r.HasErrors = false
	default: // nothing else is judged by these
	}
}

func (r *Reading) inquiry(b []byte) error {
	q, err := scsi.DecodeInquiry(b)
	if err != nil || r.Identity.Model != "" {
		return err
	}
	if r.Identity.Interface == drive.InterfaceUnknown && q.Vendor != "ATA" {
		r.Identity.Interface = drive.SCSI
	}
	return nil
}

func (r *Reading) identify(b []byte) error {
	id, err := ata.DecodeIdentify(b)
	wrong := id.Integrity == ata.IntegrityWrong
	r.Identity = drive.Identity{
		Key:      drive.Key{Model: drive.Printable(id.Model), Serial: drive.Printable(id.Serial)},
		Firmware: drive.Printable(id.Firmware), WWN: id.WWN, Interface: drive.ATA,
		Bytes: id.Sectors * uint64(id.LogicalSector), LogicalSector: id.LogicalSector, PhysicalSector: id.PhysicalSector,
		AlignmentOffset: id.Alignment, FormFactor: id.FormFactorName(), Transport: id.TransportName(),
		LinkNow: ata.LinkSpeed(id.SATANow), LinkPossible: ata.LinkSpeed(id.LinkPossible()),
		SMART:        drive.Feature{Supported: id.SMARTSupported, Enabled: id.SMARTEnabled},
		SelfTest:     drive.Feature{Supported: id.SelfTestSupported, Enabled: id.SelfTestEnabled},
		ErrorLogging: drive.Feature{Supported: id.ErrorLogSupported, Enabled: id.ErrorLogEnabled},
		GPL:          drive.Feature{Supported: id.GPL, Enabled: id.GPL}, SCT: drive.Feature{Supported: id.SCT, Enabled: id.SCT},
		TRIM: drive.Feature{Supported: id.TRIM, Enabled: id.TRIM}, Security: drive.Security(id.Security),
		IntegrityChecked: id.Integrity == ata.IntegrityRight,
	}
	switch {
	case id.RotationRate == 1:
		r.Identity.Medium = drive.Flash
	case id.RotationRate > 1:
		r.Identity.Medium, r.Identity.RotationRate = drive.Spinning, id.RotationRate
	}
	if wrong { // a name out of a damaged page would open a history for a drive that does not exist
		r.Identity.Key = drive.Key{}
	}
	return err
}

func (r *Reading) counters(b []byte) error {
	d, err := ata.DecodeAttributes(b)
	r.HasCounters = len(b) >= ata.PageSize
	r.Capabilities = Capabilities{d.CanTest, d.CanConveyance, d.CanSelective, d.ShortPoll, d.ExtendedPoll}
	r.TestNow, r.TestPercent = d.Test, d.TestRemaining
	for _, a := range d.Attributes {
		e := dialect.Lookup(a.ID)
		r.Attributes = append(r.Attributes, Attribute{Attribute: a, Entry: e, Quantity: dialect.Decode(e, a.Raw)})
	}
	return err
}

func (r *Reading) alarm(b []byte) error {
	sense, err := scsi.DecodeSense(b)
	if err != nil {
		return err
	}
	r.Alarm = ata.DecodeAlarm(sat.Registers(sense))
	if r.Alarm == ata.AlarmUnknown {
		r.Faults = append(r.Faults, drive.Fault{
			Class: drive.FaultNotPassed, What: "SMART RETURN STATUS", Back: "the adapter did not hand back the drive's registers",
			Page: string(PageAlarm), Extra: "The drive's own alarm is unknown here. Try a direct port.",
		})
	}
	return nil
}
