package main

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"hylostat.example/internal/bench/probe"
	"hylostat.example/internal/bench/sim"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/reading"
	"hylostat.example/internal/core/signal"
	"hylostat.example/internal/shop"
	"hylostat.example/internal/store"
)

// story is a clock that is set by hand.
type story struct{ at time.Time }

func (s *story) Now() time.Time { return s.at }

func (s *story) Sleep(context.Context, time.Duration) error { return nil }

// fullDrive keeps everything an ATA drive can keep.
func fullDrive(n int, born time.Time) sim.Spec {
	s := sim.Spec{
		Identity: ata.Identify{
			Serial:            fmt.Sprintf("KVA07%05d", n),
			Firmware:          "S1.04",
			Model:             "Korvan K4-2000",
			Sectors:           3_906_250_168,
			LogicalSector:     512,
			PhysicalSector:    4096,
			RotationRate:      7200,
			FormFactor:        2,
			LBA48:             true,
			WWN:               0x500005E000000000 | uint64(n),
			SATAGenerations:   7,
			SATANow:           3,
			Transport:         0x11FF,
			SMARTSupported:    true,
			SMARTEnabled:      true,
			ErrorLogSupported: true,
			ErrorLogEnabled:   true,
			SelfTestSupported: true,
			SelfTestEnabled:   true,
			GPL:               true,
			SCT:               true,
			SCTTables:         true,
			SCTRecovery:       true,
			Integrity:         ata.IntegrityRight,
		},
		Seed:       uint64(n),
		Born:       born,
		Hours:      9000,
		Share:      1,
		Minutes:    2,
		Statistics: true,
		Logs:       true,
		Rate:       100_000,
		Heat:       sim.Heat{Base: 38, Wave: 2, Noise: 1},
		Tests:      []ata.SelfTest{{Number: 2, Hours: 8000}},
		Errors:     []ata.LoggedError{{Command: 0x25, Error: ata.ErrorUNC, Status: 0x51, LBA: 77, Hours: 8800, State: 3}},
	}
	for _, id := range []uint8{1, 3, 4, 5, 7, 9, 10, 12, 184, 187, 188, 192, 193, 194, 197, 198, 199} {
		c := sim.Counter{ID: id, Flags: 0x32, Threshold: 20, Value: 100}
		switch id {
		case 1, 7:
			c.Packed = 7000
		case 9:
			c.Kind = sim.Hours
		case 193:
			c.Course = sim.Course{Rate: 3}
		case 194:
			c.Kind = sim.Temperature
		case 197, 199:
			c.Course = sim.Course{Start: 9_500, Every: 400, Step: 2}
		}
		s.Counters = append(s.Counters, c)
	}
	return s
}

// life takes count readings of a drive, six hours apart.
func life(ctx context.Context, n, count int) ([][]reading.Page, error) {
	clock := &story{time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)}
	b := sim.New(clock, "", "bay")
	b.Insert("bay", fullDrive(n, clock.at))
	found, err := b.Look(ctx)
	if err != nil {
		return nil, err
	}
	d, err := b.Open(ctx, found[0])
	if err != nil {
		return nil, err
	}
	session, fault := probe.Open(d, probe.NotKnown)
	if fault != nil {
		return nil, fault
	}
	all := make([][]reading.Page, count)
	for i := range all {
		all[i] = session.Pages(ctx, probe.Manner{})
		clock.at = clock.at.Add(6 * time.Hour)
	}
	return all, nil
}

// kinds measures decoding and the store: a full ATA reading decoded, 100,000 readings stored, a life of 200 read back.
func kinds(ctx context.Context, dir string) ([]figure, error) {
	const drives, readings, lives = 500, 200, 10
	histories := make([][][]reading.Page, lives)
	var err error
	for n := range histories {
		if histories[n], err = life(ctx, n, readings); err != nil {
			return nil, err
		}
	}
	pages := histories[0][readings-1]
	decode := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			reading.Decode(pages)
		}
	})
	path := filepath.Join(dir, "kinds.db")
	st, err := store.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = st.Close() }()
	begun := time.Now()
	for n := range drives {
		if err := st.Write(ctx, func(tx store.Tx) error { return keepLife(ctx, tx, n, histories[n%lives]) }); err != nil {
			return nil, err
		}
	}
	each := float64(time.Since(begun).Microseconds()) / 1000 / drives / readings
	var took []float64
	for n := range 51 {
		begun := time.Now()
		if _, err := st.Moments(ctx, int64(n+1)); err != nil {
			return nil, err
		}
		took = append(took, float64(time.Since(begun).Microseconds())/1000)
	}
	size, err := st.Size(ctx)
	if err != nil {
		return nil, err
	}
	return []figure{
		{"kinds.pages", float64(len(pages)), "", ">= 17", len(pages) >= 17},
		below("kinds.decode", float64(decode.NsPerOp())/1000, "us", 60),
		below("kinds.decode_allocs", float64(decode.AllocsPerOp()), "", 100),
		below("kinds.reading_size", float64(size)/drives/readings, "B", 1000),
		{"kinds.reading_stored", float64(int(each*100+0.5)) / 100, "ms", "no target", true},
		below("kinds.history", median(took), "ms", 5),
	}, nil
}

func keepLife(ctx context.Context, tx store.Tx, n int, history [][]reading.Page) error {
	first := reading.Decode(history[0])
	d := shop.Drive{Identity: first.Identity, Duty: "everyday", FirstSeen: time.Now()}
	d.Identity.Serial = fmt.Sprintf("KVA08%05d", n)
	if err := tx.SaveDrive(ctx, &d); err != nil {
		return err
	}
	for i, pages := range history {
		decoded := reading.Decode(pages)
		r := shop.Reading{
			Drive:   d.ID,
			At:      time.Now().Add(time.Duration(i) * time.Hour),
			Tool:    "bench",
			Decoder: reading.DecoderVersion,
			Pages:   pages,
			Report:  fmt.Sprintf("%d-%d", n, i),
		}
		if err := tx.AddReading(ctx, &r, signal.Of(&decoded)); err != nil {
			return err
		}
	}
	return nil
}
