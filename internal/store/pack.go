package store

import (
	"fmt"

	"github.com/klauspost/compress/zstd"
)

// Packed bytes begin with one that says how: 0 as they are, 1 zstd.
const (
	packPlain = 0
	packZstd  = 1
	packFrom  = 400 // shorter ones gain nothing
	unpackMax = 64 << 20
)

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(unpackMax), zstd.WithDecoderConcurrency(2))
)

func pack(b []byte) []byte {
	if b == nil {
		return nil
	}
	if len(b) < packFrom {
		return append([]byte{packPlain}, b...)
	}
	return encoder.EncodeAll(b, []byte{packZstd})
}

func unpack(b []byte) ([]byte, error) {
	if len(b) == 0 {
		return nil, nil
	}
	switch b[0] {
	case packPlain:
		return b[1:], nil
	case packZstd:
		return decoder.DecodeAll(b[1:], nil)
	}
	return nil, fmt.Errorf("a stored value is packed in a way (%d) that this version does not know", b[0])
}

// Pack and Unpack compress what is stored as one piece.
func Pack(b []byte) []byte { return pack(b) }

// Unpack undoes Pack.
func Unpack(b []byte) ([]byte, error) { return unpack(b) }
