package worker

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/volume"
	"hylostat.example/internal/protocol"
)

// mostPieces bounds what a look at a drive's volumes brings, in bytes read.
const mostPieces = 16 << 20

// checking is how long the checkers of one drive may take together.
const checking = 15 * time.Minute

// lookAtVolumes reads partition tables and superblocks, and has the system's own checkers look where there are some. They take
// their time beside the bay's other work; the report comes when all are done.
func (w *Worker) lookAtVolumes(ctx context.Context, o protocol.Order) (protocol.Receipt, func(), error) {
	if w.current != nil {
		return protocol.Receipt{}, nil, w.busy(o)
	}
	peeker, ok := w.open.(device.Peeker)
	blocks, also := w.open.(device.Blocks)
	if !ok || !also {
		return protocol.Receipt{}, nil, w.refuseWith(
			o, drive.FaultNotPassed, "its surface cannot be read here", "Attach the drive to a plain port.",
		)
	}
	return protocol.Receipt{}, func() {
		limits := blocks.Limits()
		seen := &protocol.Volumes{
			ID:     rand.Text(),
			Order:  o.ID,
			By:     o.By,
			Bay:    w.bay.ID,
			Key:    w.bay.Key,
			At:     w.machine.Clock.Now(),
			Bytes:  limits.Bytes,
			Sector: limits.Logical,
		}
		layout := volume.Look(reader(ctx, peeker, limits, seen), limits.Bytes, limits.Logical)
		attached := w.bay.Device
		w.bench.Go(func() {
			w.machine.checkVolumes(ctx, attached, layout, seen)
			w.bench.Report(ctx, protocol.Report{Volumes: seen})
		})
	}, nil
}

// reader reads sectors and keeps what they held.
func reader(ctx context.Context, p device.Peeker, limits device.Limits, seen *protocol.Volumes) volume.Reader {
	total := 0
	return func(offset uint64, length int) ([]byte, error) {
		piece := volume.Piece{Offset: offset, Length: length}
		b, err := device.PeekBytes(ctx, p, limits, offset, length)
		if total += length; err == nil && total > mostPieces {
			err = errors.New("it asks for too much")
		}
		if err != nil {
			piece.Fault = err.Error()
		} else {
			piece.Bytes = bytes.TrimRight(b, "\x00")
		}
		seen.Pieces = append(seen.Pieces, piece)
		return b, err
	}
}

// checkVolumes has the system's own checkers look at each file system that was recognised.
func (m *Machine) checkVolumes(ctx context.Context, d drive.Attachment, layout volume.Layout, seen *protocol.Volumes) {
	checker, ok := m.Source.(device.Checker)
	if !ok {
		return
	}
	ctx, end := context.WithTimeout(ctx, checking)
	defer end()
	for _, v := range layout.Volumes {
		if v.Kind != "" {
			seen.Checks = append(seen.Checks, checker.CheckVolume(ctx, d, v.Partition, v.Kind))
		}
	}
}
