package sim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/ata"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/volume"
)

// Clock is simulated time: it starts at a moment and runs faster than the wall's by a factor.
type Clock struct {
	Wall   time.Time `json:"wall"`  // wall time at which Start was the simulated time
	Start  time.Time `json:"start"` // simulated
	Factor float64   `json:"factor"`

	passed atomic.Int64 // ns that were let pass at once
}

// NewClock gives a clock at the wall's present time, running faster by factor.
func NewClock(factor float64) *Clock {
	now := time.Now()
	return &Clock{Wall: now, Start: now, Factor: factor}
}

// Now is the simulated time.
func (c *Clock) Now() time.Time {
	return c.Start.Add(time.Duration(float64(time.Since(c.Wall))*c.Factor) + time.Duration(c.passed.Load())).Round(0)
}

// Pass lets time pass at once, before anybody waits.
func (b *Bench) Pass(d time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if c, ok := b.clock.(*Clock); ok {
		c.passed.Add(int64(d))
	}
}

// Sleep waits for d of simulated time.
func (c *Clock) Sleep(ctx context.Context, d time.Duration) error {
	return device.Wall{}.Sleep(ctx, time.Duration(float64(d)/c.Factor))
}

// test is a self-test going on inside a drive.
type test struct {
	Kind    uint8         `json:"kind"`
	Started time.Time     `json:"started"`
	Ends    time.Time     `json:"ends"`
	Length  time.Duration `json:"length"` // had it nothing to find
}

// place is one bay: the drive's memory survives the service, as a real drive's would.
type place struct {
	Bayed    time.Time      `json:"bayed"`
	Attempts int            `json:"attempts"`
	Instance int            `json:"instance"`
	Running  *test          `json:"running,omitempty"`
	Log      []ata.SelfTest `json:"log"`

	Spun  bool       `json:"spun,omitempty"`  // awake since somebody asked
	Spans []ata.Span `json:"spans,omitempty"` // of the last selective self-test

	Healed map[uint64]bool `json:"healed,omitempty"` // physical sectors that were written and took it

	Filled *filled `json:"filled,omitempty"` // the last overwrite
	Wrote  uint64  `json:"wrote,omitempty"`  // sectors

	exclusive bool // somebody holds it for writing
	Guarded   bool `json:"guarded,omitempty"` // the machine refuses to write to it
	spec      *Spec
	out       bool // pulled
	answered  int  // commands since it was opened
	asked     []byte
}

// Bench is a device.Source with simulated drives in its places.
type Bench struct {
	clock device.Clock
	file  string // where the drives' memory is kept; empty: nowhere

	memory  memory // as it was found in the file
	mu      sync.Mutex
	order   []drive.Address
	places  map[drive.Address]*place
	shelf   map[string][]ata.SelfTest // by serial, of drives that are in no place
	changed []chan struct{}
}

// New gives a bench with empty places. With a file, what the drives remember is read from it and kept there.
func New(clock device.Clock, file string, places ...drive.Address) *Bench {
	b := &Bench{clock: clock, file: file, order: places, places: map[drive.Address]*place{}, shelf: map[string][]ata.SelfTest{}}
	for _, a := range places {
		b.places[a] = &place{}
	}
	if data, err := os.ReadFile(file); err == nil && file != "" {
		_ = json.Unmarshal(data, &b.memory) // RecallClock has refused a broken one
	}
	return b
}

// Clock is the drives' time.
func (b *Bench) Clock() device.Clock { return b.clock }

// Insert puts a drive into a place. One that was pulled elsewhere, or is put in again, has its self-test log with
// it, and what the spec has beyond that.
func (b *Bench) Insert(at drive.Address, s Spec) {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := b.place(at)
	b.shelve(p)
	for _, other := range b.places {
		if other.spec != nil && other.out && other.spec.Identity.Serial == s.Identity.Serial {
			b.shelve(other)
		}
	}
	log := b.shelf[s.Identity.Serial]
	if len(s.Tests) > len(log) { // it has run tests elsewhere
		log = slices.Clone(s.Tests)
	}
	p.spec, p.out, p.Guarded, p.exclusive = &s, false, false, false
	p.Instance++
	p.Attempts = 0
	p.Bayed = b.clock.Now()
	p.Log = log
	p.Running = nil
	b.recall(at)
	b.keep()
	b.notify()
}

// shelve takes the drive of a place away for good; its self-test log waits until it is put in somewhere.
func (b *Bench) shelve(p *place) {
	if p.spec == nil {
		return
	}
	if p.Running != nil { // power gone: the test is interrupted
		b.finish(p, ata.TestInterrupted)
	}
	if serial := p.spec.Identity.Serial; serial != "" {
		b.shelf[serial] = p.Log
	}
	p.spec = nil
}

// Remove pulls the drive of a place; Return puts the same drive back.
func (b *Bench) Remove(at drive.Address) {
	b.mu.Lock()
	defer b.mu.Unlock()
	p := b.place(at)
	p.out, p.Guarded, p.exclusive = true, false, false
	if p.Running != nil { // power gone: the test is interrupted
		b.finish(p, ata.TestInterrupted)
	}
	b.notify()
}

// Return puts the drive that Remove pulled back into its place.
func (b *Bench) Return(at drive.Address) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.place(at).out = false
	b.place(at).Instance++
	b.notify()
}

// Change has the drive of a place, or what the machine does with it, be otherwise from now on: mounted, warmer, without its medium.
func (b *Bench) Change(at drive.Address, change func(s *Spec)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if p := b.place(at); p.spec != nil {
		change(p.spec)
		b.notify()
	}
}

func (b *Bench) place(at drive.Address) *place {
	p, ok := b.places[at]
	if !ok {
		p = &place{}
		b.places[at], b.order = p, append(b.order, at)
	}
	return p
}

func (b *Bench) notify() {
	for _, c := range b.changed {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// Places lists all places of the bench.
func (b *Bench) Places() []drive.Address { return b.order }

// Look lists the drives that answer the machine.
func (b *Bench) Look(context.Context) ([]drive.Attachment, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var all []drive.Attachment
	for i, a := range b.order {
		p := b.places[a]
		if p.spec == nil || p.out || p.Attempts < p.spec.Awkward.SilentAttempts {
			continue
		}
		id, k := p.spec.Identity, p.spec.Awkward
		d := drive.Attachment{
			Address:       a,
			Node:          fmt.Sprintf("sim%d", i+1),
			Transport:     "SATA",
			Vendor:        "ATA",
			Model:         id.Model[:min(16, len(id.Model))],
			Serial:        id.Serial,
			Bytes:         id.Sectors * uint64(id.LogicalSector),
			LogicalSector: id.LogicalSector,
			Instance:      fmt.Sprint(p.Instance),
			Behind:        k.Behind,
			Adapter:       k.Adapter,
			InUse:         k.InUse,
		}
		switch {
		case p.spec.NVMe != nil:
			d.Transport, d.Vendor = "NVMe", ""
		case p.spec.SCSI != nil:
			d.Transport, d.Vendor = "SCSI", p.spec.SCSI.Vendor
		case k.Behind != "":
			d.Transport, d.Vendor, d.Model, d.Serial = "SCSI", "Oxbow", "VOLUME", ""
		case k.Adapter != "":
			d.Transport, d.Vendor, d.Model, d.Serial = "USB", "Oxbow", "Dock", "OXD"+id.Serial[max(0, len(id.Serial)-3):]
		}
		if k.NoMedium {
			d.Bytes, d.Model = 0, "Dock"
		}
		all = append(all, d)
	}
	return all, nil
}

// Rescan is an attempt to make the drive of a place answer.
func (b *Bench) Rescan(_ context.Context, at drive.Address) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	p, ok := b.places[at]
	if !ok {
		return fmt.Errorf("no place %s on this bench", at)
	}
	p.Attempts++
	b.keep()
	b.notify()
	return nil
}

// Changed delivers a value whenever a drive came or went.
func (b *Bench) Changed(ctx context.Context) <-chan struct{} {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	b.changed = append(b.changed, c)
	b.mu.Unlock()
	context.AfterFunc(ctx, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		for i, other := range b.changed {
			if other == c {
				b.changed = append(b.changed[:i], b.changed[i+1:]...)
				return
			}
		}
	})
	return c
}

// CheckVolume implements device.Checker: a simulated drive has no node that a checker could open.
func (b *Bench) CheckVolume(_ context.Context, _ drive.Attachment, partition int, _ string) volume.Check {
	return volume.Check{Partition: partition, Result: volume.NotChecked, Said: "a simulated drive has no node that a checker could open"}
}

// WriteProtect has the machine refuse to write to a drive.
func (b *Bench) WriteProtect(_ context.Context, d drive.Attachment, on bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	p, ok := b.places[d.Address]
	if !ok || p.spec == nil || p.out {
		return &device.Failed{Class: drive.FaultVanished, What: "protecting " + d.Node, Cause: "the drive that was there is gone"}
	}
	p.Guarded = on
	b.keep()
	return nil
}

// Guarded tells whether the machine refuses to write to the drive of a place.
func (b *Bench) Guarded(at drive.Address) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.place(at).Guarded
}

// Open opens a described drive.
func (b *Bench) Open(_ context.Context, d drive.Attachment) (device.Device, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	p, ok := b.places[d.Address]
	if !ok || p.spec == nil || p.out || fmt.Sprint(p.Instance) != d.Instance {
		return nil, &device.Failed{Class: drive.FaultVanished, What: "opening " + d.Node, Cause: "the drive that was there is gone"}
	}
	if p.spec.Awkward.NoOpen {
		return nil, &device.Failed{Class: drive.FaultNoAnswer, What: "opening " + d.Node, Cause: "input/output error"}
	}
	p.answered = 0
	one := attached{bench: b, place: p, description: d}
	if p.spec.NVMe != nil {
		return &controller{one}, nil
	}
	return &disk{one}, nil
}

// memory is the file's content.
type memory struct {
	Clock  *Clock                   `json:"clock,omitempty"`
	Places map[drive.Address]*place `json:"places"`
}

// keep writes what the drives remember. A failure is of no consequence to a running bench.
func (b *Bench) keep() {
	if b.file == "" {
		return
	}
	m := memory{Places: maps.Clone(b.memory.Places)} // those not put in again yet
	if m.Places == nil {
		m.Places = map[drive.Address]*place{}
	}
	for at, p := range b.places {
		if p.spec != nil {
			m.Places[at] = p
		}
	}
	m.Clock, _ = b.clock.(*Clock)
	data, err := json.Marshal(m)
	if err != nil {
		return
	}
	next := b.file + ".next"
	if os.WriteFile(next, data, 0o600) == nil {
		_ = os.Rename(next, b.file)
	}
}

// recall gives a place the memory its drive had.
func (b *Bench) recall(at drive.Address) {
	if known := b.memory.Places[at]; known != nil {
		spec := b.places[at].spec
		*b.places[at] = *known
		b.places[at].spec = spec
		spec.mended = float64(len(known.Healed))
		delete(b.memory.Places, at)
	}
}

// RecallClock reads the clock out of a memory file, so that simulated time goes on where it was. A file that does not
// exist yet gives a new clock.
func RecallClock(file string, factor float64) (*Clock, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return NewClock(factor), nil
	}
	var m memory
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err != nil || m.Clock == nil {
		return nil, fmt.Errorf(
			"reading the simulated drives' memory %s: %w", filepath.Base(file),
			errors.Join(err, errors.New("remove it to begin anew")),
		)
	}
	return m.Clock, nil
}
