// Package devicetest is the conformance suite of device.Device: every implementation, real or simulated, must pass it.
// Start with TestATA.
package devicetest

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/sat"
	"hylostat.example/internal/core/scsi"
)

// ATA runs the suite on an attached ATA drive and returns the first thing that does not conform. It is a plain function
// so that the virtual machine can run it without a test binary.
func ATA(ctx context.Context, d device.Device) error {
	link, ok := d.(device.SCSI)
	if !ok {
		return errors.New("the device takes no SCSI commands")
	}
	if desc := d.Describe(); desc.Address == "" || desc.Instance == "" || desc.Bytes == 0 {
		return errors.New("the description lacks address, instance or size")
	}
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
	if _, err := link.Exchange(gone, device.Command{CDB: sat.Form16.CDB(ata.ReadIdentify()), DataIn: ata.PageSize, Timeout: time.Second}); !errors.Is(err, context.Canceled) {
		return errors.New("a cancelled context did not end the exchange")
	}
	return nil
}

// TestATA runs ATA as a test, and what needs a closed device besides.
func TestATA(t *testing.T, d device.Device) {
	t.Helper()
	require.NoError(t, ATA(t.Context(), d))
	require.NoError(t, d.Close())
	_, err := d.(device.SCSI).Exchange(t.Context(), device.Command{CDB: sat.Form16.CDB(ata.ReadIdentify()), DataIn: ata.PageSize, Timeout: time.Second})
	assert.Error(t, err, "a closed device takes no commands")
}
