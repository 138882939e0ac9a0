package attend

import (
	"context"
	"errors"
	"io"
	"sync"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// Serve opens the one drive that the other end of the socket names and carries out what it asks, until that end is closed.
// source gives the machine's source, with image files that stand for drives.
func Serve(ctx context.Context, socket io.ReadWriteCloser, source func(files []string) (device.Source, error)) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	a := &attendant{line: newLine(socket), streams: map[uint64]*feed{}}
	var first request
	if err := a.decode.Decode(&first); err != nil {
		return ended(err)
	}
	able, err := a.open(ctx, first, source)
	if err := a.send(reply{ID: first.ID, Abilities: able, Failure: failureOf(err)}); err != nil || a.device == nil && a.exclusive == nil {
		return err
	}
	defer a.close()
	for {
		var r request
		if err := a.decode.Decode(&r); err != nil {
			return ended(err)
		}
		a.take(ctx, r)
	}
}

// ended tells the end that was meant from one that was not.
func ended(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.ErrClosedPipe) {
		return nil
	}
	return err
}

// attendant is the inside of a process.
type attendant struct {
	*line
	device    device.Device
	exclusive device.Exclusive

	mu      sync.Mutex
	streams map[uint64]*feed
}

func (a *attendant) open(ctx context.Context, r request, source func([]string) (device.Source, error)) (able abilities, err error) {
	s, err := source(r.Files)
	if err != nil {
		return able, err
	}
	if r.Exclusive {
		w, ok := s.(device.Writable)
		if !ok {
			return able, &device.Failed{
				Class: drive.FaultNotPassed,
				What:  "opening " + r.Device.Node + " for writing",
				Cause: "surfaces of this machine cannot be written",
			}
		}
		if a.exclusive, err = w.OpenExclusive(ctx, r.Device); err != nil {
			return able, err
		}
		return abilities{Blocks: true, Limits: a.exclusive.Limits()}, nil
	}
	if a.device, err = s.Open(ctx, r.Device); err != nil {
		a.device = nil
		return able, err
	}
	_, able.SCSI = a.device.(device.SCSI)
	_, able.NVMe = a.device.(device.NVMe)
	var blocks device.Blocks
	if blocks, able.Blocks = a.device.(device.Blocks); able.Blocks {
		able.Limits = blocks.Limits()
	}
	return able, nil
}

func (a *attendant) close() {
	if a.exclusive != nil {
		_ = a.exclusive.Close()
	}
	if a.device != nil {
		_ = a.device.Close()
	}
}

// take carries out a request beside the others: one that hangs holds up nothing but what the device itself does not do at once.
func (a *attendant) take(ctx context.Context, r request) {
	a.mu.Lock()
	f := a.streams[r.ID]
	a.mu.Unlock()
	switch r.Kind {
	case places:
		if f != nil {
			f.more <- r.Reads
		}
		return
	case last:
		if f != nil {
			close(f.more)
		}
		return
	case cancel:
		if f != nil {
			f.cancel()
		}
		return
	case stream:
		var streaming context.Context
		f = &feed{more: make(chan []surface.Read, 64)} // the other end never has that many lists on their way
		streaming, f.cancel = context.WithCancel(ctx)
		f.done = streaming.Done()
		a.mu.Lock()
		a.streams[r.ID] = f
		a.mu.Unlock()
		ctx = streaming
	default:
	}
	go func() {
		out := a.do(ctx, r, f)
		out.ID = r.ID
		if f != nil {
			f.cancel()
			a.mu.Lock()
			delete(a.streams, r.ID)
			a.mu.Unlock()
		}
		_ = a.send(out) // an end that is closed shows where requests are read
	}()
}

func (a *attendant) do(ctx context.Context, r request, f *feed) (out reply) {
	var err error
	switch r.Kind {
	case exchange:
		if link, ok := a.device.(device.SCSI); ok {
			out.Result, err = link.Exchange(ctx, r.Command)
		}
	case admin:
		if link, ok := a.device.(device.NVMe); ok {
			out.Completion, err = link.Admin(ctx, r.Admin)
		}
	case stream:
		news := newPostbox(func(all []told) { _ = a.send(reply{ID: r.ID, Told: all}) })
		defer news.close()
		told := func(read surface.Read, o surface.Outcome) {
			f.flying--
			news.post(told{read.Number, o})
		}
		switch blocks, ok := a.device.(device.Blocks); {
		case r.Fill != nil && a.exclusive != nil:
			err = a.exclusive.Fill(ctx, *r.Fill, r.How, f.next, told)
		case a.exclusive != nil:
			err = a.exclusive.Stream(ctx, r.How, f.next, told)
		case ok:
			err = blocks.Stream(ctx, r.How, f.next, told)
		}
	case mend:
		if a.exclusive != nil {
			out.Outcome, err = a.exclusive.Mend(ctx, r.Extent)
		}
	case save:
		if a.exclusive != nil {
			out.Outcome, err = a.exclusive.Save(ctx, r.Extent, r.File)
		}
	case restore:
		if a.exclusive != nil {
			out.Outcome, err = a.exclusive.Restore(ctx, r.Extent, r.File)
		}
	case peek:
		if p, ok := a.device.(device.Peeker); ok {
			out.Bytes, err = p.Peek(ctx, r.Extent)
		}
	case open, places, last, cancel: // taken care of
	}
	out.Failure = failureOf(err)
	return out
}

// postbox sends what is posted, in its order and without holding up who posts: all that came meanwhile goes together, so that a
// fast drive takes few messages.
type postbox struct {
	mu    sync.Mutex
	some  *sync.Cond
	all   []told
	over  bool
	ended chan struct{}
}

func newPostbox(send func([]told)) *postbox {
	b := &postbox{ended: make(chan struct{})}
	b.some = sync.NewCond(&b.mu)
	go func() {
		defer close(b.ended)
		for {
			b.mu.Lock()
			for len(b.all) == 0 && !b.over {
				b.some.Wait()
			}
			all := b.all
			b.all = nil
			b.mu.Unlock()
			if len(all) == 0 {
				return
			}
			send(all)
		}
	}()
	return b
}

func (b *postbox) post(t told) {
	b.mu.Lock()
	b.all = append(b.all, t)
	b.mu.Unlock()
	b.some.Signal()
}

// close sends what is left and comes back when it is sent.
func (b *postbox) close() {
	b.mu.Lock()
	b.over = true
	b.mu.Unlock()
	b.some.Signal()
	<-b.ended
}

// feed is the reads of a stream, as they come in.
type feed struct {
	more   chan []surface.Read // closed when there are no more
	done   <-chan struct{}
	cancel context.CancelFunc
	queue  []surface.Read
	flying int
}

// next gives the next read. It waits for one only while none is in flight, since it is asked again after each that ends.
func (f *feed) next() (surface.Read, bool) {
	for len(f.queue) == 0 {
		if f.flying > 0 {
			select {
			case more := <-f.more:
				if more == nil {
					return surface.Read{}, false
				}
				f.queue = more
			default:
				return surface.Read{}, false
			}
			continue
		}
		select {
		case more := <-f.more:
			if more == nil {
				return surface.Read{}, false
			}
			f.queue = more
		case <-f.done:
			return surface.Read{}, false
		}
	}
	r := f.queue[0]
	f.queue = f.queue[1:]
	f.flying++
	return r, true
}
