package sim

import (
	"bytes"
	"math"
	"math/rand/v2"
	"time"

	"hylostat.example/internal/core/ata"
)

// disk is an attached drive that takes SCSI commands.
type disk struct{ attached }

// mostPending is how many pages the list of waiting sectors has.
const mostPending = 16

// generalLog answers READ LOG EXT.
func (a *attached) generalLog(c ata.Command, now time.Time, h float64) ([]byte, ata.Registers) {
	s, p := a.place.spec, a.place
	switch uint8(c.LBA) {
	case ata.LogDirectory:
		d := ata.LogDirectoryPages{ata.LogErrorsExt: 1, ata.LogSelfTestExt: 1, ata.LogPHY: 1, ata.LogPending: mostPending}
		if s.Statistics {
			d[ata.LogDeviceStatistics] = 8
		}
		if s.Logs {
			d[ata.LogInternalStatus], d[ata.LogIdentifyData] = uint16(1+makersPages), 2
		}
		return d.Encode(), done
	case ata.LogInternalStatus:
		if s.Logs {
			b := makersOwn(s.Seed, ata.PageSize*(1+makersPages))
			clear(b[:ata.PageSize])
			b[0], b[8] = ata.LogInternalStatus, makersPages // the last page of its first area
			return b, done
		}
	case ata.LogIdentifyData:
		if s.Logs {
			list := make([]byte, ata.PageSize)
			list[0], list[8], list[9], list[10] = 1, 2, 0, 1 // revision; two pages, 00h and 01h
			return append(list, s.Identity.Encode()...), done
		}
	case ata.LogErrorsExt:
		return ata.ErrorLog{Total: uint16(len(s.Errors)), Errors: s.Errors}.EncodeExt(), done
	case ata.LogSelfTestExt:
		return ata.SelfTestLog{Tests: p.Log}.EncodeExt(), done
	case ata.LogDeviceStatistics:
		if s.Statistics {
			return ata.EncodeStatistics(s.statistics(now, h)), done
		}
	case ata.LogPending:
		l := ata.PendingLog{Count: uint32(s.pending(h) * s.perPhysical())}
		for i, lba := range a.waitingLBAs(h) {
			if i < min(int(l.Count), 32*mostPending-1) {
				l.Defects = append(l.Defects, ata.PendingDefect{Hours: uint32(h) - uint32(min(h, 9*float64(i+1))), LBA: lba})
			}
		}
		return append(l.Encode(), make([]byte, mostPending*ata.PageSize)...), done
	case ata.LogPHY:
		crc := s.linkErrors(h) - s.linkErrors(s.hoursAt(p.Bayed, p.Bayed)) // since power-on
		return ata.EncodePHY(
			[]ata.PHYCounter{
				{ID: 0x01, Value: uint64(max(0, crc))},
				{ID: 0x09, Value: 1},
				{ID: 0x0A, Value: 1},
				{ID: 0x0B, Value: uint64(max(0, crc))},
			},
		), done
	}
	return nil, aborted
}

// makersPages is how long the maker's own part of a log is.
const makersPages = 3

// makersOwn is content of a log that only its maker can read.
func makersOwn(seed uint64, size int) []byte {
	b := make([]byte, size)
	r := rand.New(rand.NewPCG(seed, 24))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// linkErrors is what attribute 199 counts, pending what 197 counts.
func (s *Spec) linkErrors(h float64) float64 { return s.counter(199, h) }

func (s *Spec) pending(h float64) float64 { return s.counter(197, h) }

func (s *Spec) counter(id uint8, h float64) float64 {
	for _, c := range s.Counters {
		if c.ID == id {
			return s.counted(c, h)
		}
	}
	return 0
}

// sctCommand takes a question of SCT; its answer is in a log or in the registers.
func (a *attached) sctCommand(question []byte) ([]byte, ata.Registers) {
	a.place.asked = question
	r := done
	for _, write := range []bool{false, true} {
		if bytes.Equal(question, ata.SCTRecoveryQuestion(write)) {
			if !a.place.spec.Identity.SCTRecovery {
				return nil, aborted
			}
			r.Count, r.LBA = 70, 0 // 7.0 s
		}
	}
	return nil, r
}

// sct answers the logs of SCT.
func (a *attached) sct(address uint8, now time.Time) ([]byte, ata.Registers) {
	s := a.place.spec
	t, low, high := s.Heat.at(now, s.Seed)
	if address == ata.LogSCTStatus {
		return ata.SCTReport{
			Now:         int8(t),
			Lowest:      int8(t - 3),
			Highest:     int8(min(high, t+2)),
			LifeLowest:  int8(low),
			LifeHighest: int8(high),
			Most:        60,
		}.Encode(), done
	}
	if !bytes.Equal(a.place.asked, ata.SCTTemperatureQuestion()) {
		return nil, aborted
	}
	const interval = 10 * time.Minute
	h := ata.TemperatureHistory{
		Sampling:     1,
		Interval:     uint16(interval.Minutes()),
		MaxOperating: 60,
		OverLimit:    65,
		MinOperating: 0,
		UnderLimit:   -20,
	}
	for i := range 128 {
		at := now.Add(-time.Duration(127-i) * interval)
		if at.Before(a.place.Bayed.Add(-9 * time.Hour)) {
			h.Curve = append(h.Curve, ata.NoTemperature)
			continue
		}
		c, _, _ := s.Heat.at(at, s.Seed)
		h.Curve = append(h.Curve, int8(math.Round(float64(c))))
	}
	return h.Encode(), done
}
