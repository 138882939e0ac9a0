package attend

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/volume"
)

// Machine is the source that stands behind: it finds drives in this process, and opens them in others.
type Machine interface {
	device.Source
	device.Places
	device.Guard
	device.Rescanner
	device.Writable
	device.Checker
}

// Source is a machine whose drives are opened in processes of their own.
type Source struct {
	Machine
	Command []string // starts a process whose descriptor 3 is the socket that Attend serves
	Files   []string // image files that stand for drives
	Log     *slog.Logger

	mu      sync.Mutex
	deaths  map[drive.Address][]time.Time
	changed []chan struct{}
}

// A process that ends that often within that time is not started again: something about the drive ends it.
const (
	mostDeaths = 5
	deathsIn   = 10 * time.Minute
)

// Look lists the machine's drives. One whose process has ended is found anew.
func (s *Source) Look(ctx context.Context) ([]drive.Attachment, error) {
	all, err := s.Machine.Look(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range all {
		if n := len(s.deaths[all[i].Address]); n > 0 {
			all[i].Instance = fmt.Sprintf("%s%s%d", all[i].Instance, anew, n)
		}
	}
	return all, err
}

// anew stands between the machine's own instance and how often the drive's process has ended.
const anew = " found anew "

func original(d drive.Attachment) drive.Attachment {
	d.Instance, _, _ = strings.Cut(d.Instance, anew)
	return d
}

// Changed delivers what the machine tells, and the end of processes.
func (s *Source) Changed(ctx context.Context) <-chan struct{} {
	out, machine := make(chan struct{}, 1), s.Machine.Changed(ctx)
	s.mu.Lock()
	s.changed = append(s.changed, out)
	s.mu.Unlock()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-machine:
				signal(out)
			}
		}
	}()
	return out
}

func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// WriteProtect implements device.Guard.
func (s *Source) WriteProtect(ctx context.Context, d drive.Attachment, on bool) error {
	return s.Machine.WriteProtect(ctx, original(d), on)
}

// Uses implements device.Writable.
func (s *Source) Uses(ctx context.Context, d drive.Attachment) ([]string, error) {
	return s.Machine.Uses(ctx, original(d))
}

// CheckVolume implements device.Checker. The checker is a process of its own anyway.
func (s *Source) CheckVolume(ctx context.Context, d drive.Attachment, partition int, kind string) volume.Check {
	return s.Machine.CheckVolume(ctx, original(d), partition, kind)
}

// Open opens a drive in a process of its own.
func (s *Source) Open(ctx context.Context, d drive.Attachment) (device.Device, error) {
	p, able, err := s.start(ctx, d, false)
	if err != nil {
		return nil, err
	}
	base := opened{p, able.Limits}
	switch {
	case able.NVMe:
		return &controller{base}, nil
	case able.SCSI:
		return &disk{base}, nil
	}
	return &image{base}, nil
}

// OpenExclusive opens a drive's surface for writing, in a process of its own.
func (s *Source) OpenExclusive(ctx context.Context, d drive.Attachment) (device.Exclusive, error) {
	p, able, err := s.start(ctx, d, true)
	if err != nil {
		return nil, err
	}
	return &exclusive{opened{p, able.Limits}}, nil
}

// died notes the end of a process nobody wanted to end, and has the drive found anew.
func (s *Source) died(at drive.Address, how error) {
	s.Log.Warn("the process that attends a drive has ended", "drive", at, "how", how)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.deaths == nil {
		s.deaths = map[drive.Address][]time.Time{}
	}
	s.deaths[at] = append(s.deaths[at], time.Now())
	for _, c := range s.changed {
		signal(c)
	}
}

// start starts a process and has it open a drive.
func (s *Source) start(ctx context.Context, d drive.Attachment, exclusively bool) (*process, abilities, error) {
	what := "opening " + d.Node
	fail := func(err error) error {
		return &device.Failed{Class: drive.FaultNotRead, What: what, Cause: "the process to attend it cannot be started: " + err.Error()}
	}
	s.mu.Lock()
	recent := slices.DeleteFunc(slices.Clone(s.deaths[d.Address]), func(t time.Time) bool { return time.Since(t) > deathsIn })
	s.mu.Unlock()
	if len(recent) >= mostDeaths {
		return nil, abilities{}, &device.Failed{
			Class: drive.FaultNoAnswer,
			What:  what,
			Cause: fmt.Sprintf("the process that attends it has ended %d times in %s", len(recent), deathsIn),
		}
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, abilities{}, fail(err)
	}
	_ = unix.SetNonblock(pair[0], true) // so that closing it wakes who reads
	ours, theirs := os.NewFile(uintptr(pair[0]), "attendant"), os.NewFile(uintptr(pair[1]), "attendant")
	cmd := exec.Command(s.Command[0], s.Command[1:]...) //nolint:gosec,noctx // this program itself; it ends when the socket does
	cmd.ExtraFiles, cmd.Stderr = []*os.File{theirs}, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for the service, which then closes the socket
	err = cmd.Start()
	_ = theirs.Close()
	if err != nil {
		_ = ours.Close()
		return nil, abilities{}, fail(err)
	}
	p := &process{line: newLine(ours), description: d, cmd: cmd, waiting: map[uint64]chan reply{}, gone: make(chan struct{})}
	go p.listen(s)
	first, err := p.call(ctx, what, request{Kind: open, Device: original(d), Exclusive: exclusively, Files: s.Files}, opening)
	if err != nil {
		p.close()
		return nil, abilities{}, err
	}
	return p, first.Abilities, nil
}

// How long a process may take beyond what was asked of it, and to open a drive.
const (
	beyond  = 15 * time.Second
	opening = time.Minute
	writes  = 6 * time.Minute // a single write: the kernel tries several times
)

// process is one that attends a drive.
type process struct {
	*line
	description drive.Attachment
	cmd         *exec.Cmd

	lock    sync.Mutex
	next    uint64
	waiting map[uint64]chan reply
	closing bool
	gone    chan struct{} // closed when it has ended
}

// listen hands out what comes back until the process ends.
func (p *process) listen(s *Source) {
	for {
		var r reply
		if p.decode.Decode(&r) != nil {
			break
		}
		p.lock.Lock()
		c := p.waiting[r.ID]
		p.lock.Unlock()
		if c != nil {
			select {
			case c <- r:
			case <-p.gone:
			}
		}
	}
	close(p.gone)
	_ = p.end.Close()
	_ = p.cmd.Process.Kill() // one that still is there holds a thread the kernel keeps
	how := p.cmd.Wait()
	p.lock.Lock()
	closing := p.closing
	p.lock.Unlock()
	if !closing {
		s.died(p.description.Address, how)
	}
}

// expect registers who waits for the replies to a request.
func (p *process) expect(room int) (uint64, chan reply, func()) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.next++
	id, c := p.next, make(chan reply, room)
	p.waiting[id] = c
	return id, c, func() {
		p.lock.Lock()
		delete(p.waiting, id)
		p.lock.Unlock()
	}
}

func (p *process) vanished(what string) error {
	return &device.Failed{Class: drive.FaultVanished, What: what, Cause: "the process that attends the drive has ended"}
}

// call sends a request and waits for its reply, for the process's end, or until it is long overdue.
func (p *process) call(ctx context.Context, what string, r request, within time.Duration) (reply, error) {
	if err := ctx.Err(); err != nil {
		return reply{}, err
	}
	id, c, forget := p.expect(1)
	defer forget()
	r.ID = id
	if err := p.send(r); err != nil {
		return reply{}, p.vanished(what)
	}
	overdue := time.NewTimer(within)
	defer overdue.Stop()
	select {
	case out := <-c:
		return out, out.Failure.err()
	case <-p.gone:
		return reply{}, p.vanished(what)
	case <-ctx.Done():
		return reply{}, ctx.Err()
	case <-overdue.C:
		return reply{}, &device.Failed{Class: drive.FaultStuck, What: what, Cause: fmt.Sprintf("no answer for %s", within)}
	}
}

// close lets the process end. One that the kernel holds is left behind.
func (p *process) close() {
	p.lock.Lock()
	p.closing = true
	p.lock.Unlock()
	_ = p.end.Close()
}

// opened is what every opened drive can do.
type opened struct {
	process *process
	limits  device.Limits
}

// Describe implements device.Device.
func (o *opened) Describe() drive.Attachment { return o.process.description }

// Close implements device.Device.
func (o *opened) Close() error {
	o.process.close()
	return nil
}

// Limits implements device.Blocks.
func (o *opened) Limits() device.Limits { return o.limits }

// Stream implements device.Blocks.
func (o *opened) Stream(
	ctx context.Context, how device.Streaming, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome),
) error {
	return o.stream(ctx, request{How: how}, next, told)
}

// peeking is how long a peek may take: the kernel tries a read several times.
const peeking = 6 * time.Minute

// Peek implements device.Peeker.
func (o *opened) Peek(ctx context.Context, e surface.Extent) ([]byte, error) {
	out, err := o.process.call(
		ctx, fmt.Sprintf("reading LBA %d of %s", e.LBA, o.process.description.Node), request{Kind: peek, Extent: e}, peeking,
	)
	return out.Bytes, err
}

// stream has the process carry out reads or writes. As many again as are to be in flight wait inside it, so that it need not
// wait for the next; except for one at a time, which is to leave pauses.
func (o *opened) stream(ctx context.Context, r request, next func() (surface.Read, bool), told func(surface.Read, surface.Outcome)) error {
	window := max(1, r.How.Depth)
	if window > 1 {
		window *= 2
	}
	p, what := o.process, "reading "+o.process.description.Node
	id, c, forget := p.expect(window + 1)
	defer forget()
	r.ID, r.Kind = id, stream
	if err := ctx.Err(); err != nil {
		return err
	}
	if p.send(r) != nil {
		return p.vanished(what)
	}
	flying, over := map[uint64]surface.Read{}, false
	for {
		var more []surface.Read
		for !over && len(flying) < window {
			read, ok := next()
			if !ok {
				break
			}
			flying[read.Number] = read
			more = append(more, read)
		}
		var err error
		switch {
		case len(more) > 0:
			err = p.send(request{ID: id, Kind: places, Reads: more})
		case len(flying) == 0 && !over:
			over = true
			err = p.send(request{ID: id, Kind: last})
		}
		if err != nil {
			return p.vanished(what)
		}
		select {
		case out := <-c:
			if out.Told == nil {
				return out.Failure.err()
			}
			for _, one := range out.Told {
				read := flying[one.Number]
				delete(flying, one.Number)
				told(read, one.Outcome)
			}
		case <-p.gone:
			return p.vanished(what)
		case <-ctx.Done():
			return errors.Join(ctx.Err(), p.send(request{ID: id, Kind: cancel}))
		}
	}
}

// disk takes SCSI commands.
type disk struct{ opened }

// Exchange implements device.SCSI.
func (d *disk) Exchange(ctx context.Context, c device.Command) (device.Result, error) {
	if err := device.Allow(c); err != nil {
		return device.Result{}, err
	}
	out, err := d.process.call(
		ctx, fmt.Sprintf("command % X to %s", c.CDB, d.process.description.Node), request{Kind: exchange, Command: c},
		c.Timeout+beyond,
	)
	return out.Result, err
}

// controller takes NVMe admin commands.
type controller struct{ opened }

// Admin implements device.NVMe.
func (d *controller) Admin(ctx context.Context, c device.AdminCommand) (device.Completion, error) {
	if err := device.AllowAdmin(c.Command); err != nil {
		return device.Completion{}, err
	}
	out, err := d.process.call(
		ctx, fmt.Sprintf("%s to %s", c.Name(), d.process.description.Node), request{Kind: admin, Admin: c}, c.Timeout+beyond,
	)
	return out.Completion, err
}

// image has a surface, and nothing to ask.
type image struct{ opened }

// exclusive is a surface opened for writing.
type exclusive struct{ opened }

// Fill implements device.Exclusive.
func (x *exclusive) Fill(
	ctx context.Context, p surface.Pattern, how device.Streaming, next func() (surface.Read, bool),
	told func(surface.Read, surface.Outcome),
) error {
	return x.stream(ctx, request{How: how, Fill: &p}, next, told)
}

func (x *exclusive) one(ctx context.Context, verb string, r request) (surface.Outcome, error) {
	out, err := x.process.call(ctx, fmt.Sprintf("%s LBA %d of %s", verb, r.Extent.LBA, x.process.description.Node), r, writes)
	return out.Outcome, err
}

// Mend implements device.Exclusive.
func (x *exclusive) Mend(ctx context.Context, e surface.Extent) (surface.Outcome, error) {
	return x.one(ctx, "writing", request{Kind: mend, Extent: e})
}

// Save implements device.Exclusive.
func (x *exclusive) Save(ctx context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	return x.one(ctx, "reading", request{Kind: save, Extent: e, File: file})
}

// Restore implements device.Exclusive.
func (x *exclusive) Restore(_ context.Context, e surface.Extent, file string) (surface.Outcome, error) {
	return x.one(context.Background(), "writing", request{Kind: restore, Extent: e, File: file})
}
