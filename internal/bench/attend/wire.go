// Package attend attends each opened drive in a process of its own: a thread that the kernel does not let go keeps its whole
// process's descriptors and cannot be killed, so it must be alone. Source stands before a machine's own source and opens
// drives in such processes; Attend is what runs inside one. A process that ends, for whatever reason, is to everybody above
// the same as a drive that left and came back. Start with Source.
package attend

import (
	"bufio"
	"context"
	"encoding/gob"
	"errors"
	"io"
	"sync"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
)

// kind is what is wanted of the process.
type kind uint8

const (
	open     kind = iota // Device, Exclusive, Files; the first request
	exchange             // Command
	admin                // Admin
	stream               // How, Fill
	places               // Reads, of the stream of that ID
	last                 // no more reads for the stream of that ID
	cancel               // the stream of that ID
	mend                 // Extent
	save                 // Extent, File
	restore              // Extent, File
	peek                 // Extent
)

// request goes to the process.
type request struct {
	ID        uint64
	Kind      kind
	Device    drive.Attachment
	Exclusive bool
	Files     []string // image files that stand for drives
	Command   device.Command
	Admin     device.AdminCommand
	How       device.Streaming
	Fill      *surface.Pattern
	Reads     []surface.Read
	Extent    surface.Extent
	File      string
}

// told is how one read of a stream ended.
type told struct {
	Number  uint64
	Outcome surface.Outcome
}

// reply comes back. A stream has some with Told, each of as many reads as ended meanwhile, and then one without.
type reply struct {
	ID         uint64
	Failure    *failure
	Abilities  abilities
	Result     device.Result
	Completion device.Completion
	Outcome    surface.Outcome
	Told       []told
	Bytes      []byte
}

// abilities are what an opened device can do.
type abilities struct {
	SCSI, NVMe, Blocks bool
	Limits             device.Limits
}

// failure is an error on its way between the processes.
type failure struct {
	Refused bool
	Unkept  *device.Unkept
	Class   drive.FaultClass
	What    string
	Cause   string
}

func failureOf(err error) *failure {
	if err == nil {
		return nil
	}
	if failed, ok := errors.AsType[*device.Failed](err); ok {
		return &failure{Class: failed.Class, What: failed.What, Cause: failed.Cause}
	}
	if unkept, ok := errors.AsType[*device.Unkept](err); ok {
		return &failure{Unkept: unkept}
	}
	if refused, ok := errors.AsType[*device.Refused](err); ok {
		return &failure{Refused: true, What: refused.What, Cause: refused.Reason}
	}
	if errors.Is(err, context.Canceled) {
		return &failure{Class: drive.FaultNoAnswer, What: "the command", Cause: "it was called off"}
	}
	return &failure{Class: drive.FaultNoAnswer, What: "the command", Cause: err.Error()}
}

func (f *failure) err() error {
	switch {
	case f == nil:
		return nil
	case f.Unkept != nil:
		return f.Unkept
	case f.Refused:
		return &device.Refused{What: f.What, Reason: f.Cause}
	}
	return &device.Failed{Class: f.Class, What: f.What, Cause: f.Cause}
}

// line is one end of the socket between the two processes.
type line struct {
	mu     sync.Mutex
	out    *bufio.Writer
	encode *gob.Encoder
	decode *gob.Decoder
	end    io.Closer
}

func newLine(c io.ReadWriteCloser) *line {
	out := bufio.NewWriter(c)
	return &line{out: out, encode: gob.NewEncoder(out), decode: gob.NewDecoder(bufio.NewReader(c)), end: c}
}

// send writes one value.
func (l *line) send(v any) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.encode.Encode(v); err != nil {
		return err
	}
	return l.out.Flush()
}
