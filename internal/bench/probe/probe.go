// Package probe knows what to ask a drive and in which order, and brings home pages: bytes as the drive sent them, how they
// came, or the fault that stands for them. It decodes only as much as the next question needs. Start with Open and Pages;
// ata.go, nvme.go and scsi.go hold the questions, test.go the drive's own self-tests.
package probe

import (
	"context"
	"encoding/json"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// Deadlines by what a sound drive may need: the first question may have to wait for platters to spin up.
const (
	identifyTimeout = 20 * time.Second
	commandTimeout  = 15 * time.Second
	wakeTimeout     = 45 * time.Second
)

// Passes is what is known of an adapter: which form of ATA pass-through it takes. It is worth remembering by the
// adapter's vendor, product and version.
type Passes uint8

// What an adapter passes.
const (
	NotKnown Passes = 0
	Nothing  Passes = 1
	By12     Passes = Passes(sat.Form12)
	By16     Passes = Passes(sat.Form16)
)

// Manner is how a reading is taken.
type Manner struct {
	// Wake tells that a person asked: a sleeping drive is woken, one that waits to be told to spin up is told, and an
	// adapter that is known to pass nothing is tried again. Otherwise sleep is left alone.
	Wake bool
	// Attachments has the logs read that only the maker's support can read. They are long.
	Attachments bool
}

// Session talks to one opened drive and remembers which form of pass-through its adapter takes.
type Session struct {
	device device.Device
	link   device.SCSI // nil: an NVMe drive
	admin  device.NVMe
	passes Passes
	kind   drive.Interface // as the answers showed

	optical bool // peripheral device type 5
	tell    func(page reading.PageName, done, of int)
}

// Open begins a session with what is known of the adapter. The fault says why a device cannot be asked at all.
func Open(d device.Device, known Passes) (*Session, *drive.Fault) {
	s := &Session{device: d, passes: known, tell: func(reading.PageName, int, int) {}}
	if admin, ok := d.(device.NVMe); ok {
		s.admin, s.kind = admin, drive.NVMe
		return s, nil
	}
	link, ok := d.(device.SCSI)
	if _, blocks := d.(device.Blocks); !ok && blocks {
		return s, nil // an image: a surface, and nothing to ask
	}
	if !ok {
		return nil, &drive.Fault{
			Class: drive.FaultNotRead,
			What:  "asking " + d.Describe().Node,
			Cause: "this version has no way to ask this kind of device",
		}
	}
	s.link = link
	return s, nil
}

// Passes is what the session has learned of the adapter.
func (s *Session) Passes() Passes { return s.passes }

// Tell has f called with every page as it arrives.
func (s *Session) Tell(f func(page reading.PageName, done, of int)) { s.tell = f }

// Pages asks for everything a reading takes, in order. A question that fails becomes a page with a fault; only a drive
// that went away or got stuck ends the reading early, and the questions not asked say so.
func (s *Session) Pages(ctx context.Context, how Manner) []reading.Page {
	if s.admin != nil {
		return s.nvmePages(ctx, how)
	}
	if s.link == nil {
		return imagePages(s.device.Describe())
	}
	if behind := s.device.Describe().Behind; behind != "" {
		fault := drive.Fault{
			Class: drive.FaultBehind, What: "asking " + s.device.Describe().Node,
			Cause: "it is " + behind + ", which shows volumes and no drives",
		}
		if s.device.Describe().Transport == "virtual" {
			fault.Class, fault.Cause = drive.FaultVirtual, "it is "+behind
		}
		return []reading.Page{{Name: reading.PageInquiry, Fault: &fault}}
	}
	first := s.ask(ctx, reading.PageInquiry, scsi.InquiryCDB(36), 36)
	pages := []reading.Page{first}
	if over(pages) != nil {
		return pages
	}
	q, err := scsi.DecodeInquiry(first.Bytes)
	switch {
	case first.Fault == nil && err == nil && q.Qualifier != 0:
		pages[0].Fault = &drive.Fault{Class: drive.FaultNoMedium, What: "INQUIRY", Cause: "the adapter is there, no drive is behind it"}
		return pages
	case first.Fault == nil && err == nil && q.DeviceType == opticalType:
		s.optical = true
	case first.Fault == nil && err == nil && q.Vendor != "ATA" && s.device.Describe().Transport == "SCSI":
		s.kind = drive.SCSI
		return s.scsiPages(ctx, how, pages)
	}
	s.kind = drive.ATA
	return s.ataPages(ctx, how, pages)
}

// opticalType is the peripheral device type of CD and DVD drives (SPC-5 table 150).
const opticalType = 0x05

// imagePages is all there is to tell of an image.
func imagePages(d drive.Attachment) []reading.Page {
	body, err := json.Marshal(reading.Image{Name: d.Serial, Bytes: d.Bytes, Sector: d.LogicalSector})
	if err != nil {
		return []reading.Page{
			{Name: reading.PageImage, Fault: &drive.Fault{Class: drive.FaultNotRead, What: "describing " + d.Node, Cause: err.Error()}},
		}
	}
	return []reading.Page{
		{Name: reading.PageImage, How: "the machine's own word", Bytes: body},
		{
			Name:  reading.PageAttributes,
			Fault: &drive.Fault{Class: drive.FaultNotRead, What: "reading counters", Cause: "an image has no counters", Extra: "Sweep it."},
		},
	}
}

// over gives the fault that ends a reading early.
func over(pages []reading.Page) *drive.Fault {
	if len(pages) == 0 {
		return nil
	}
	if f := pages[len(pages)-1].Fault; f != nil && (f.Class == drive.FaultVanished || f.Class == drive.FaultStuck) {
		return f
	}
	return nil
}

// notAsked is the fault of a question after the reading ended early.
func notAsked(what string, f *drive.Fault) *drive.Fault {
	back := f.Cause
	if len(back) < 11 || back[:11] != "not asked: " {
		back = "not asked: " + back
	}
	return &drive.Fault{Class: f.Class, What: what, Cause: back}
}

// Key is the drive's name in a set of pages; not valid when they do not tell.
func Key(pages []reading.Page) drive.Key {
	var naming []reading.Page
	for _, p := range pages {
		switch p.Name {
		case reading.PageInquiry, reading.PageIdentify, reading.PageController, reading.PageImage, reading.PageVPD(scsi.VPDSerial):
			naming = append(naming, p)
		default:
		}
	}
	r := reading.Decode(naming)
	if r.Identity.Interface == drive.SCSI && r.Identity.Serial == "" {
		return drive.Key{}
	}
	return r.Identity.Key
}

// FirstFault is the fault that kept a set of pages from naming a drive.
func FirstFault(pages []reading.Page) *drive.Fault {
	for _, p := range pages {
		if p.Fault != nil {
			return p.Fault
		}
		switch p.Name {
		case reading.PageIdentify:
			if _, err := ata.DecodeIdentify(p.Bytes); err != nil {
				return &drive.Fault{Class: drive.FaultBadAnswer, What: "IDENTIFY DEVICE", Cause: err.Error()}
			}
		case reading.PageController:
			if _, err := nvme.DecodeController(p.Bytes); err != nil {
				return &drive.Fault{Class: drive.FaultBadAnswer, What: "Identify Controller", Cause: err.Error()}
			}
		default:
		}
	}
	return nil
}

// Name asks the drive for nothing but its name.
func (s *Session) Name(ctx context.Context) (drive.Key, *drive.Fault) {
	var pages []reading.Page
	switch {
	case s.admin != nil:
		p := reading.Page{Name: reading.PageController}
		p.Bytes, p.Fault = s.Admin(ctx, nvme.IdentifyController())
		pages = append(pages, p)
	case s.link == nil:
		pages = imagePages(s.device.Describe())
	case s.kind == drive.SCSI:
		pages = append(
			pages, s.ask(ctx, reading.PageInquiry, scsi.InquiryCDB(36), 36),
			s.ask(ctx, reading.PageVPD(scsi.VPDSerial), scsi.VPDCDB(scsi.VPDSerial, 252), 252),
		)
	default:
		pages = append(pages, s.ata(ctx, question{page: reading.PageIdentify, command: ata.ReadIdentify()}))
	}
	if fault := FirstFault(pages); fault != nil && (s.link != nil || s.admin != nil) {
		return drive.Key{}, fault
	}
	return Key(pages), nil
}
