package ata

import (
	"errors"
	"fmt"
)

// EarlierCommand is a command that came before an error.
type EarlierCommand struct {
	Op      Opcode
	Feature uint16
	Count   uint16
	LBA     uint64
	At      uint32 // ms since power-on; wraps
}

// String says the command with its address.
func (c EarlierCommand) String() string {
	if c.LBA == 0 && c.Count == 0 {
		return c.Op.String()
	}
	return fmt.Sprintf("%s, LBA %d, count %d", c.Op, c.LBA, c.Count)
}

// States of a drive when an error happened (ACS-4 table A.10, low 4 bits).
var states = map[uint8]string{0: "state unknown", 1: "asleep", 2: "in standby", 3: "active or idle", 4: "in a self-test or background scan"}

// StateName says in words what the drive was doing.
func (e LoggedError) StateName() string {
	if name, ok := states[e.State&0xF]; ok {
		return name
	}
	return fmt.Sprintf("state %Xh", e.State&0xF)
}

// Sizes of the entries of logs 01h and 02h, and of 03h.
const (
	entrySize, entryExtSize     = 90, 124
	commandSize, commandExtSize = 12, 18
)

func decodeEntry(entry []byte, at int) LoggedError {
	d := entry[5*commandSize:]
	e := LoggedError{
		Error: d[1], Count: uint16(d[2]), Status: d[7], State: d[27], Hours: le.Uint16(d[28:]), Offset: at,
		LBA: uint64(d[3]) | uint64(d[4])<<8 | uint64(d[5])<<16 | uint64(d[6]&0xF)<<24,
	}
	for i := range 5 {
		if c := entry[commandSize*i:]; !allZero(c[:commandSize]) {
			e.Before = append(e.Before, EarlierCommand{
				Op: Opcode(c[7]), Feature: uint16(c[1]), Count: uint16(c[2]), At: le.Uint32(c[8:]),
				LBA: uint64(c[3]) | uint64(c[4])<<8 | uint64(c[5])<<16 | uint64(c[6]&0xF)<<24,
			})
		}
	}
	e.Command = Opcode(entry[4*commandSize+7])
	return e
}

func decodeEntryExt(entry []byte, at int) LoggedError {
	d := entry[5*commandExtSize:]
	e := LoggedError{
		Error: d[1], Count: le.Uint16(d[2:]), LBA: lba48(d[4:]), Status: d[11], State: d[31], Hours: le.Uint16(d[32:]), Offset: at,
		Command: Opcode(entry[4*commandExtSize+12]),
	}
	for i := range 5 {
		if c := entry[commandExtSize*i:]; !allZero(c[:commandExtSize]) {
			e.Before = append(
				e.Before,
				EarlierCommand{
					Op:      Opcode(c[12]),
					Feature: le.Uint16(c[1:]),
					Count:   le.Uint16(c[3:]),
					LBA:     lba48(c[5:]),
					At:      le.Uint32(c[14:]),
				},
			)
		}
	}
	return e
}

// lba48 reads an address whose bytes stand low and high in turn: 7:0, 31:24, 15:8, 39:32, 23:16, 47:40.
func lba48(b []byte) uint64 {
	return uint64(b[0]) | uint64(b[2])<<8 | uint64(b[4])<<16 | uint64(b[1])<<24 | uint64(b[3])<<32 | uint64(b[5])<<40
}

func putLBA48(b []byte, lba uint64) {
	b[0], b[2], b[4], b[1], b[3], b[5] = uint8(lba), uint8(lba>>8), uint8(lba>>16), uint8(lba>>24), uint8(lba>>32), uint8(lba>>40)
}

// rotation gives the positions of a ring's entries, newest first: index counts from 1 and names the newest. An index that names none
// (firmware that never sets it, or counts on beyond its ring) says nothing of the entries: they are taken from the highest stamp of
// hours backwards. stamp is negative for an empty slot.
func rotation(index, slots int, stamp func(slot int) int) []int {
	if index < 1 || index > slots {
		newest := 0
		for slot := range slots {
			if stamp(slot) >= stamp(newest) {
				newest = slot
			}
		}
		index = newest + 1
	}
	order := make([]int, slots)
	for age := range order {
		order[age] = (index - 1 - age + slots) % slots
	}
	return order
}

// checkPages checks the length and every page's checksum of a log of several pages.
func checkPages(structure string, b []byte) error {
	if err := checkLength(structure, b); err != nil {
		return err
	}
	var errs []error
	for at := 0; at+PageSize <= len(b); at += PageSize {
		if err := checkSum(structure, b[at:]); err != nil {
			errs = append(errs, &FormatError{structure, at + PageSize - 1, "wrong checksum"})
		}
	}
	return errors.Join(errs...)
}

// A paged log keeps its entries in a ring over all of its pages: so do logs 02h, 03h and 07h.
type paged struct {
	name           string
	first          int // byte of a page's first entry
	size, perPage  int // of entries
	index, indexOf int // byte of the newest entry's number, and its length: 1 or 2
	stamp          int // byte of an entry's hours
}

// extSlots is the number of entries in a page of log 03h.
const extSlots = 4

// SelfTestExtSlots is the number of results a page of log 07h keeps.
const SelfTestExtSlots = 19

var (
	errorPages = paged{
		name:    "comprehensive error log",
		first:   2,
		size:    entrySize,
		perPage: ErrorSlots,
		index:   1,
		indexOf: 1,
		stamp:   5*commandSize + 28,
	}
	errorExtPages = paged{
		name:    "extended comprehensive error log",
		first:   4,
		size:    entryExtSize,
		perPage: extSlots,
		index:   2,
		indexOf: 2,
		stamp:   5*commandExtSize + 32,
	}
	testExtPages = paged{name: "extended self-test log", first: 4, size: 26, perPage: SelfTestExtSlots, index: 2, indexOf: 2, stamp: 2}
)

// entries gives every entry that holds something to each, newest first, with its byte offset in the log, and tells how many newer
// ones lie beyond what was transferred: the index counts over the whole log, however much of it came. A part of a page at the end is
// left out; a wrong checksum is an error but stops nothing.
func (p paged) entries(b []byte, each func(entry []byte, at int)) (beyond int, err error) {
	if len(b) < PageSize {
		return 0, checkLength(p.name, b)
	}
	b = b[:len(b)/PageSize*PageSize]
	err = checkPages(p.name, b)
	slots, index := p.perPage*(len(b)/PageSize), int(b[p.index])
	if p.indexOf == 2 {
		index = int(le.Uint16(b[p.index:]))
	}
	beyond = max(0, index-slots)
	place := func(slot int) (entry []byte, at int) {
		at = slot/p.perPage*PageSize + p.first + p.size*(slot%p.perPage)
		return b[at : at+p.size], at
	}
	for _, slot := range rotation(min(index, slots), slots, func(slot int) int {
		if entry, _ := place(slot); !allZero(entry) {
			return int(le.Uint16(entry[p.stamp:]))
		}
		return -1
	}) {
		if entry, at := place(slot); !allZero(entry) {
			each(entry, at)
		}
	}
	return beyond, err
}

// DecodeErrors reads SMART log 02h as far as it was transferred (ACS-4 A.4): pages of five entries each, laid out as in
// the summary log.
func DecodeErrors(b []byte) (l ErrorLog, err error) {
	l.Beyond, err = errorPages.entries(b, func(entry []byte, at int) { l.Errors = append(l.Errors, decodeEntry(entry, at)) })
	if len(b) >= PageSize {
		l.Version, l.Total = b[0], le.Uint16(b[452:])
	}
	return l, err
}

// DecodeErrorsExt reads log 03h as far as it was transferred (ACS-4 A.7): four entries a page, with 48-bit addresses.
func DecodeErrorsExt(b []byte) (l ErrorLog, err error) {
	l.Beyond, err = errorExtPages.entries(b, func(entry []byte, at int) { l.Errors = append(l.Errors, decodeEntryExt(entry, at)) })
	if len(b) >= PageSize {
		l.Version, l.Total = b[0], le.Uint16(b[500:])
	}
	return l, err
}

// EncodeExt writes log 03h in one page; Errors are newest first and four fit.
func (l ErrorLog) EncodeExt() []byte {
	b := make([]byte, PageSize)
	b[0] = 1
	count := min(len(l.Errors), extSlots)
	for i, e := range l.Errors[:count] {
		entry := b[4+entryExtSize*(count-1-i):]
		for n, c := range before(e) {
			d := entry[commandExtSize*(5-len(before(e))+n):]
			d[12] = uint8(c.Op)
			le.PutUint16(d[1:], c.Feature)
			le.PutUint16(d[3:], c.Count)
			putLBA48(d[5:], c.LBA)
			le.PutUint32(d[14:], c.At)
		}
		d := entry[5*commandExtSize:]
		d[1], d[10], d[11], d[31] = e.Error, 0x40, e.Status, e.State
		le.PutUint16(d[2:], e.Count)
		putLBA48(d[4:], e.LBA)
		le.PutUint16(d[32:], e.Hours)
	}
	le.PutUint16(b[2:], uint16(count))
	le.PutUint16(b[500:], l.Total)
	setSum(b)
	return b
}

// before is the commands of an entry, the failed one last; an error without any has at least that one.
func before(e LoggedError) []EarlierCommand {
	if len(e.Before) > 0 {
		return e.Before[max(0, len(e.Before)-5):]
	}
	return []EarlierCommand{{Op: e.Command, Count: e.Count, LBA: e.LBA}}
}

// DecodeSelfTestsExt reads log 07h as far as it was transferred (ACS-4 A.8): results with 48-bit addresses.
func DecodeSelfTestsExt(b []byte) (l SelfTestLog, err error) {
	l.Beyond, err = testExtPages.entries(b, func(entry []byte, at int) {
		t := decodeSelfTest(entry, at)
		if lba := le.Uint64(entry[4:]) >> 8 & (1<<48 - 1); t.Status == TestRead && lba != 1<<48-1 {
			t.LBA, t.HasLBA = lba, true
		}
		l.Tests = append(l.Tests, t)
	})
	if len(b) >= PageSize {
		l.Revision = uint16(b[0])
	}
	return l, err
}

// EncodeExt writes log 07h in one page; Tests are newest first.
func (l SelfTestLog) EncodeExt() []byte {
	b := make([]byte, PageSize)
	b[0] = 1
	count := min(len(l.Tests), SelfTestExtSlots)
	for i, t := range l.Tests[:count] {
		entry := b[4+26*(count-1-i):]
		lba := uint64(0xFFFFFFFFFFFF)
		if t.HasLBA {
			lba = t.LBA
		}
		le.PutUint64(entry[4:], lba<<8)
		entry[0], entry[1] = t.Number, uint8(t.Status)<<4|t.Remaining/10
		le.PutUint16(entry[2:], t.Hours)
	}
	le.PutUint16(b[2:], uint16(count))
	setSum(b)
	return b
}
