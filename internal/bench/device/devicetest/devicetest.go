// Package devicetest is the conformance suite of device.Device: every implementation, real or simulated, must pass it.
// Start with Test.
package devicetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/surface"
)

// Conforms runs the suite on an attached drive and returns the first thing that does not conform. It is a plain function
// so that the virtual machine can run it without a test binary.
func Conforms(ctx context.Context, d device.Device) error {
	desc := d.Describe()
	if desc.Address == "" || desc.Instance == "" || desc.Bytes == 0 {
		return errors.New("the description lacks address, instance or size")
	}
	if err := peeks(ctx, d); err != nil {
		return err
	}
	if admin, ok := d.(device.NVMe); ok {
		return conformsNVMe(ctx, admin)
	}
	link, ok := d.(device.SCSI)
	if !ok {
		return errors.New("the device takes no commands")
	}
	r, err := link.Exchange(ctx, device.Command{CDB: scsi.InquiryCDB(36), DataIn: 36, Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	q, err := scsi.DecodeInquiry(r.Data)
	if err != nil {
		return err
	}
	if err := refuses(ctx, link); err != nil {
		return err
	}
	if q.Vendor == "ATA" {
		return conformsATA(ctx, d, link)
	}
	return conformsSCSI(ctx, d, link)
}

// peeks wants the bytes of a few sectors, the same each time, and no more than a peek.
func peeks(ctx context.Context, d device.Device) error {
	p, ok := d.(device.Peeker)
	blocks, also := d.(device.Blocks)
	if !ok || !also {
		return nil
	}
	limits := blocks.Limits()
	first, err := p.Peek(ctx, surface.Extent{LBA: 0, Sectors: 8})
	if err != nil {
		return err
	}
	again, err := p.Peek(ctx, surface.Extent{LBA: 1, Sectors: 1})
	if err != nil {
		return err
	}
	if len(first) != 8*int(limits.Logical) || !bytes.Equal(again, first[limits.Logical:2*limits.Logical]) {
		return errors.New("a peek did not bring the bytes of its sectors")
	}
	asked := false
	var seen surface.Outcome
	if err := blocks.Stream(ctx, device.Streaming{Depth: 1, Look: true}, func() (surface.Read, bool) {
		r, once := surface.Read{Extent: surface.Extent{LBA: 0, Sectors: 8}}, !asked
		asked = true
		return r, once
	}, func(_ surface.Read, o surface.Outcome) { seen = o }); err != nil {
		return err
	}
	if want := surface.Zeros(first, limits.Logical); !seen.Looked || seen.Empty != want {
		return fmt.Errorf("of the first 8 sectors %d hold nothing, and reading them told %d (looked: %t)", want, seen.Empty, seen.Looked)
	}
	ending, end := context.WithCancel(ctx)
	defer end()
	const endless = 1000
	told := 0
	err = blocks.Stream(ending, device.Streaming{Depth: 1}, func() (surface.Read, bool) {
		return surface.Read{Extent: surface.Extent{LBA: 0, Sectors: 8}}, told < endless
	}, func(surface.Read, surface.Outcome) {
		told++
		end()
	})
	if told > 2 || !errors.Is(err, context.Canceled) {
		return errors.Join(
			fmt.Errorf("a stream read %d times and ended otherwise than with its context, which had ended at the first", told),
			err,
		)
	}
	for _, wrong := range []surface.Extent{
		{LBA: limits.Bytes / uint64(limits.Logical), Sectors: 1}, {LBA: 0, Sectors: device.MostPeek/512 + 1}, {},
	} {
		if _, err := p.Peek(ctx, wrong); err == nil {
			return fmt.Errorf("a peek at %d sectors from LBA %d was not refused", wrong.Sectors, wrong.LBA)
		}
	}
	return nil
}

// conformsNVMe wants a controller that names itself, statuses that come back as they are, and a closed door.
func conformsNVMe(ctx context.Context, admin device.NVMe) error {
	for _, c := range []nvme.Command{{Op: 0x80}, {Op: 0x84, CDW10: 2}, {Op: 0x10}, nvme.ReadLog(0xCA, 512)} {
		_, err := admin.Admin(ctx, device.AdminCommand{Command: c, Timeout: time.Second})
		if _, refused := errors.AsType[*device.Refused](err); !refused {
			return errors.New("a command outside the allowlist was not refused")
		}
	}
	r, err := admin.Admin(ctx, device.AdminCommand{Command: nvme.IdentifyController(), Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	if r.Status != nvme.Success || len(r.Data) != nvme.IdentifySize {
		return errors.New("the controller did not bring its identity with success")
	}
	if _, err := nvme.DecodeController(r.Data); err != nil {
		return err
	}
	r, err = admin.Admin(ctx, device.AdminCommand{Command: nvme.IdentifyNamespace(0xFFFFFF), Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	if r.Status == nvme.Success || !r.Status.Refused() {
		return errors.New("a namespace that is not there was not refused by the drive, but: " + r.Status.String())
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := admin.Admin(gone, device.AdminCommand{Command: nvme.IdentifyController(), Timeout: time.Second}); !errors.Is(
		err, context.Canceled,
	) {
		return errors.New("a cancelled context did not end the command")
	}
	return nil
}

// conformsSCSI wants the capacity the description has, and a sense that comes back as it is.
func conformsSCSI(ctx context.Context, d device.Device, link device.SCSI) error {
	r, err := link.Exchange(ctx, device.Command{CDB: scsi.CapacityCDB(), DataIn: scsi.CapacitySize, Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	if c, err := scsi.DecodeCapacity(r.Data); err != nil || (c.Last+1)*uint64(c.Block) != d.Describe().Bytes {
		return errors.New("READ CAPACITY(16) and the description disagree on the size")
	}
	r, err = link.Exchange(ctx, device.Command{CDB: scsi.LogSenseCDB(scsi.LogID{Page: 0x3E}, 252), DataIn: 252, Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	if sense, err := scsi.DecodeSense(r.Sense); r.Status != scsi.CheckCondition || err != nil || sense.Key != scsi.IllegalRequest {
		return errors.New("a log page that is not there did not end in an illegal request")
	}
	return nil
}

// refuses tries what must never reach a drive.
func refuses(ctx context.Context, link device.SCSI) error {
	for _, cdb := range [][]byte{
		{0x2A, 0, 0, 0, 0, 0, 0, 0, 1, 0},                                        // WRITE(10)
		sat.Form16.CDB(ata.Command{Op: 0xF4, Transfer: ata.NonData}),             // SECURITY ERASE UNIT
		sat.Form16.CDB(ata.Command{Op: ata.SMART, Feature: 0xD9, LBA: 0xC24F00}), // SMART off
		sat.Form12.CDB(ata.Command{Op: ata.SMART, Feature: 0xD4, LBA: 0xC24F81}), // captive self-test
		{},
	} {
		_, err := link.Exchange(ctx, device.Command{CDB: cdb, Timeout: time.Second})
		if _, refused := errors.AsType[*device.Refused](err); !refused {
			return errors.New("a command outside the allowlist was not refused")
		}
	}
	return nil
}

// conformsATA wants identity and registers.
func conformsATA(ctx context.Context, d device.Device, link device.SCSI) error {
	r, err := link.Exchange(ctx, device.Command{CDB: sat.Form16.CDB(ata.ReadIdentify()), DataIn: ata.PageSize, Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	if r.Status != scsi.Good || len(r.Data) != ata.PageSize {
		return errors.New("IDENTIFY DEVICE did not bring a page with good status")
	}
	if id, err := ata.DecodeIdentify(r.Data); err != nil || id.Sectors*uint64(id.LogicalSector) != d.Describe().Bytes {
		return errors.New("the identity page and the description disagree on the size")
	}
	r, err = link.Exchange(ctx, device.Command{CDB: sat.Form16.CDB(ata.ReturnStatus()), Timeout: 10 * time.Second})
	if err != nil {
		return err
	}
	sense, err := scsi.DecodeSense(r.Sense)
	if err != nil {
		return err
	}
	if ata.DecodeAlarm(sat.Registers(sense)) == ata.AlarmUnknown {
		return errors.New("the registers of SMART RETURN STATUS did not come back")
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := link.Exchange(
		gone, device.Command{CDB: sat.Form16.CDB(ata.ReadIdentify()), DataIn: ata.PageSize, Timeout: time.Second},
	); !errors.Is(
		err,
		context.Canceled,
	) {
		return errors.New("a cancelled context did not end the exchange")
	}
	return nil
}

// Test runs the suite as a test, and what needs a closed device besides.
func Test(t *testing.T, d device.Device) {
	t.Helper()
	require.NoError(t, Conforms(t.Context(), d))
	require.NoError(t, d.Close())
	var err error
	if admin, ok := d.(device.NVMe); ok {
		_, err = admin.Admin(t.Context(), device.AdminCommand{Command: nvme.IdentifyController(), Timeout: time.Second})
	} else {
		_, err = d.(device.SCSI).Exchange(t.Context(), device.Command{CDB: scsi.InquiryCDB(36), DataIn: 36, Timeout: time.Second})
	}
	assert.Error(t, err, "a closed device takes no commands")
}
