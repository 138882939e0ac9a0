package store

import (
	"sync"

	"github.com/klauspost/compress/zstd"
)

// compressor packs what is stored in bulk, as zstd frames. Encoder and decoder are safe for concurrent use and expensive to make: a
// store has one of each, made when it is first wanted.
type compressor struct {
	encoder func() *zstd.Encoder
	decoder func() *zstd.Decoder
}

func newCompressor() *compressor {
	return &compressor{
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

// compress gives the frame of some bytes.
func (c *compressor) compress(plain []byte) []byte { return c.encoder().EncodeAll(plain, nil) }

// expand gives the bytes of a frame, 16 MiB at most.
func (c *compressor) expand(frame []byte) ([]byte, error) { return c.decoder().DecodeAll(frame, nil) }
