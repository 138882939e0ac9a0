package surface

import "encoding/binary"

// Pattern is what an overwrite writes: pseudo-random words, each bound to its place. A sector that holds another place's words
// tells which place's: the step from a place to its words can be taken back (Steele, Lea, Flood, Fast Splittable Pseudorandom
// Number Generators, OOPSLA 2014: the finalizer of SplitMix is a bijection of 64 bits). The zero Pattern is one like any other.
type Pattern struct {
	Seed uint64 `json:"seed"`
}

const (
	golden  = 0x9E3779B97F4A7C15 // odd, so that it has an inverse modulo 2^64
	ungold  = 0xF1DE83E19937733D
	mixer1  = 0xBF58476D1CE4E5B9
	mixer2  = 0x94D049BB133111EB
	unmix1  = 0x96DE1B173F119089 // their inverses modulo 2^64
	unmix2  = 0x319642B2D24D8EC3
	perWord = 8
)

func mix(z uint64) uint64 {
	z = (z ^ z>>30) * mixer1
	z = (z ^ z>>27) * mixer2
	return z ^ z>>31
}

func unmix(z uint64) uint64 {
	z = (z ^ z>>31 ^ z>>62) * unmix2
	z = (z ^ z>>27 ^ z>>54) * unmix1
	return z ^ z>>30 ^ z>>60
}

// Fill writes the pattern of the sectors from lba on into buf, whose length is a multiple of logical, the bytes of a sector.
func (p Pattern) Fill(buf []byte, lba uint64, logical uint32) {
	at := p.Seed + lba*uint64(logical/perWord)*golden
	for ; len(buf) >= perWord; buf = buf[perWord:] {
		binary.LittleEndian.PutUint64(buf, mix(at))
		at += golden
	}
}

// Match is how what was read compares with a pattern.
type Match struct {
	Cause Cause  // Whole: it is the pattern; else Altered, Misplaced or Empty, that of the first sector that is not
	All   bool   // every sector of it is wrong in the same way
	From  uint64 // Misplaced: the LBA whose pattern the first wrong sector holds
	At    uint64 // LBA of the first wrong sector
}

// Check compares what was read from lba on with the pattern; sectors is the drive's size, for telling a place's pattern from
// chance.
func (p Pattern) Check(buf []byte, lba uint64, logical uint32, sectors uint64) Match {
	m := Match{All: true}
	for n := uint64(0); len(buf) >= int(logical); n++ {
		cause, from := p.sector(buf[:logical], lba+n, sectors)
		switch {
		case cause == Whole:
			m.All = false
		case m.Cause == Whole:
			m.Cause, m.From, m.At = cause, from, lba+n
		}
		m.All = m.All && cause == m.Cause
		buf = buf[logical:]
	}
	m.All = m.All && m.Cause != Whole
	return m
}

// sector judges one sector.
func (p Pattern) sector(buf []byte, lba, sectors uint64) (c Cause, from uint64) {
	words := uint64(len(buf)) / perWord
	if p.holds(buf, lba) {
		return Whole, 0
	}
	first := binary.LittleEndian.Uint64(buf)
	if word := (unmix(first) - p.Seed) * ungold; word%words == 0 && word/words < sectors && p.holds(buf, word/words) {
		return Misplaced, word / words
	}
	for _, b := range buf {
		if b != buf[0] {
			return Altered, 0
		}
	}
	return Empty, 0
}

// holds reports whether a sector is the pattern of a place.
func (p Pattern) holds(buf []byte, lba uint64) bool {
	at := p.Seed + lba*uint64(len(buf)/perWord)*golden
	for ; len(buf) >= perWord; buf = buf[perWord:] {
		if binary.LittleEndian.Uint64(buf) != mix(at) {
			return false
		}
		at += golden
	}
	return true
}
