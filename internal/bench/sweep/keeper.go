package sweep

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/copymap"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/volume"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/diskspace"
)

// keeper keeps what a copy reads: the driver writes the image, the keeper says in the map beside it what is there. A line of the map
// follows what it tells of; now and then the image is told to keep what it has, and the map says so.
type keeper struct {
	copy  *surface.Copy
	lines *copymap.Writer
	image *os.File

	mu      sync.Mutex
	unsaid  []said // what the map has not taken yet
	refused error  // why it takes no more; nil: it does
}

// said is what a line of the map says.
type said struct {
	surface.Part
	sum copymap.Sum
}

// MapSuffix is what the map of an image is called more than it.
const MapSuffix = ".map.jsonl"

// beginCopy has the sweep follow a copy, which keeps what it reads.
func (s *Sweeper) beginCopy(ctx context.Context, o Order) error {
	g, found := s.sweep.Geometry(), s.sweep
	h := copymap.Header{
		Copy: copymap.Version, Image: filepath.Base(o.Image), Began: s.host.Clock.Now().UTC(), Tool: o.Tool, From: copymap.Source{
			Model: o.Run.Key.Model, Serial: o.Run.Key.Serial, Bytes: g.Bytes(), Sector: g.Logical, Physical: g.Physical,
		},
	}
	k, err := openKeeper(o.Image, h, g, found.State, found.Ribbon(), func() [][]surface.Extent {
		peeker, _ := o.Blocks.(device.Peeker)
		return usedOf(ctx, peeker, o.Blocks.Limits())
	})
	if err != nil {
		return err
	}
	s.keeper, s.course, s.sweep, s.how.Keep = k, k.copy, k.copy.Found(), o.Image
	return nil
}

// openKeeper opens image and map, or makes them, and gives the copy that goes on from there.
func openKeeper(
	path string, h copymap.Header, g surface.Geometry, found surface.State, r *surface.Ribbon, used func() [][]surface.Extent,
) (_ *keeper, err error) {
	lines, m, err := copymap.Open(path+MapSuffix, h, bootID())
	if err != nil {
		return nil, err
	}
	k := &keeper{lines: lines}
	defer func() {
		if err != nil {
			_ = k.close()
		}
	}()
	if k.image, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, fmt.Errorf("opening the image: %w", err)
	}
	stat, err := k.image.Stat()
	if err != nil {
		return nil, fmt.Errorf("opening the image: %w", err)
	}
	switch size := int64(g.Bytes()); {
	case stat.Size() == size:
	case stat.Size() > 0 || m.Sum(surface.Copied) > 0:
		return nil, &ChangedError{path, stat.Size(), size}
	default:
		if err := k.image.Truncate(size); err != nil {
			return nil, fmt.Errorf("making the image: %w", err)
		}
	}
	k.copy = surface.NewCopy(g, used(), m, found, r, surface.DefaultCopyLimits)
	return k, nil
}

// ChangedError says that an image is not as a copy left it.
type ChangedError struct {
	Image     string
	Is, Bytes int64
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("the image %s has %d bytes, and the drive %d: somebody changed it", e.Image, e.Is, e.Bytes)
}

// bootID names this run of the machine.
func bootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// took notes what became of the last read.
func (k *keeper) took(sum copymap.Sum) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, p := range k.copy.Changes() {
		k.unsaid = append(k.unsaid, said{p, sum})
	}
	k.say()
}

// say writes into the map what it has not taken yet. The caller holds the lock.
func (k *keeper) say() {
	k.refused = nil
	for len(k.unsaid) > 0 && k.refused == nil {
		if k.refused = k.lines.Add(k.unsaid[0].Part, k.unsaid[0].sum); k.refused == nil {
			k.unsaid = k.unsaid[1:]
		}
	}
}

// full is why the map takes no more, after one more try; nil: it does.
func (k *keeper) full() *device.Unkept {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.refused != nil {
		k.say()
	}
	if k.refused == nil {
		return nil
	}
	return &device.Unkept{
		File: k.image.Name() + MapSuffix, Cause: k.refused.Error(), Full: errors.Is(k.refused, syscall.ENOSPC),
	}
}

// hold has the destination keep what it has.
func (k *keeper) hold(log *slog.Logger) {
	k.mu.Lock()
	defer k.mu.Unlock()
	err := k.image.Sync()
	if err == nil {
		err = k.lines.Held()
	}
	if err != nil {
		log.Error("having the image of a copy kept", "image", k.image.Name(), "error", err)
	}
}

func (k *keeper) close() error {
	var all []error
	if k.image != nil {
		if err := k.image.Sync(); err != nil {
			all = append(all, err)
		} else {
			all = append(all, k.lines.Held())
		}
		all = append(all, k.image.Close())
	}
	return errors.Join(append(all, k.lines.Close())...)
}

// stands sums up what there is.
func (k *keeper) stands() *check.Copied {
	m, ranks := k.copy.Map(), k.copy.Ranks()
	pass, _ := k.copy.Pass()
	c := &check.Copied{
		Image: filepath.Base(k.image.Name()), Pass: uint8(pass),
		Sectors: m.Sum(surface.Copied), Skipped: m.Sum(surface.Skipped) + m.Sum(surface.Failed), Missing: m.Sum(surface.Missing),
	}
	for _, r := range ranks[:len(ranks)-1] { // the last is what nothing uses
		for _, e := range r {
			c.Used += e.Sectors
		}
		c.UsedCopied += m.SumIn(r, surface.Copied)
	}
	return c
}

// hold has the sweep wait, as what it reads cannot be kept.
func (s *Sweeper) hold(why *device.Unkept) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.course.Forget()
	s.unkept = wording.Say(wording.NotKept, wording.Values{"file": filepath.Base(why.File), "cause": why.Cause})
	if s.noRoom, s.retry = why.Full, time.Now().Add(retryKeeping); why.Full {
		s.unkept = wording.Say(wording.DestinationFull, wording.Values{"file": filepath.Base(why.File)})
	}
	if s.holds++; s.holds == 1 {
		s.idle = make(chan struct{})
	}
	select {
	case s.full <- s.unkept:
	default:
	}
}

// A destination that took no more is tried again after a while; one that was full, when it has room.
const (
	retryKeeping = time.Minute
	leastRoom    = 256 << 20
)

// Unkept is why what it reads cannot be kept for now; zero: it can, or may.
func (s *Sweeper) Unkept() wording.Phrase {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unkept.IsZero() || !time.Now().Before(s.retry) {
		return wording.Phrase{}
	}
	if s.noRoom {
		if free, _, err := diskspace.Of(filepath.Dir(s.how.Keep)); err == nil && free >= leastRoom {
			return wording.Phrase{}
		}
	}
	return s.unkept
}

// usedOf asks the file systems of a drive what they use: what says where everything lies comes first, then what lies in files. Where one
// does not tell, all of it counts as used. Nothing: no file system was recognised.
func usedOf(ctx context.Context, peeker device.Peeker, limits device.Limits) [][]surface.Extent {
	if peeker == nil || limits.Logical == 0 {
		return nil
	}
	sector := uint64(limits.Logical)
	read := func(offset uint64, length int) ([]byte, error) {
		return device.PeekBytes(ctx, peeker, limits, offset, length)
	}
	extents := func(spans []volume.Span) (all []surface.Extent) {
		for _, s := range spans {
			first := s.Start / sector
			all = append(all, surface.Extent{LBA: first, Sectors: (s.End()+sector-1)/sector - first})
		}
		return all
	}
	var structures, files []surface.Extent
	for _, v := range volume.Look(read, limits.Bytes, limits.Logical).Volumes {
		use, err := volume.InUse(read, v)
		if err != nil {
			files = append(files, extents([]volume.Span{{Start: v.Start, Bytes: v.Bytes}})...)
			continue
		}
		structures, files = append(structures, extents(use.Structures)...), append(files, extents(use.All)...)
	}
	return [][]surface.Extent{structures, files}
}
