package volume

import (
	"bytes"
	"errors"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What files hold in the images of this test, and what those held that were removed again, all over.
const (
	stays = "this lies in a file\n"
	went  = "this lay in a file.\n"
)

// filled makes files of several sizes in $D; gone removes some of them from an ext file system.
const (
	filled = "mkdir -p $D && for n in 1 2 3 4 5 6 7 8; do yes 'this lies in a file' | head -c $((n*n*9000)) >$D/stays$n; " +
		"yes 'this lay in a file.' | head -c $((n*7000)) >$D/went$n; done; "
	gone = " && for n in 1 2 3 4 5 6 7 8; do debugfs -w -R \"rm went$n\" $F; done"
)

// used are images with files in them; $F is the file, $D a folder.
var used = map[string]string{
	"use-ext4":     "truncate -s 300M $F && mke2fs -q -t ext4 -d $D $F" + gone,
	"use-ext2":     "truncate -s 40M $F && mke2fs -q -t ext2 -b 1024 -d $D $F" + gone,
	"use-metabg":   "truncate -s 300M $F && mke2fs -q -t ext4 -b 1024 -O meta_bg,^resize_inode,64bit -d $D $F" + gone,
	"use-bigalloc": "truncate -s 300M $F && rm $D/went* && mke2fs -q -t ext4 -O bigalloc -C 65536 -d $D $F",
	"use-fat12":    "truncate -s 3M $F && mkfs.fat -F 12 $F && mcopy -i $F $D/* :: && mdel -i $F '::went*'",
	"use-fat16":    "truncate -s 32M $F && mkfs.fat -F 16 $F && mcopy -i $F $D/* :: && mdel -i $F '::went*'",
	"use-fat32":    "truncate -s 300M $F && mkfs.fat -F 32 $F && mcopy -i $F $D/* :: && mdel -i $F '::went*'",
	"use-ntfs":     "truncate -s 64M $F && mkntfs -q -F $F && for f in $D/stays*; do ntfscp -q $F $f ${f##*/}; done",
	"use-exfat":    "truncate -s 64M $F && mkfs.exfat $F",
	"use-apfs":     "truncate -s 600M $F && mkapfs $F",
}

func (u Use) holds(at uint64) bool {
	for _, s := range u.All {
		if at >= s.Start && at < s.End() {
			return true
		}
	}
	return false
}

// Every sector with the content of a file is in use, none with that of a file that was removed, and little else.
func TestWhatFilesUse(t *testing.T) {
	for name := range used {
		t.Run(name, func(t *testing.T) {
			i := load(t, name)
			v := one(t, i)
			use, err := inUse(i.read, v, 0)
			require.NoError(t, err)
			var stay, sum uint64
			for at, b := range i.Places {
				switch {
				case bytes.Contains(b, []byte(stays)):
					stay += 512
					require.True(t, use.holds(at), "byte %d lies in a file", at)
				case bytes.Contains(b, []byte(went)):
					require.False(t, use.holds(at), "byte %d lay in a file", at)
				}
			}
			for n, s := range use.All {
				sum += s.Bytes
				require.True(t, s.Bytes > 0 && s.End() <= v.Start+v.Bytes)
				require.True(t, n == 0 || s.Start > use.All[n-1].End(), "sorted, and apart")
			}
			for _, s := range use.Structures {
				require.True(t, use.holds(s.Start) && use.holds(s.End()-1))
			}
			assert.Less(t, sum, stay+v.Bytes/5, "what nobody uses is not among it")
		})
	}
}

// What cannot be read of what tells is taken for used, and nonsense harms nothing.
func TestWhatTellsOfUseMayBeDamaged(t *testing.T) {
	for name := range used {
		i := load(t, name)
		v := one(t, i)
		whole, err := inUse(i.read, v, 0)
		require.NoError(t, err)
		places := slices.Sorted(maps.Keys(i.Places))
		places = slices.DeleteFunc(places, func(at uint64) bool {
			return bytes.Contains(i.Places[at], []byte(stays)) || bytes.Contains(i.Places[at], []byte(went))
		})
		for n, at := range places {
			if n > 12 && n%(1+len(places)/12) > 0 { // the first ones, and some of the others
				continue
			}
			b := i.Places[at]
			lost := func(offset uint64, length int) ([]byte, error) {
				if offset <= at && at < offset+uint64(length) {
					return nil, errors.New("unreadable")
				}
				return i.read(offset, length)
			}
			if use, err := inUse(lost, v, 0); err == nil && v.Kind[0] != 'A' { // APFS then has an older checkpoint
				for _, s := range whole.All {
					assert.True(t, use.holds(s.Start) && use.holds(s.End()-1), "%s, byte %d is unreadable, %v used", name, at, s)
				}
			}
			noise := append([]byte(nil), b...)
			for k := range noise {
				noise[k] ^= byte(37*k + int(at>>9))
			}
			i.Places[at] = noise
			if use, err := inUse(i.read, v, 0); err == nil {
				for _, s := range use.All {
					assert.LessOrEqual(t, s.End(), v.Start+v.Bytes)
				}
			}
			i.Places[at] = b
		}
	}
}

// No tool here makes HFS Plus: its header and bitmap are written as Technical Note 1150 says, the bitmap in two extents.
func TestWhatHFSPlusUses(t *testing.T) {
	const block, blocks = 4096, 65536 // a bitmap of two blocks
	h := make([]byte, 512)
	copy(h, "H+")
	be.PutUint32(h[40:], block)
	be.PutUint32(h[44:], blocks)
	be.PutUint32(h[112+16:], 10) // the first half of the bitmap in block 10, the other in 20
	be.PutUint32(h[112+20:], 1)
	be.PutUint32(h[112+24:], 20)
	be.PutUint32(h[112+28:], 1)
	first, second := make([]byte, block), make([]byte, block)
	first[0] = 0b1000_0001 // blocks 0 and 7
	second[block-1] = 1    // the last
	i := image{block * blocks, map[uint64][]byte{1024: h, 10 * block: first, 20 * block: second}}
	v := Volume{Bytes: block * blocks, Kind: "HFS Plus"}
	use, err := inUse(i.read, v, 0)
	require.NoError(t, err)
	assert.Equal(t, []Span{
		{0, block}, {7 * block, block}, {10 * block, block}, {20 * block, block}, {(blocks - 1) * block, block},
	}, use.All)
	assert.Equal(t, []Span{{0, 2048}, {10 * block, block}, {20 * block, block}, {blocks*block - 1024, 1024}}, use.Structures)
	_, err = inUse(i.read, Volume{Bytes: block * blocks, Kind: "XFS"}, 0)
	assert.ErrorContains(t, err, "it is not known how XFS says what is in use")
}
