package sqlite

import (
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Compressor packs what is stored in bulk, as zstd frames (RFC 8878). Encoder and decoder are safe for concurrent use and expensive to
// make: a database has one of each, made when it is first wanted.
type Compressor struct {
	encoder func() *zstd.Encoder
	decoder func() *zstd.Decoder
}

// NewCompressor makes one.
func NewCompressor() *Compressor {
	return &Compressor{
		encoder: sync.OnceValue(func() *zstd.Encoder {
			e, err := zstd.NewWriter(
				nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<17),
				zstd.WithLowerEncoderMem(true),
			)
			if err != nil {
				panic("zstd: " + err.Error()) // only wrong options fail, and these are constants
			}
			return e
		}),
		decoder: sync.OnceValue(func() *zstd.Decoder {
			d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(16<<20))
			if err != nil {
				panic("zstd: " + err.Error())
			}
			return d
		}),
	}
}

// Compress gives the frame of some bytes.
func (c *Compressor) Compress(plain []byte) []byte { return c.encoder().EncodeAll(plain, nil) }

// Expand gives the bytes of a frame, 16 MiB at most.
func (c *Compressor) Expand(frame []byte) ([]byte, error) { return c.decoder().DecodeAll(frame, nil) }
