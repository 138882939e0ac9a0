package scsi

import (
	"fmt"
)

// CapacitySize is the length of READ CAPACITY(16) data.
const CapacitySize = 32

// Parameter is one parameter of a log page.
type Parameter struct {
	Code   uint16
	Value  []byte
	Offset int // of the value in the page
}

// Number is the value as one unsigned number; ok is false when it is longer than 8 bytes or empty.
func (p Parameter) Number() (n uint64, ok bool) {
	if len(p.Value) == 0 || len(p.Value) > 8 {
		return 0, false
	}
	for _, x := range p.Value {
		n = n<<8 | uint64(x)
	}
	return n, true
}

// LogPage is a log page (SPC-5 7.3.2).
type LogPage struct {
	LogID
	Parameters []Parameter
	Short      bool // it ends before the end it names: a parameter that is not here may be in the rest
}

// Parameter finds a parameter by its code.
func (p LogPage) Parameter(code uint16) (Parameter, bool) {
	for _, x := range p.Parameters {
		if x.Code == code {
			return x, true
		}
	}
	return Parameter{}, false
}

// subpageFormat is the SPF bit of a log page's first byte: only then does its second byte name a subpage.
const subpageFormat = 1 << 6

// DecodeLogPage reads the log page that was asked for as far as it was transferred. A page that names itself otherwise is another
// page, and gives nothing but an error.
func DecodeLogPage(want LogID, b []byte) (LogPage, error) {
	if len(b) < 4 {
		return LogPage{}, &FormatError{"log page " + want.String(), len(b), "shorter than 4 bytes"}
	}
	is := LogID{Page: b[0] & 0x3F}
	if b[0]&subpageFormat != 0 {
		is.Subpage = b[1]
	}
	if is != want {
		return LogPage{}, &FormatError{"log page " + want.String(), 0, "calls itself page " + is.String()}
	}
	end := min(len(b), 4+int(be.Uint16(b[2:])))
	l := LogPage{LogID: is, Short: end < 4+int(be.Uint16(b[2:]))}
	for at := 4; at < end; {
		if at+4 > end || at+4+int(b[at+3]) > end {
			return l, &FormatError{"log page " + want.String(), at, "a parameter runs over the page's end"}
		}
		size := int(b[at+3])
		l.Parameters = append(l.Parameters, Parameter{be.Uint16(b[at:]), b[at+4 : at+4+size], at + 4})
		at += 4 + size
	}
	return l, nil
}

// DecodePageList reads log page 00h or VPD page 00h: the numbers of the pages there are.
func DecodePageList(b []byte) ([]uint8, error) {
	if len(b) < 4 {
		return nil, &FormatError{"list of pages", len(b), "shorter than 4 bytes"}
	}
	return b[4:min(len(b), 4+int(be.Uint16(b[2:])))], nil
}

// EncodeLogPage writes a log page.
func EncodeLogPage(l LogID, parameters ...Parameter) []byte {
	b := []byte{l.Page, l.Subpage, 0, 0}
	if l.Subpage != 0 {
		b[0] |= subpageFormat
	}
	for _, p := range parameters {
		b = be.AppendUint16(b, p.Code)
		b = append(b, 0x03, uint8(len(p.Value)))
		b = append(b, p.Value...)
	}
	be.PutUint16(b[2:], uint16(len(b)-4))
	return b
}

// Number makes a parameter that holds a number in size bytes.
func Number(code uint16, size int, n uint64) Parameter {
	return Parameter{Code: code, Value: be.AppendUint64(nil, n)[8-size:]}
}

// Codes of parameters that signals are made of.
const (
	CounterCorrectedFast uint16 = 0 // corrected without delay
	CounterUncorrected   uint16 = 6 // pages 02h, 03h, 05h
	CounterProcessed     uint16 = 5 // bytes, pages 02h, 03h, 05h
	NonMediumErrors      uint16 = 0
	TemperatureNow       uint16 = 0
	TemperatureReference uint16 = 1
	StartStopCycles      uint16 = 4
	LoadUnloadRated      uint16 = 5
	LoadUnloadCycles     uint16 = 6
	PercentageUsed       uint16 = 1 // page 11h
	BackgroundStatus     uint16 = 0 // page 15h
)

// parameterNames gives the standard's names: SPC-5 7.3 and SBC-4 6.4.
var parameterNames = map[LogID]map[uint16]string{
	LogWriteErrors:  errorCounters,
	LogReadErrors:   errorCounters,
	LogVerifyErrors: errorCounters,
	LogNonMedium:    {0: "Non-medium errors"},
	LogTemperature:  {0: "Temperature", 1: "Reference temperature"},
	LogStartStop: {
		1: "Date of manufacture",
		2: "Accounting date",
		3: "Specified cycle count over lifetime",
		4: "Accumulated start-stop cycles",
		5: "Specified load-unload count over lifetime",
		6: "Accumulated load-unload cycles",
	},
	LogSolidState:    {1: "Percentage used endurance indicator"},
	LogInformational: {0: "Informational exceptions"},
}

var errorCounters = map[uint16]string{
	0: "Errors corrected without substantial delay",
	1: "Errors corrected with possible delays",
	2: "Total rewrites or rereads",
	3: "Total errors corrected",
	4: "Times correction algorithm processed",
	5: "Total bytes processed",
	6: "Total uncorrected errors",
}

// ParameterName is the standard's name of a log parameter; empty for one this version does not know.
func ParameterName(l LogID, code uint16) string { return parameterNames[l][code] }

// LogTitle is the standard's name of a log page.
func LogTitle(l LogID) string {
	if title, ok := logTitles[l]; ok {
		return title
	}
	return "Log page " + l.String()
}

var logTitles = map[LogID]string{
	LogPages:         "Supported log pages",
	LogSubpages:      "Supported log pages and subpages",
	LogWriteErrors:   "Write error counters",
	LogReadErrors:    "Read error counters",
	LogVerifyErrors:  "Verify error counters",
	LogNonMedium:     "Non-medium errors",
	LogTemperature:   "Temperature",
	LogEnvironment:   "Environmental reporting",
	LogEnvironLimits: "Environmental limits",
	LogStartStop:     "Start-stop cycles",
	LogSelfTests:     "Self-test results",
	LogSolidState:    "Solid state media",
	LogBackground:    "Background scan",
	LogPending:       "Pending defects",
	LogBackgroundOps: "Background operation",
	LogProtocol:      "Protocol specific port",
	LogInformational: "Informational exceptions",
}

// Background is log page 15h: the drive's own scan of its medium (SBC-4 6.4.2).
type Background struct {
	Minutes  uint32 // powered on
	Status   uint8
	Scans    uint16
	Progress uint16 // of 65,536
	Found    []ScanResult
}

// ReassignStatus is what became of a place the drive had trouble with (SBC-4 table 210).
type ReassignStatus uint8

// The statuses. Others are reserved.
const (
	ReassignWaits     ReassignStatus = 1 // until it is written or reassigned by a command
	Reassigned        ReassignStatus = 2 // by the drive
	ReassignFailed    ReassignStatus = 4 // the drive tried
	Rewritten         ReassignStatus = 5 // recovered, and written again in its place
	ReassignedByHost  ReassignStatus = 6 // with its data
	ReassignedNoData  ReassignStatus = 7 // by the host, without valid data
	ReassignHostFails ReassignStatus = 8 // the host tried
)

func (r ReassignStatus) String() string {
	names := map[ReassignStatus]string{
		ReassignWaits:     "waits to be written or reassigned",
		Reassigned:        "reassigned by the drive",
		ReassignFailed:    "the drive could not reassign it",
		Rewritten:         "recovered and rewritten in its place",
		ReassignedByHost:  "reassigned by a command, with its data",
		ReassignedNoData:  "reassigned by a command, without its data",
		ReassignHostFails: "could not be reassigned by a command",
	}
	if name, ok := names[r]; ok {
		return name
	}
	return fmt.Sprintf("reserved reassign status %Xh", uint8(r))
}

// ScanResult is a place the scan had trouble with.
type ScanResult struct {
	Minutes uint32 // powered on when it was found
	Status  ReassignStatus
	Sense   Sense
	LBA     uint64
	Offset  int
}

// Failed reports whether the place is, or was, bad. One that was recovered and rewritten in its place is whole again.
func (r ScanResult) Failed() bool { return r.Status != Rewritten }

// StatusName says in words how the scan stands.
func (g Background) StatusName() string {
	names := [...]string{
		"not active",
		"running",
		"pre-scan running",
		"halted by a fatal error",
		"halted: pattern of errors",
		"halted: medium needs formatting",
		"halted by a vendor specific cause",
		"halted by the temperature",
		"waiting for its interval",
	}
	if int(g.Status) < len(names) {
		return names[g.Status]
	}
	return fmt.Sprintf("status %d", g.Status)
}

// DecodeBackground reads log page 15h.
func DecodeBackground(b []byte) (Background, error) {
	l, err := DecodeLogPage(LogBackground, b)
	var g Background
	for _, p := range l.Parameters {
		v := p.Value
		switch {
		case p.Code == BackgroundStatus && len(v) >= 12:
			g.Minutes, g.Status, g.Scans, g.Progress = be.Uint32(v), v[5], be.Uint16(v[6:]), be.Uint16(v[8:])
		case p.Code >= 1 && p.Code <= 0x800 && len(v) >= 20:
			g.Found = append(
				g.Found,
				ScanResult{
					be.Uint32(v),
					ReassignStatus(v[4] >> 4),
					Sense{Key: SenseKey(v[4] & 0xF), ASC: v[5], ASCQ: v[6]},
					be.Uint64(v[12:]),
					p.Offset,
				},
			)
		}
	}
	return g, err
}

// Encode writes log page 15h.
func (g Background) Encode() []byte {
	v := make([]byte, 12)
	be.PutUint32(v, g.Minutes)
	v[5] = g.Status
	be.PutUint16(v[6:], g.Scans)
	be.PutUint16(v[8:], g.Progress)
	parameters := []Parameter{{Code: 0, Value: v}}
	for i, f := range g.Found {
		v := make([]byte, 20)
		be.PutUint32(v, f.Minutes)
		v[4], v[5], v[6] = uint8(f.Status)<<4|uint8(f.Sense.Key), f.Sense.ASC, f.Sense.ASCQ
		be.PutUint64(v[12:], f.LBA)
		parameters = append(parameters, Parameter{Code: uint16(i + 1), Value: v})
	}
	return EncodeLogPage(LogBackground, parameters...)
}

// Informational is parameter 0 of log page 2Fh: the drive's own alarm (SPC-5 7.3.11).
type Informational struct {
	ASC, ASCQ   uint8
	Temperature uint8 // °C, FFh unknown
	Offset      int   // of the parameter's value
}

// Predicts reports whether the drive announces its failure. 5D/FF is a false prediction, made for trials.
func (i Informational) Predicts() bool { return i.ASC == 0x5D && i.ASCQ != 0xFF }

// Warns reports a warning that is no prediction: temperature, background scan ...
func (i Informational) Warns() bool { return i.ASC == 0x0B }

// DecodeInformational reads log page 2Fh.
func DecodeInformational(b []byte) (Informational, error) {
	l, err := DecodeLogPage(LogInformational, b)
	if err != nil {
		return Informational{}, err
	}
	p, ok := l.Parameter(0)
	if !ok || len(p.Value) < 2 {
		return Informational{}, &FormatError{"log page 2Fh", 4, "holds no parameter 0"}
	}
	i := Informational{ASC: p.Value[0], ASCQ: p.Value[1], Temperature: 0xFF, Offset: p.Offset}
	if len(p.Value) > 2 {
		i.Temperature = p.Value[2]
	}
	return i, nil
}

// PortPhy is one phy of a SAS target port, log page 18h (SPL-4 9.2.8.1).
type PortPhy struct {
	Port, Phy                               uint16
	Attached                                uint64 // SAS address of what is at the other end
	Address                                 uint64
	Rate                                    uint8  // negotiated, a code
	Invalid, Disparity, LossSync, PhyResets uint32 // of the link
	Offset                                  int    // of the descriptor
}

// RateName is the negotiated speed; empty when the link is down.
func (p PortPhy) RateName() string {
	return map[uint8]string{8: "1.5 Gb/s", 9: "3.0 Gb/s", 10: "6.0 Gb/s", 11: "12.0 Gb/s", 12: "22.5 Gb/s"}[p.Rate]
}

// phyBytes is the length of a phy's descriptor up to its error counters.
const phyBytes = 48

// DecodePorts reads log page 18h for SAS. Drives older than SPL leave the descriptor's length, byte 3, zero: theirs is 48 bytes.
func DecodePorts(b []byte) ([]PortPhy, error) {
	l, err := DecodeLogPage(LogProtocol, b)
	var all []PortPhy
	for _, p := range l.Parameters {
		v := p.Value
		if len(v) < 4 || v[0]&0xF != 6 { // protocol identifier of SAS
			continue
		}
		at := 4
		for range int(v[3]) {
			if at+phyBytes > len(v) {
				break
			}
			d, size := v[at:], phyBytes
			if d[3] != 0 {
				size = 4 + int(d[3])
			}
			if size < phyBytes || size > len(d) {
				break
			}
			all = append(all, PortPhy{
				Port:      p.Code,
				Phy:       uint16(d[1]),
				Rate:      d[5] & 0xF,
				Address:   be.Uint64(d[8:]),
				Attached:  be.Uint64(d[16:]),
				Invalid:   be.Uint32(d[32:]),
				Disparity: be.Uint32(d[36:]),
				LossSync:  be.Uint32(d[40:]),
				PhyResets: be.Uint32(d[44:]),
				Offset:    p.Offset + at,
			})
			at += size
		}
	}
	return all, err
}

// EncodePorts writes log page 18h with one phy a port; lengths tells whether its descriptors say how long they are.
func EncodePorts(all []PortPhy, lengths bool) []byte {
	var parameters []Parameter
	for i, p := range all {
		v := make([]byte, 52)
		v[0], v[3] = 6, 1
		d := v[4:]
		d[1], d[5] = uint8(p.Phy), p.Rate
		if lengths {
			d[3] = phyBytes - 4
		}
		be.PutUint64(d[8:], p.Address)
		be.PutUint64(d[16:], p.Attached)
		be.PutUint32(d[32:], p.Invalid)
		be.PutUint32(d[36:], p.Disparity)
		be.PutUint32(d[40:], p.LossSync)
		be.PutUint32(d[44:], p.PhyResets)
		parameters = append(parameters, Parameter{Code: uint16(i + 1), Value: v})
	}
	return EncodeLogPage(LogProtocol, parameters...)
}

// Defects is READ DEFECT DATA: how many sectors the drive has replaced since it was made (SBC-4 5.20).
type Defects struct {
	Format uint8  // of the entries
	Length uint32 // bytes of the whole list
	Count  uint32
	Short  bool // by the 10-byte command, whose header is four bytes
}

// entryBytes is the size of an entry by format: short blocks, extended bytes from index, extended physical sectors, long blocks,
// bytes from index, physical sectors (SBC-4 6.2).
var entryBytes = map[uint8]uint32{0: 4, 1: 8, 2: 8, 3: 8, 4: 8, 5: 8}

// DecodeDefects reads the header of READ DEFECT DATA(12); the entries need not be there (SBC-4 5.21).
func DecodeDefects(b []byte) (Defects, error) {
	const name = "READ DEFECT DATA(12)"
	if len(b) < 8 {
		return Defects{}, &FormatError{name, len(b), "shorter than 8 bytes"}
	}
	return defects(name, b[1], be.Uint32(b[4:]))
}

// DecodeDefects10 reads the header of READ DEFECT DATA(10), four bytes (SBC-4 5.20).
func DecodeDefects10(b []byte) (Defects, error) {
	const name = "READ DEFECT DATA(10)"
	if len(b) < 4 {
		return Defects{}, &FormatError{name, len(b), "shorter than 4 bytes"}
	}
	d, err := defects(name, b[1], uint32(be.Uint16(b[2:])))
	d.Short = true
	return d, err
}

func defects(name string, kind uint8, length uint32) (Defects, error) {
	d := Defects{Format: kind & 7, Length: length}
	size, ok := entryBytes[d.Format]
	switch {
	case kind&0x08 == 0:
		return d, &FormatError{name, 1, "the list is not the grown one"}
	case !ok:
		return d, &FormatError{name, 1, fmt.Sprintf("entries of format %d have no known size", d.Format)}
	case d.Length%size != 0:
		return d, &FormatError{name, 4, fmt.Sprintf("%d bytes are no whole number of entries", d.Length)}
	}
	d.Count = d.Length / size
	return d, nil
}

// Encode writes the header of a grown list.
func (d Defects) Encode() []byte {
	b := make([]byte, 8)
	b[1] = 0x08 | d.Format
	be.PutUint32(b[4:], d.Count*entryBytes[d.Format])
	return b
}

// Encode10 writes the header of the 10-byte form.
func (d Defects) Encode10() []byte {
	return be.AppendUint16([]byte{0, 0x08 | d.Format}, uint16(min(0xFFFF, d.Count*entryBytes[d.Format])))
}

// Control is the informational exceptions control page (SPC-5 7.5.13).
type Control struct {
	Disabled, Warnings bool
	Method             uint8
	Interval, Count    uint32
	Offset             int
}

// DecodeControl reads MODE SENSE(10) data that holds page 1Ch.
func DecodeControl(b []byte) (Control, error) {
	const name = "mode page 1Ch"
	if len(b) < 8 {
		return Control{}, &FormatError{name, len(b), "shorter than its header"}
	}
	at := 8 + int(be.Uint16(b[6:]))
	if len(b) < at+12 || b[at]&0x3F != ModeInformational {
		return Control{}, &FormatError{name, min(at, len(b)), "the page is not there"}
	}
	p := b[at:]
	return Control{p[2]&(1<<3) != 0, p[2]&(1<<4) != 0, p[3] & 0xF, be.Uint32(p[4:]), be.Uint32(p[8:]), at}, nil
}

// Encode writes MODE SENSE(10) data with the page.
func (c Control) Encode() []byte {
	b := make([]byte, 20)
	be.PutUint16(b, 18)
	p := b[8:]
	p[0], p[1], p[3] = ModeInformational, 10, c.Method
	if c.Disabled {
		p[2] |= 1 << 3
	}
	if c.Warnings {
		p[2] |= 1 << 4
	}
	be.PutUint32(p[4:], c.Interval)
	be.PutUint32(p[8:], c.Count)
	return b
}
