package sim

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// attached is an opened simulated drive.
type attached struct {
	bench       *Bench
	place       *place
	description drive.Attachment
	closed      bool
}

func (a *attached) Describe() drive.Attachment { return a.description }

func (a *attached) Close() error {
	a.bench.mu.Lock()
	defer a.bench.mu.Unlock()
	a.closed = true
	return nil
}

var illegal = scsi.Sense{Key: scsi.IllegalRequest, ASC: 0x20}

// Exchange answers one command as the drive and its adapter would.
func (a *disk) Exchange(ctx context.Context, c device.Command) (device.Result, error) {
	if err := device.Allow(c); err != nil {
		return device.Result{}, err
	}
	what := fmt.Sprintf("command % X to %s", c.CDB, a.description.Node)
	return enter(ctx, &a.attached, what, c.Timeout, a.hangs(c.CDB), func(now time.Time) device.Result {
		r := a.answer(c, now)
		if a.place.spec.Awkward.Truncated {
			r.Data = r.Data[:len(r.Data)/2]
		}
		r.Took = a.took(now)
		return r
	})
}

// took is how long a command takes, the same for the same moment.
func (a *attached) took(now time.Time) time.Duration {
	return time.Duration(300+rand.New(rand.NewPCG(a.place.spec.Seed, uint64(now.UnixNano()))).IntN(900)) * time.Microsecond
}

// enter has a drive answer one command, unless it is gone, goes now, or hangs.
func enter[T any](
	ctx context.Context, a *attached, what string, timeout time.Duration, hangs bool, answer func(now time.Time) T,
) (result T, err error) {
	if err := ctx.Err(); err != nil {
		return result, err
	}
	a.bench.mu.Lock()
	k := a.place.spec.Awkward
	a.place.answered++
	if k.VanishAfter > 0 && a.place.answered > k.VanishAfter && !a.place.out {
		a.place.out = true
		a.bench.notify()
	}
	if a.closed || a.place.out || fmt.Sprint(a.place.Instance) != a.description.Instance {
		a.bench.mu.Unlock()
		return result, &device.Failed{Class: drive.FaultVanished, What: what, Cause: "the device is gone"}
	}
	if hangs || k.HangsAfter > 0 && a.place.answered > k.HangsAfter {
		a.bench.mu.Unlock()
		if err := a.bench.clock.Sleep(ctx, timeout); err != nil {
			return result, err
		}
		return result, &device.Failed{Class: drive.FaultStuck, What: what, Cause: fmt.Sprintf("no answer for %s", timeout)}
	}
	defer a.bench.mu.Unlock()
	return answer(a.bench.clock.Now()), nil
}

func (a *attached) hangs(cdb []byte) bool {
	c, _, ok := sat.Decode(cdb)
	k := a.place.spec.Awkward
	return ok && k.HangsOn != 0 && c.Op == k.HangsOn && (c.Op != ata.SMART || c.Feature == k.HangsFeature)
}

func check(s scsi.Sense) device.Result {
	return device.Result{Status: scsi.CheckCondition, Sense: s.Encode()}
}

func (a *attached) answer(c device.Command, now time.Time) device.Result {
	s := a.place.spec
	if s.SCSI != nil {
		return a.answerSCSI(c, now)
	}
	switch c.CDB[0] {
	case scsi.TestUnitReady:
		return device.Result{}
	case scsi.Inquiry:
		if c.CDB[1] != 0 {
			return check(illegal)
		}
		q := scsi.InquiryData{Vendor: "ATA", Product: s.Identity.Model, Revision: s.Identity.Firmware}
		if s.Awkward.Adapter != "" {
			q.Vendor, q.Product = "Oxbow", "Dock"
		}
		return device.Result{Data: cut(q.Encode(), c.DataIn)}
	}
	k := s.Awkward
	if capacity := (scsi.Capacity{
		Last: cmp.Or(k.Shows, s.Identity.Sectors) - 1, Block: s.Identity.LogicalSector,
	}); c.CDB[0] == scsi.ServiceActionIn &&
		c.CDB[1] == 0x10 {
		if k.Shows > 0 && k.Shows <= 1<<32 { // it counts 32 bits, and knows no command that asks for more
			return check(illegal)
		}
		return device.Result{Data: cut(capacity.Encode(), c.DataIn)}
	} else if c.CDB[0] == scsi.ReadCapacity10 {
		return device.Result{Data: cut(capacity.Encode10(), c.DataIn)}
	}
	command, form, ok := sat.Decode(c.CDB)
	if ok && k.OnePage && command.Blocks > 1 {
		return check(scsi.Sense{Key: scsi.AbortedCommand})
	}
	if !ok || k.NoPass || k.Only12 && form != sat.Form12 {
		return check(illegal)
	}
	data, regs := a.execute(command, c.DataOut, now)
	if regs.Failed() {
		return check(sat.Sense(regs, k.FixedSense))
	}
	r := device.Result{Data: cut(data, c.DataIn)}
	if command.Status {
		if k.NoRegisters {
			regs = ata.Registers{}
		}
		r.Status, r.Sense = scsi.CheckCondition, sat.Sense(regs, k.FixedSense).Encode()
	}
	return r
}

func cut(b []byte, n int) []byte { return b[:min(len(b), n)] }

var (
	done    = ata.Registers{Status: 0x50, Reported: true}
	aborted = ata.Registers{Status: 0x51, Error: ata.ErrorABRT, Reported: true}
)

// execute is the drive's firmware.
func (a *attached) execute(c ata.Command, out []byte, now time.Time) ([]byte, ata.Registers) {
	s, p := a.place.spec, a.place
	h := s.hoursAt(now, p.Bayed)
	a.bench.advance(p, now)
	switch c.Op {
	case ata.IdentifyDevice:
		id := s.Identity
		id.Trusted = s.Lock != nil
		if s.Awkward.SMARTOff {
			id.SMARTEnabled = false
		}
		if p.Spun {
			id.SpinUpNeeded, id.Incomplete = false, false
		}
		return id.Encode(), done
	case ata.CheckPowerMode:
		r := done
		r.Count = 0xFF
		if s.Awkward.Asleep && !p.Spun {
			r.Count = 0x00
		}
		return nil, r
	case ata.SetFeatures:
		p.Spun = true
		return nil, done
	default:
	}
	p.Spun = true // whatever else is asked wakes it
	switch c.Op {
	case ata.ReadLogExt:
		if s.Logs {
			b, r := a.generalLog(c, now, h)
			first, _ := c.LogPage()
			return b[min(len(b), int(first)*ata.PageSize):], r
		}
		return nil, aborted
	case ata.TrustedReceive:
		if s.Lock == nil {
			return nil, aborted
		}
		return s.Lock.Encode(), done
	case ata.ElementStatus:
		if len(s.Heads) == 0 {
			return nil, aborted
		}
		return s.elements().Encode(true), done
	case ata.ReadNativeMaxExt:
		r := done
		r.LBA = s.Identity.Sectors + s.Hidden - 1
		if !s.Identity.HPA {
			return nil, aborted
		}
		return nil, r
	case ata.SMART:
	default:
		return nil, aborted
	}
	if s.Awkward.SMARTOff {
		return nil, aborted
	}
	switch c.Feature {
	case ata.SMARTReadData:
		d := s.attributePage(now, h)
		d.Test, d.TestRemaining = a.bench.testStatus(p, now)
		b := d.Encode()
		if s.Awkward.Garbage {
			b[100] ^= 0x5A
		}
		return b, done
	case ata.SMARTReadThresholds:
		if from := s.Awkward.NoThresholdsFrom; from > 0 && h >= from {
			return nil, aborted
		}
		return ata.EncodeThresholds(s.thresholds()), done
	case ata.SMARTReadLog:
		switch uint8(c.LBA) {
		case ata.LogDirectory:
			d := ata.LogDirectoryPages{ata.LogSummaryError: 1, ata.LogSelfTest: 1}
			if s.Statistics {
				d[ata.LogDeviceStatistics] = 8
			}
			if s.Logs {
				d[ata.LogSCTStatus], d[ata.LogSCTData], d[ata.LogErrors] = 1, 1, 1
			}
			if s.MoreTests {
				d[ata.LogSelective] = 1
			}
			return d.Encode(), done
		case ata.LogSelective:
			return ata.SelectiveLog{Spans: p.Spans}.Encode(), done
		case ata.LogSCTStatus, ata.LogSCTData:
			if s.Logs {
				return a.sct(uint8(c.LBA), now)
			}
		case ata.LogDeviceStatistics:
			if s.Statistics {
				return ata.EncodeStatistics(s.statistics(now, h)), done
			}
		case ata.LogErrors:
			if !s.Logs {
				return nil, aborted
			}
			fallthrough // its first page is laid out alike
		case ata.LogSummaryError:
			return ata.ErrorLog{Total: uint16(len(s.Errors)), Errors: s.Errors}.Encode(), done
		case ata.LogSelfTest:
			return ata.SelfTestLog{Tests: p.Log}.Encode(), done
		}
	case ata.SMARTWriteLog:
		if uint8(c.LBA) == ata.LogSelective {
			if !s.MoreTests {
				return nil, aborted
			}
			l, err := ata.DecodeSelective(out)
			if err != nil {
				return nil, aborted
			}
			p.Spans = l.Spans
			return nil, done
		}
		if s.Logs {
			return a.sctCommand(out)
		}
	case ata.SMARTReturnStatus:
		return nil, ata.AlarmRegisters(s.Alarm.At(h, s.seedOf("alarm")) > 0)
	case ata.SMARTExecuteOffline:
		return nil, a.bench.startTest(p, uint8(c.LBA), now)
	}
	return nil, aborted
}

// startTest begins a self-test, or ends the running one.
func (b *Bench) startTest(p *place, kind uint8, now time.Time) ata.Registers {
	if (kind == ata.TestConveyance || kind == ata.TestSelective) && !p.spec.MoreTests {
		return aborted
	}
	if p.Running != nil {
		b.finish(p, ata.TestAborted)
	}
	length := time.Duration(max(1, p.spec.Minutes)) * time.Minute
	switch kind {
	case ata.TestAbort:
		return done
	case ata.TestShort:
	case ata.TestConveyance, ata.TestSelective:
	case ata.TestExtended:
		length = p.spec.attributePage(now, 0).ExtendedPoll
	default:
		return aborted
	}
	p.Running = &test{Kind: kind, Started: now, Ends: now.Add(length), Length: length}
	if b.unread(p, now) > 0 { // the flaw is found on the way
		p.Running.Ends = now.Add(length * 6 / 10)
	}
	b.keep()
	return done
}

func (b *Bench) unread(p *place, now time.Time) float64 {
	h := p.spec.hoursAt(now, p.Bayed)
	return float64(len(p.spec.unreadable(h, p)))
}

// advance ends a self-test whose time has come.
func (b *Bench) advance(p *place, now time.Time) {
	if p.Running == nil || now.Before(p.Running.Ends) {
		return
	}
	result := ata.TestPassed
	if b.unread(p, now) > 0 {
		result = ata.TestRead
	}
	b.finish(p, result)
}

// finish writes the running test's result into the log.
func (b *Bench) finish(p *place, result ata.TestStatus) {
	now := b.clock.Now()
	ended := p.Running.Ends
	if now.Before(ended) {
		ended = now
	}
	t := ata.SelfTest{Number: p.Running.Kind, Status: result, Hours: uint16(p.spec.hoursAt(ended, p.Bayed))}
	if result == ata.TestRead {
		t.LBA, t.HasLBA, t.Remaining = uint64(p.spec.FirstLBA), true, 40
		if bad := p.spec.unreadable(p.spec.hoursAt(ended, p.Bayed), p); len(bad) > 0 &&
			!slices.Contains(bad, t.LBA/p.spec.span()*p.spec.span()) {
			t.LBA = slices.Min(bad) // the first of them was written meanwhile
		}
	}
	p.Log = append([]ata.SelfTest{t}, p.Log[:min(len(p.Log), ata.SelfTestSlots-1)]...)
	p.Running = nil
	b.keep()
}

func (b *Bench) testStatus(p *place, now time.Time) (ata.TestStatus, uint8) {
	if p.Running == nil {
		if len(p.Log) == 0 {
			return ata.TestPassed, 0
		}
		return p.Log[0].Status, p.Log[0].Remaining
	}
	left := p.Running.Length - now.Sub(p.Running.Started)
	return ata.TestRunning, 10 * uint8(min(9, max(1, 1+9*left/p.Running.Length)))
}
