package surface

import "bytes"

var blank [64 << 10]byte

// Zeros counts the sectors in data, each of so many bytes, that hold nothing but zeros.
func Zeros(data []byte, logical uint32) (sectors uint64) {
	size := int(logical)
	for len(data) >= size && size > 0 {
		if whole := min(len(data), len(blank)) / size * size; whole > size &&
			bytes.Equal(data[:whole], blank[:whole]) { // most often all, or none
			sectors, data = sectors+uint64(whole/size), data[whole:]
			continue
		}
		for end := min(len(data), len(blank)/size*size); end >= size; end -= size {
			if bytes.Equal(data[:size], blank[:size]) {
				sectors++
			}
			data = data[size:]
		}
	}
	return sectors
}
