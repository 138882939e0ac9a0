package device

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
	"hylostat.example/internal/vector"
)

// spans are values as people read them: 00, 08-0F.
func spans(values []uint64) string {
	var all []string
	for i := 0; i < len(values); {
		j := i
		for j+1 < len(values) && values[j+1] == values[j]+1 {
			j++
		}
		one := fmt.Sprintf("%02X", values[i])
		if j > i {
			one += fmt.Sprintf("-%02X", values[j])
		}
		all = append(all, one)
		i = j + 1
	}
	return strings.Join(all, " ")
}

// near writes which other values of each byte of a command are let through, too.
func near(b *vector.Book, name string, c Command) {
	b.Line("%s: % X", name, c.CDB)
	if Allow(c) != nil {
		b.Line("  refused")
	}
	for at, is := range c.CDB {
		var allowed []uint64
		for v := range 256 {
			other := Command{CDB: slices.Clone(c.CDB), DataOut: c.DataOut}
			other.CDB[at] = byte(v)
			if byte(v) != is && Allow(other) == nil {
				allowed = append(allowed, uint64(v))
			}
		}
		switch {
		case len(allowed) == 255:
			b.Line("  byte %2d: any", at)
		case len(allowed) > 0:
			b.Line("  byte %2d: %s", at, spans(allowed))
		}
	}
	for _, n := range []int{len(c.CDB) - 1, len(c.CDB) + 1} {
		if other := append(slices.Clone(c.CDB), 0)[:n]; Allow(Command{CDB: other, DataOut: c.DataOut}) == nil {
			b.Line("  %d bytes", n)
		}
	}
	for at := range c.DataOut {
		for bit := range 8 {
			other := Command{CDB: c.CDB, DataOut: slices.Clone(c.DataOut)}
			other.DataOut[at] ^= 1 << bit
			if Allow(other) == nil {
				b.Line("  data %3d: bit %d", at, bit)
			}
		}
	}
}

// Whatever is one byte away from a command this product sends and is let through, too, stands in a table that people have read.
func TestWhatIsOneByteAwayFromACommand(t *testing.T) {
	b := vector.Open(t, "near.txt")
	for _, c := range []ata.Command{
		ata.ReadIdentify(), ata.PowerMode(), ata.SpinUp(), ata.NativeMax(), ata.AccessibleMax(), ata.ReadConfiguration(),
		ata.ReadAttributes(), ata.ReadThresholds(), ata.ReturnStatus(), ata.ReadTrusted(tcg.Protocol, tcg.Specific), ata.ReadElements(4),
		ata.ExecuteSelfTest(ata.TestShort),
	} {
		near(b, c.Name(), Command{CDB: sat.Form16.CDB(c)})
	}
	for _, log := range []uint8{
		ata.LogDirectory, ata.LogSummaryError, ata.LogErrors, ata.LogDeviceStatistics, ata.LogSelfTest, ata.LogSelective, ata.LogSCTStatus,
		ata.LogSCTData,
	} {
		near(b, fmt.Sprintf("SMART log %02Xh", log), Command{CDB: sat.Form16.CDB(ata.ReadLog(log, 1))})
	}
	for _, log := range []uint8{
		ata.LogDirectory, ata.LogErrorsExt, ata.LogDeviceStatistics, ata.LogSelfTestExt, ata.LogPending, ata.LogPHY, ata.LogSCTStatus,
		ata.LogSCTData, ata.LogRanges, ata.LogInternalStatus, ata.LogIdentifyData,
	} {
		near(b, fmt.Sprintf("GPL log %02Xh", log), Command{CDB: sat.Form16.CDB(ata.ReadLogGPL(log, 1))})
	}
	near(b, "IDENTIFY DEVICE, 12 bytes", Command{CDB: sat.Form12.CDB(ata.ReadIdentify())})
	near(b, "SCT", Command{CDB: sat.Form16.CDB(ata.SCTCommand()), DataOut: ata.SCTTemperatureQuestion()})
	near(b, "SCT recovery", Command{CDB: sat.Form16.CDB(ata.SCTCommand()), DataOut: ata.SCTRecoveryQuestion(true)})
	selective := ata.SelectiveLog{Spans: []ata.Span{{First: 10, Last: 20}}}
	near(b, "spans", Command{CDB: sat.Form16.CDB(ata.WriteSelective()), DataOut: selective.Encode()})
	for _, cdb := range [][]byte{
		{scsi.TestUnitReady, 0, 0, 0, 0, 0},
		scsi.RequestSenseCDB(), scsi.InquiryCDB(36), scsi.VPDCDB(scsi.VPDSerial, 252), scsi.StartCDB(),
		scsi.SelfTestCDB(scsi.TestBackgroundShort), scsi.ModeSenseCDB(scsi.ModeInformational, 64),
		scsi.LogSenseCDB(scsi.LogTemperature, 512), scsi.LogSenseCDB(scsi.LogSubpages, 8192), scsi.DefectCDB(5, 8), scsi.DefectCDB10(5, 4),
		scsi.CapacityCDB10(), scsi.CapacityCDB(), scsi.ElementsCDB(2048), scsi.SecurityInCDB(tcg.Protocol, tcg.Specific, tcg.Size),
	} {
		near(b, scsi.Name(cdb), Command{CDB: cdb})
	}
	b.Close()
}

// nearAdmin writes which other words of an admin command are let through, too: with one bit turned, one more, one less.
func nearAdmin(b *vector.Book, name string, c nvme.Command) {
	b.Line("%s: %+v", name, c)
	if AllowAdmin(c) != nil {
		b.Line("  refused")
	}
	for i, word := range []func(*nvme.Command) *uint32{
		func(c *nvme.Command) *uint32 { return &c.NSID }, func(c *nvme.Command) *uint32 { return &c.CDW10 },
		func(c *nvme.Command) *uint32 { return &c.CDW11 }, func(c *nvme.Command) *uint32 { return &c.CDW12 },
		func(c *nvme.Command) *uint32 { return &c.CDW13 }, func(c *nvme.Command) *uint32 { return &c.CDW14 },
	} {
		is := *word(&c)
		others := []uint32{is + 1, is - 1}
		for bit := range 32 {
			others = append(others, is^1<<bit)
		}
		var allowed []uint64
		for _, v := range others {
			other := c
			if *word(&other) = v; AllowAdmin(other) == nil {
				allowed = append(allowed, uint64(v))
			}
		}
		slices.Sort(allowed)
		if allowed = slices.Compact(allowed); len(allowed) > 0 {
			b.Line("  %s: %s", []string{"NSID", "CDW10", "CDW11", "CDW12", "CDW13", "CDW14"}[i], spans(allowed))
		}
	}
	for _, n := range []int{-4, -1, 1, 4} {
		if other := c; c.DataIn+n >= 0 {
			if other.DataIn += n; AllowAdmin(other) == nil {
				b.Line("  %d bytes", other.DataIn)
			}
		}
	}
}

func TestWhatIsOneBitAwayFromAnAdminCommand(t *testing.T) {
	b := vector.Open(t, "near-admin.txt")
	for _, c := range []nvme.Command{
		nvme.IdentifyController(), nvme.ListNamespaces(), nvme.IdentifyNamespace(1), nvme.NameNamespace(1),
		nvme.ReadLog(nvme.LogHealth, nvme.HealthSize), nvme.PersistentHeader(), nvme.PersistentEvents(4096), nvme.PersistentDone(),
		nvme.ReadLog(nvme.LogTelemetry, 4096), nvme.ReadEndurance(2), nvme.StartSelfTest(nvme.TestShort),
		nvme.StartSelfTest(nvme.TestAbort), nvme.ReadSecurity(tcg.Protocol, tcg.Specific, tcg.Size),
	} {
		nearAdmin(b, c.Name(), c)
	}
	for id := range 256 { // each log, and how much of it
		most := 0
		for n := 4; n <= 72<<10 && (n == 4 || most > 0); n += 4 {
			if AllowAdmin(nvme.ReadLog(uint8(id), n)) == nil {
				most = n
			}
		}
		if most > 0 {
			b.Line("log %02Xh: %d bytes", id, most)
		}
	}
	for op := range 256 { // nothing else, however it looks
		for _, in := range []int{0, 4, 512, nvme.IdentifySize} {
			if c := (nvme.Command{Op: nvme.Opcode(op), DataIn: in}); AllowAdmin(c) == nil {
				b.Line("operation %02Xh with nothing but %d bytes", op, in)
			}
		}
	}
	b.Close()
}
