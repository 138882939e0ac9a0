package reading

import (
	"fmt"
	"strconv"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/scsi"
)

// PageName is the address of a page: what was asked of which command set. Names of logs end in the log's number, two
// lower-case hex digits.
type PageName string

// The pages of this edition.
const (
	PageInquiry       PageName = "scsi/inquiry"
	PageIdentify      PageName = "ata/identify"
	PagePower         PageName = "ata/power" // sense data: the answer is in the registers
	PageAttributes    PageName = "ata/attributes"
	PageThresholds    PageName = "ata/thresholds"
	PageAlarm         PageName = "ata/alarm" // sense data
	PageDirectory     PageName = "ata/log-00"
	PageErrorLog      PageName = "ata/log-01"
	PageErrors        PageName = "ata/log-02"
	PageErrorsExt     PageName = "ata/log-03"
	PageStatistics    PageName = "ata/log-04"
	PageTestLog       PageName = "ata/log-06"
	PageTestLogExt    PageName = "ata/log-07"
	PageSelective     PageName = "ata/log-09"
	PagePending       PageName = "ata/log-0c"
	PagePHY           PageName = "ata/log-11"
	PageDirectoryExt  PageName = "ata/gpl-00"
	PageRanges        PageName = "ata/log-47"
	PageElements      PageName = "ata/elements"
	PageATALock       PageName = "ata/discovery" // Level 0 discovery of the drive's own lock
	PageSCTStatus     PageName = "ata/log-e0"
	PageTemperatures  PageName = "ata/log-e1"
	PageRecoveryRead  PageName = "ata/recovery-read"  // sense data
	PageRecoveryWrite PageName = "ata/recovery-write" // sense data
	PageNativeMax     PageName = "ata/native-max"     // sense data
	PageAccessibleMax PageName = "ata/accessible-max" // sense data
	PageConfiguration PageName = "ata/configuration"

	PageController PageName = "nvme/controller"
	PageNamespaces PageName = "nvme/namespaces"
	PageNVMeErrors PageName = "nvme/log-01"
	PageHealth     PageName = "nvme/log-02"
	PageFirmware   PageName = "nvme/log-03"
	PageEffects    PageName = "nvme/log-05"
	PageNVMeTests  PageName = "nvme/log-06"
	PagePersistent PageName = "nvme/log-0d"
	PageDatacenter PageName = "nvme/log-c0"
	PageSupported  PageName = "nvme/log-00"
	PageSanitize   PageName = "nvme/log-81"
	PageNVMeLock   PageName = "nvme/discovery"

	PageImage PageName = "image/file" // JSON of Image

	PageCapacity PageName = "scsi/capacity"
	PageDefects  PageName = "scsi/defects"
	// PageDefects10 is the same by the 10-byte command, whose header is another.
	PageDefects10 PageName = "scsi/defects-10"
	PageControl   PageName = "scsi/mode-1c"
	PageReady     PageName = "scsi/ready" // only as a fault: what TEST UNIT READY says of a drive that is not
	PageSCSILock  PageName = "scsi/discovery"
	PageSElement  PageName = "scsi/elements"

	// Attachments are kept for the maker's support and not decoded.
	PageInternalStatus PageName = "ata/log-24"
	PageIdentifyData   PageName = "ata/log-30"
	PageTelemetry      PageName = "nvme/log-08"

	vpdPrefix       = "scsi/vpd-"
	scsiPrefix      = "scsi/log-"
	nsPrefix        = "nvme/namespace-"
	namesPrefix     = "nvme/names-"
	endurancePrefix = "nvme/log-09-"
)

// PageVPD is the name of a vital product data page.
func PageVPD(n uint8) PageName { return PageName(fmt.Sprintf("%s%02x", vpdPrefix, n)) }

// PageLog is the name of a SCSI log page.
func PageLog(l scsi.LogID) PageName {
	if l.Subpage == 0 {
		return PageName(fmt.Sprintf("%s%02x", scsiPrefix, l.Page))
	}
	return PageName(fmt.Sprintf("%s%02x-%02x", scsiPrefix, l.Page, l.Subpage))
}

// log is the SCSI log page a name stands for; ok is false for other names.
func (n PageName) log() (l scsi.LogID, ok bool) {
	digits, ok := strings.CutPrefix(string(n), scsiPrefix)
	if !ok {
		return l, false
	}
	page, sub, divided := strings.Cut(digits, "-")
	for part, to := range map[string]*uint8{page: &l.Page, sub: &l.Subpage} {
		x, err := strconv.ParseUint(part, 16, 8)
		if err != nil && (part == page || divided) {
			return l, false
		}
		*to = uint8(x)
	}
	return l, true
}

// PageNamespace is the name of an NVMe namespace's identity, PageNames of the list of its names, PageEndurance of the log of an
// endurance group.
func PageNamespace(n uint32) PageName { return PageName(fmt.Sprintf("%s%d", nsPrefix, n)) }

// PageNames is the list of all names of a namespace.
func PageNames(n uint32) PageName { return PageName(fmt.Sprintf("%s%d", namesPrefix, n)) }

// PageEndurance is the log of an endurance group.
func PageEndurance(group uint16) PageName {
	return PageName(fmt.Sprintf("%s%d", endurancePrefix, group))
}

// number is the hex number at the end of a name; ok is false when it is none of the prefix.
func (n PageName) number(prefix string) (uint8, bool) {
	digits, ok := strings.CutPrefix(string(n), prefix)
	if !ok {
		return 0, false
	}
	x, err := strconv.ParseUint(digits, 16, 8)
	return uint8(x), err == nil
}

var pageTitles = map[PageName]string{
	PageInquiry:                      "Inquiry",
	PageIdentify:                     "Identify",
	PagePower:                        "Power mode",
	PageAttributes:                   "SMART data",
	PageThresholds:                   "Thresholds",
	PageAlarm:                        "The drive's own alarm",
	PageDirectory:                    "Log directory",
	PageErrorLog:                     "Error log",
	PageErrors:                       "Error log, comprehensive",
	PageErrorsExt:                    "Error log, extended",
	PageStatistics:                   "Device statistics",
	PageTestLog:                      "Self-test log",
	PageTestLogExt:                   "Self-test log, extended",
	PageSelective:                    "Selective self-test",
	PagePending:                      "Pending defects",
	PagePHY:                          "Link event counters",
	PageDirectoryExt:                 "Log directory, general purpose",
	PageSCTStatus:                    "SCT status",
	PageTemperatures:                 "Temperature history",
	PageRecoveryRead:                 "Recovery limit, reading",
	PageRecoveryWrite:                "Recovery limit, writing",
	PageNativeMax:                    "Native capacity",
	PageAccessibleMax:                "Accessible capacity",
	PageConfiguration:                "Configuration overlay",
	PageController:                   "Controller",
	PageNamespaces:                   "Namespaces",
	PageNVMeErrors:                   "Error log",
	PageHealth:                       "Health log",
	PageFirmware:                     "Firmware slots",
	PageEffects:                      "Supported commands",
	PageNVMeTests:                    "Self-test log",
	PagePersistent:                   "Persistent events",
	PageDatacenter:                   "Datacenter health extension",
	PageRanges:                       "Concurrent positioning ranges",
	PageElements:                     "Physical elements",
	PageSElement:                     "Physical elements",
	PageATALock:                      "The drive's own lock",
	PageNVMeLock:                     "The drive's own lock",
	PageSCSILock:                     "The drive's own lock",
	PageSupported:                    "Supported logs",
	PageSanitize:                     "Sanitize status",
	PageReady:                        "Ready",
	PageInternalStatus:               "Internal status, for the maker",
	PageIdentifyData:                 "Identify data, for the maker",
	PageTelemetry:                    "Telemetry, for the maker",
	PageVPD(scsi.VPDRanges):          "Concurrent positioning ranges",
	PageImage:                        "Image file",
	PageCapacity:                     "Capacity",
	PageDefects:                      "Grown defect list",
	PageDefects10:                    "Grown defect list, 10-byte form",
	PageControl:                      "Informational exceptions control",
	PageVPD(scsi.VPDPages):           "Product data pages",
	PageVPD(scsi.VPDSerial):          "Unit serial number",
	PageVPD(scsi.VPDIdentification):  "Identification",
	PageVPD(scsi.VPDBlockLimits):     "Block limits",
	PageVPD(scsi.VPDCharacteristics): "Characteristics",
	PageVPD(scsi.VPDProvisioning):    "Provisioning",
}

// Title is the page's name for people.
func (n PageName) Title() string {
	if title, ok := pageTitles[n]; ok {
		return title
	}
	if l, ok := n.log(); ok {
		return scsi.LogTitle(l)
	}
	for prefix, title := range map[string]string{
		nsPrefix:        "Namespace ",
		namesPrefix:     "Names of namespace ",
		endurancePrefix: "Endurance group ",
	} {
		if id, ok := strings.CutPrefix(string(n), prefix); ok {
			return title + id
		}
	}
	return string(n)
}

// Attachment reports whether the page is kept undecoded, for the maker's support.
func (n PageName) Attachment() bool {
	return n == PageInternalStatus || n == PageIdentifyData || n == PageTelemetry
}

// Page is one block of bytes as the drive sent it, or the fault that stands for it.
type Page struct {
	Name  PageName     `json:"name"`
	How   string       `json:"how"` // the command it came by: "SMART READ DATA, ATA PASS-THROUGH(16)"
	Bytes []byte       `json:"bytes,omitempty"`
	Fault *drive.Fault `json:"fault,omitempty"`
}

// Fact is one thing a page says, with the place of its bytes. A fact without a value has a Reason; no zero stands for
// something unknown.
type Fact struct {
	Name   string
	Value  string // digits, or words; empty when not available
	Number bool   // Value is a number, exact
	Unit   string
	Reason string // why there is no value
	Offset int    // of the bytes in the page
	Length int
}

// Sheet is the facts of one page.
type Sheet struct {
	Page  PageName
	Facts []Fact
}

func (s *Sheet) add(name string, offset, length int, value any, unit string) {
	if s == nil {
		return
	}
	f := Fact{Name: name, Value: fmt.Sprint(value), Unit: unit, Offset: offset, Length: length}
	switch value.(type) {
	case int, uint8, uint16, uint32, uint64, int64, float64, nvme.Counter:
		f.Number = true
	}
	s.Facts = append(s.Facts, f)
}

func (s *Sheet) missing(name string, offset, length int, reason string) {
	if s == nil {
		return
	}
	s.Facts = append(s.Facts, Fact{Name: name, Reason: reason, Offset: offset, Length: length})
}

// celsius adds a temperature, or says that there is none.
func (s *Sheet) celsius(name string, offset, length, c int, ok bool) {
	if !ok {
		s.missing(name, offset, length, "the drive reports none")
		return
	}
	s.add(name, offset, length, c, "°C")
}

// yes adds a property the drive has or has not.
func (s *Sheet) yes(name string, offset, length int, on bool, has, hasNot string) {
	if on {
		s.add(name, offset, length, has, "")
		return
	}
	s.add(name, offset, length, hasNot, "")
}
