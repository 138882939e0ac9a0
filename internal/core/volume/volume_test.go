package volume

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/vector"
)

var remake = flag.Bool("images", false, "make the images of testdata anew, with the systems' own tools")

// image is what Look read of a drive that the systems' own tools made: the places that are not all zeros.
type image struct {
	Bytes  uint64
	Places map[uint64][]byte
}

func (i image) read(offset uint64, length int) ([]byte, error) {
	if offset+uint64(length) > i.Bytes {
		return nil, errors.New("beyond the end")
	}
	out := make([]byte, length)
	for at, b := range i.Places {
		if at >= offset {
			if skip := at - offset; skip < uint64(length) {
				copy(out[skip:], b)
			}
		} else if skip := offset - at; skip < uint64(len(b)) {
			copy(out, b[skip:])
		}
	}
	return out, nil
}

// made are the images and how each is made; $F is the file.
var made = map[string]string{
	"ext4":      "truncate -s 64M $F && mke2fs -q -t ext4 -L tides -U 3f1b2c4d-0000-4000-8000-0123456789ab $F",
	"ext4-open": "truncate -s 64M $F && mke2fs -q -t ext4 -L tides $F && debugfs -w -R 'feature needs_recovery' $F",
	"ext4-error": "truncate -s 64M $F && mke2fs -q -t ext4 -L tides $F && debugfs -w -R 'set_super_value state 2' $F && debugfs " +
		"-w -R 'set_super_value error_count 7' $F",
	"ext2":  "truncate -s 8M $F && mke2fs -q -t ext2 $F",
	"ext3":  "truncate -s 16M $F && mke2fs -q -t ext3 $F",
	"xfs":   "truncate -s 320M $F && mkfs.xfs -q -L gauge $F",
	"btrfs": "truncate -s 160M $F && mkfs.btrfs -q -L marsh $F",
	"fat16": "truncate -s 32M $F && mkfs.fat -F 16 -n PUPPETS $F",
	"fat32": "truncate -s 64M $F && mkfs.fat -F 32 -n PUPPETS $F",
	"fat12": "truncate -s 1440K $F && mkfs.fat -F 12 $F",
	"exfat": "truncate -s 64M $F && mkfs.exfat $F",
	"ntfs":  "truncate -s 64M $F && mkntfs -q -F -L Ledger $F",
	"f2fs":  "truncate -s 128M $F && mkfs.f2fs -q -l kelp $F",
	"swap":  "truncate -s 8M $F && mkswap -L spare $F",
	"luks": "truncate -s 32M $F && echo rope | cryptsetup luksFormat -q --label vault --pbkdf pbkdf2 " +
		"--pbkdf-force-iterations 1000 $F -",
	"apfs": "truncate -s 600M $F && mkapfs -L Slipway $F",
	"lvm":  "truncate -s 32M $F && losetup /dev/loop7 $F && pvcreate -ff -y /dev/loop7 && losetup -d /dev/loop7",
	"gpt": "truncate -s 200M $F && sgdisk -n 1:2048:+32M -t 1:ef00 -c 1:boot -n 2:0:+100M -t 2:8300 -c 2:tides $F && " +
		"truncate -s 100M $F.2 && mke2fs -q -t ext4 -L tides $F.2 && dd if=$F.2 of=$F bs=512 seek=67584 conv=notrunc status=none",
	"mbr": "truncate -s 200M $F && printf '2048,32M,c\\n,,5\\n,16M,83\\n,16M,82\\n' | sfdisk -q $F && truncate -s 32M $F.1 " +
		"&& mkfs.fat -F 32 -n BOOT $F.1 && dd if=$F.1 of=$F bs=512 seek=2048 conv=notrunc status=none",
}

func load(t *testing.T, name string) image {
	t.Helper()
	file := filepath.Join("testdata", name+".json.gz")
	if *remake {
		make1(t, name, file)
	}
	f, err := os.Open(file)
	require.NoError(t, err, "make it with -images")
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	var i image
	require.NoError(t, json.NewDecoder(z).Decode(&i))
	return i
}

func make1(t *testing.T, name, file string) {
	t.Helper()
	raw := filepath.Join(t.TempDir(), "image")
	how := made[name]
	if with, ok := used[name]; ok {
		how = filled + with
	}
	cmd := exec.Command("sh", "-ec", how)
	cmd.Env = append(os.Environ(), "F="+raw, "D="+raw+".files", "PATH="+os.Getenv("PATH")+":/sbin:/usr/sbin")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	f, err := os.Open(raw)
	require.NoError(t, err)
	defer f.Close()
	stat, err := f.Stat()
	require.NoError(t, err)
	i := image{Bytes: uint64(stat.Size()), Places: map[uint64][]byte{}}
	record := func(offset uint64, length int) ([]byte, error) {
		b := make([]byte, length)
		n, err := f.ReadAt(b, int64(offset))
		for at := 0; at < n; at += 512 { // keep what is there
			if part := b[at:min(at+512, n)]; strings.Trim(string(part), "\x00") != "" {
				i.Places[offset+uint64(at)] = part
			}
		}
		if n < length {
			return b[:n], err
		}
		return b, nil
	}
	Look(record, i.Bytes, 512)
	if _, ok := used[name]; ok { // all of it
		for at := uint64(0); at < i.Bytes; at += 1 << 20 {
			_, _ = record(at, int(min(1<<20, i.Bytes-at)))
		}
	}
	Look(func(offset uint64, length int) ([]byte, error) { // what is asked for where the first header is gone
		if offset == 512 {
			return nil, errors.New("gone")
		}
		return record(offset, length)
	}, i.Bytes, 512)
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	require.NoError(t, json.NewEncoder(z).Encode(i))
	require.NoError(t, z.Close())
	require.NoError(t, os.MkdirAll("testdata", 0o755))
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
}

func one(t *testing.T, i image) Volume {
	t.Helper()
	l := Look(i.read, i.Bytes, 512)
	require.Len(t, l.Volumes, 1)
	return l.Volumes[0]
}

// Everything here was made by the systems' own tools.
func TestFileSystemsTheSystemsMade(t *testing.T) {
	for name, want := range map[string]Volume{
		"ext4":       {Kind: "ext4", Label: "tides", Size: 64 << 20, State: Clean, UUID: "3f1b2c4d-0000-4000-8000-0123456789ab"},
		"ext4-open":  {Kind: "ext4", Label: "tides", Size: 64 << 20, State: Open},
		"ext4-error": {Kind: "ext4", Label: "tides", Size: 64 << 20, State: Damaged, Why: "it notes 7 errors of its own"},
		"ext2":       {Kind: "ext2", Size: 8 << 20, State: Clean},
		"ext3":       {Kind: "ext3", Size: 16 << 20, State: Clean},
		"xfs":        {Kind: "XFS", Label: "gauge", Size: 320 << 20, State: Unsaid},
		"btrfs":      {Kind: "btrfs", Label: "marsh", Size: 160 << 20, State: Clean},
		"fat12":      {Kind: "FAT12", Size: 1440 << 10, State: Unsaid},
		"fat16":      {Kind: "FAT16", Label: "PUPPETS", Size: 32 << 20, State: Clean},
		"fat32":      {Kind: "FAT32", Label: "PUPPETS", Size: 64 << 20, State: Clean},
		"exfat":      {Kind: "exFAT", Size: 64 << 20, State: Clean},
		"ntfs":       {Kind: "NTFS", Label: "Ledger", Size: 64<<20 - 512, State: Clean},
		"f2fs":       {Kind: "F2FS", Label: "kelp", Size: 128 << 20, State: Unsaid},
		"swap":       {Kind: "swap", Label: "spare", State: Unsaid},
		"luks":       {Kind: "LUKS 2, encrypted", Label: "vault", State: Unsaid},
		"apfs":       {Kind: "APFS", Size: 600 << 20, State: Unsaid},
		"lvm":        {Kind: "LVM2 physical volume", State: Unsaid},
	} {
		t.Run(name, func(t *testing.T) {
			v := one(t, load(t, name))
			assert.Equal(t, want.Kind, v.Kind)
			assert.Equal(t, want.Label, v.Label)
			assert.Equal(t, want.State, v.State, v.Why)
			assert.Equal(t, want.Size, v.Size)
			if want.UUID != "" {
				assert.Equal(t, want.UUID, v.UUID)
			}
			if want.Why != "" {
				assert.Equal(t, want.Why, v.Why)
			}
		})
	}
	assert.Empty(t, Look(image{8 << 20, nil}.read, 8<<20, 512), "an empty drive has no file system, and no table")
}

// No tool here makes these: their first sectors are written as their documents say.
func TestFileSystemsByTheirDocuments(t *testing.T) {
	hfsPlus := func(attributes uint32) []byte { // Technical Note 1150, volume header
		b := append([]byte("H+"), 0, 4)
		b = be.AppendUint32(b, attributes)
		b = append(b, make([]byte, 32)...) // lastMountedVersion to folderCount
		return be.AppendUint32(be.AppendUint32(b, 4096), 16_000)
	}
	for name, row := range map[string]struct {
		at    uint64
		bytes []byte
		want  Volume
	}{
		"HFS Plus, unmounted":    {1024, hfsPlus(1 << 8), Volume{Kind: "HFS Plus", Size: 65_536_000, State: Clean}},
		"HFS Plus, in use":       {1024, hfsPlus(0), Volume{Kind: "HFS Plus", Size: 65_536_000, State: Open}},
		"HFS Plus, inconsistent": {1024, hfsPlus(1<<11 | 1<<8), Volume{Kind: "HFS Plus", Size: 65_536_000, State: Damaged}},
		"BitLocker":              {0, []byte("\xeb\x58\x90-FVE-FS-"), Volume{Kind: "BitLocker, encrypted", State: Unsaid}},
		"a Linux array, 1.2": {
			4096, append([]byte{0xfc, 0x4e, 0x2b, 0xa9, 1, 0, 0, 0}, append(make([]byte, 24), "vm:7"...)...),
			Volume{Kind: "Linux RAID member", Label: "vm:7", State: Unsaid},
		},
		"a Linux array, unlikely": {4096, []byte{0xfc, 0x4e, 0x2b, 0xa9, 9}, Volume{}},
	} {
		l := Look(image{64 << 20, map[uint64][]byte{row.at: row.bytes}}.read, 64<<20, 512)
		if row.want.Kind == "" {
			assert.Empty(t, l.Volumes, name)
			continue
		}
		require.Len(t, l.Volumes, 1, name)
		v := l.Volumes[0]
		assert.Equal(t, row.want, Volume{Kind: v.Kind, Label: v.Label, Size: v.Size, State: v.State}, name)
	}
}

func TestPartitionTables(t *testing.T) {
	g := load(t, "gpt")
	l := Look(g.read, g.Bytes, 512)
	assert.Equal(t, "GPT", l.Scheme)
	assert.Empty(t, l.Faults)
	require.Len(t, l.Volumes, 2)
	assert.Equal(
		t, Volume{Partition: 1, Type: "EFI system", Label: "boot", Start: 2048 * 512, Bytes: 32 << 20, State: Unsaid},
		l.Volumes[0],
	)
	assert.Equal(t, "ext4", l.Volumes[1].Kind)
	assert.Equal(t, "tides", l.Volumes[1].Label)

	delete(g.Places, 512) // the first header is gone
	l = Look(g.read, g.Bytes, 512)
	require.Len(t, l.Volumes, 2, "the backup is read")
	require.Len(t, l.Faults, 1)
	assert.True(t, l.Damaged())
	delete(g.Places, g.Bytes-512)
	l = Look(g.read, g.Bytes, 512)
	assert.Empty(t, l.Volumes)
	assert.NotEmpty(t, l.Faults)

	m := load(t, "mbr")
	l = Look(m.read, m.Bytes, 512)
	assert.Equal(t, "MBR", l.Scheme)
	assert.Empty(t, l.Faults)
	var kinds []string
	for _, v := range l.Volumes {
		kinds = append(kinds, fmt.Sprint(v.Partition, " ", v.Type, " ", v.Kind))
	}
	assert.Equal(t, []string{"1 FAT32 FAT32", "5 Linux ", "6 Linux swap "}, kinds)
}

func TestDamageIsFound(t *testing.T) {
	b := load(t, "btrfs")
	flip := func(i image, at uint64) image {
		whole, err := i.read(at&^511, 512)
		require.NoError(t, err)
		whole[at%512] ^= 0x5A
		i.Places[at&^511] = whole
		return i
	}
	assert.Equal(t, Damaged, one(t, flip(b, 64<<10+0x80)).State, "the checksum of its superblock is wrong")
	n := load(t, "ntfs")
	for at, p := range n.Places {
		if is(p, 0, "FILE") && at > 4<<12 && at < 4<<12+4096 { // tear $Volume
			n = flip(n, at+510)
		}
	}
	assert.Equal(t, Damaged, one(t, n).State)
	f := flip(load(t, "fat32"), 32*512+7) // the bits of its second entry
	f.Places[32*512][7] = 0x03
	assert.Equal(t, Damaged, one(t, f).State, "it notes a failure")
	f.Places[32*512][7] = 0x07
	assert.Equal(t, Open, one(t, f).State)

	e := load(t, "ext4")
	small := image{32 << 20, e.Places}
	l := Look(small.read, small.Bytes, 512)
	require.Len(t, l.Volumes, 1)
	assert.Equal(t, "ext4", l.Volumes[0].Kind)
	unread := func(uint64, int) ([]byte, error) { return nil, errors.New("damaged") }
	assert.True(t, Look(unread, 1<<30, 512).Damaged())
}

func TestNamesOfStrangersAreHarmless(t *testing.T) {
	assert.Equal(t, "a?[2Jb", name([]byte("a\x1b[2Jb\x00rest")))
	assert.Equal(t, "Tides?", name16([]byte{'T', 0, 'i', 0, 'd', 0, 'e', 0, 's', 0, 7, 0, 0, 0, 'x', 0}))
}

func FuzzLook(f *testing.F) {
	for name := range made {
		file, err := os.ReadFile(filepath.Join("testdata", name+".json.gz"))
		if err != nil {
			continue
		}
		z, err := gzip.NewReader(bytes.NewReader(file))
		if err != nil {
			continue
		}
		var i image
		if json.NewDecoder(z).Decode(&i) == nil {
			b, _ := i.read(0, 4608)
			f.Add(b)
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		reads := 0
		l := Look(func(offset uint64, length int) ([]byte, error) {
			if reads++; reads > 2000 || length > 1<<20 {
				t.Fatalf("read %d of %d bytes", reads, length)
			}
			out := make([]byte, length) // a small input stands for a large drive: it repeats
			for i := range out {
				if len(b) > 0 {
					out[i] = b[(offset+uint64(i))%uint64(len(b))]
				}
			}
			return out, nil
		}, 1<<30, 512)
		if len(l.Volumes) > most {
			t.Fatalf("%d volumes", len(l.Volumes))
		}
		for _, v := range l.Volumes {
			if v.State == "" {
				t.Fatalf("%+v has no state", v)
			}
		}
	})
}

// What is found on every image, and what remains of it when one of its sectors is lost or a bit of it is wrong: testdata/found.txt.
func TestWhatIsFoundAndWhatRemainsOfIt(t *testing.T) {
	b := vector.Open(t, "found.txt")
	for _, name := range slices.Sorted(maps.Keys(made)) {
		i := load(t, name)
		b.Head(name)
		whole := vector.Say(Look(i.read, i.Bytes, 512))
		b.Line("%s", whole)
		for _, at := range slices.Sorted(maps.Keys(i.Places))[:min(len(i.Places), 24)] {
			place := i.Places[at]
			for _, way := range []struct {
				name string
				make func([]byte) []byte
			}{
				{"unreadable", nil},
				{"empty", func(b []byte) []byte { return make([]byte, len(b)) }},
				{"wrong at 17", func(b []byte) []byte { b[17] ^= 0x10; return b }},
				{"wrong at 90", func(b []byte) []byte { b[90] ^= 0x01; return b }},
				{"full of ones", func(b []byte) []byte { return bytes.Repeat([]byte{0xFF}, len(b)) }},
			} {
				var read Reader
				if way.make == nil {
					read = func(offset uint64, length int) ([]byte, error) {
						if offset < at+512 && at < offset+uint64(length) {
							return nil, errors.New("cannot be read")
						}
						return i.read(offset, length)
					}
				} else {
					damaged := image{i.Bytes, maps.Clone(i.Places)}
					damaged.Places[at] = way.make(slices.Clone(place))
					read = damaged.read
				}
				if left := vector.Say(Look(read, i.Bytes, 512)); left != whole {
					b.Line("sector %d %s: %s", at/512, way.name, left)
				}
			}
		}
	}
	b.Close()
}

func TestABootSectorIsFATOnlyWhenEverythingInItFits(t *testing.T) {
	kind := func(name string, change func(b []byte)) string {
		i := load(t, name)
		first := slices.Clone(i.Places[0])
		change(first)
		i.Places = maps.Clone(i.Places)
		i.Places[0] = first
		if l := Look(i.read, i.Bytes, 512); len(l.Volumes) > 0 {
			return l.Volumes[0].Kind
		}
		return ""
	}
	assert.Equal(t, "FAT16", kind("fat16", func([]byte) {}))
	assert.Equal(t, "FAT16", kind("fat16", func(b []byte) { b[0] = 0xE9 }), "either jump")
	for name, change := range map[string]func(b []byte){
		"no jump":                     func(b []byte) { b[0] = 0xEA },
		"no signature":                func(b []byte) { b[510] = 0 },
		"half a signature":            func(b []byte) { b[511] = 0 },
		"no cluster":                  func(b []byte) { b[13] = 0 },
		"a cluster of three":          func(b []byte) { b[13] = 3 },
		"nothing reserved":            func(b []byte) { b[14], b[15] = 0, 0 },
		"no tables":                   func(b []byte) { b[16] = 0 },
		"sectors of 513":              func(b []byte) { b[11] = 1 },
		"more tables than the volume": func(b []byte) { b[16] = 255; b[22], b[23] = 0xFF, 0xFF },
	} {
		assert.NotContains(t, kind("fat16", change), "FAT", name)
	}
	for _, sector := range []byte{4, 8, 16} { // of 256 bytes
		assert.Contains(t, kind("fat16", func(b []byte) { b[11], b[12] = 0, sector }), "FAT")
	}
}

func TestWhatIsNoDriveHoldsNothing(t *testing.T) {
	nothing := func(uint64, int) ([]byte, error) { return make([]byte, 1<<17), nil }
	for _, row := range []struct {
		bytes  uint64
		sector uint32
		drive  bool
	}{{2048, 512, true}, {2047, 512, false}, {1 << 20, 511, false}, {1 << 18, 1 << 16, true}, {1 << 19, 1<<16 + 1, false}} {
		l := Look(func(_ uint64, n int) ([]byte, error) { b, err := nothing(0, n); return b[:n], err }, row.bytes, row.sector)
		assert.Equal(t, row.drive, len(l.Faults) == 0, "%+v: %v", row, l.Faults)
	}
	array := append([]byte{0xfc, 0x4e, 0x2b, 0xa9, 1, 0, 0, 0}, make([]byte, 24)...)
	copy(array[16:], "\x3f\x1b\x2c\x4d\x00\x00\x40\x00\x80\x00\x01\x23\x45\x67\x89\xab")
	l := Look(image{64 << 20, map[uint64][]byte{0: append(array, "vm:7"...)}}.read, 64<<20, 512)
	require.Len(t, l.Volumes, 1)
	assert.Equal(t, [2]string{"3f1b2c4d-0000-4000-8000-0123456789ab", "vm:7"}, [2]string{l.Volumes[0].UUID, l.Volumes[0].Label})
}

// What each byte of a superblock says: of every byte that the systems' own tools wrote, what is told when it is another one. Bytes in a
// row of which the same is told stand together. testdata/bytes.txt.
func TestWhichBytesSayWhat(t *testing.T) {
	t.Parallel()
	b := vector.Open(t, "bytes.txt")
	for _, name := range slices.Sorted(maps.Keys(made)) {
		i := load(t, name)
		seal, tries := seals[name], 2 // the sums take their time
		if seal == nil {
			seal, tries = func(image) {}, 3
		}
		base := Look(i.read, i.Bytes, 512)
		b.Head(name)
		b.Line("%s", vector.Say(base))
		for _, at := range slices.Sorted(maps.Keys(i.Places)) {
			place := i.Places[at]
			from, was := 0, ""
			end := func(n int) {
				if was != "" {
					b.Line("%d+%d to %d: %s", at, from, n-1, was)
				}
			}
			for n, kept := range place {
				var says []string
				for _, other := range []byte{0, kept + 1, kept - 1}[:tries] {
					if other != kept {
						place[n] = other
						seal(i)
						says = append(says, differs(base, Look(i.read, i.Bytes, 512)))
					}
				}
				place[n] = kept
				seal(i)
				is := strings.Join(says, "; ")
				if strings.Trim(is, "-; ") == "" {
					is = ""
				}
				if is != was {
					end(n)
					from, was = n, is
				}
			}
			end(len(place))
		}
	}
	b.Close()
}

// seals make checksums right again, so that it shows what the bytes say that they guard.
var seals = map[string]func(i image){
	"btrfs": func(i image) {
		if s, err := i.read(64<<10, 4096); err == nil {
			le.PutUint32(i.Places[64<<10], crc32.Checksum(s[0x20:], castagnoli))
		}
	},
	"gpt": func(i image) {
		header := i.Places[512]
		entries, err := i.read(le.Uint64(header[72:])*512, int(min(le.Uint32(header[80:])*le.Uint32(header[84:]), 1<<16)))
		if err != nil {
			return
		}
		le.PutUint32(header[88:], crc32.ChecksumIEEE(entries))
		le.PutUint32(header[16:], 0)
		le.PutUint32(header[16:], crc32.ChecksumIEEE(header[:min(le.Uint32(header[12:]), 512)]))
	},
}

// differs names what a second look told otherwise: of states what they are, of the rest a sum that tells one from the other.
func differs(f, g Layout) string {
	if reflect.DeepEqual(f, g) {
		return "-"
	}
	sum := fmt.Sprintf("%04x", crc32.ChecksumIEEE([]byte(vector.Say(g)))&0xFFFF)
	if len(f.Volumes) != len(g.Volumes) {
		return fmt.Sprintf("%d volumes %s", len(g.Volumes), sum)
	}
	for n, v := range f.Volumes {
		switch w := g.Volumes[n]; {
		case v.Kind != w.Kind:
			return fmt.Sprintf("%q %s", w.Kind, sum)
		case v.State != w.State || v.Why != w.Why:
			return fmt.Sprintf("%v, %s", w.State, w.Why)
		}
	}
	return sum
}

// Sizes at their edges: what is just large enough is read, what is too small is nothing.
func TestTheEdgesOfWhatIsRead(t *testing.T) {
	t.Parallel()
	for _, bytes := range []uint64{0, 512, 4096, 60 << 10, 69<<10 - 1, 69 << 10} {
		assert.Empty(t, Look(image{bytes, nil}.read, bytes, 512).Volumes, "%d bytes of nothing", bytes)
	}
	b := load(t, "btrfs")
	for bytes, want := range map[uint64]int{69<<10 - 512: 0, 69 << 10: 1} {
		assert.Len(t, Look(image{bytes, b.Places}.read, bytes, 512).Volumes, want, "%d bytes", bytes)
	}

	// A file record of NTFS is told in clusters where they are small, else as a power of two.
	n := load(t, "ntfs")
	boot := n.Places[0]
	table := le.Uint64(boot[48:]) * uint64(boot[13]) * 512
	record, err := n.read(table+3*1024, 1024)
	require.NoError(t, err)
	for name, row := range map[string]struct {
		told byte
		size uint64
	}{
		"one cluster": {1, 4096}, "two clusters": {2, 8192}, "512 bytes": {0xF7, 512}, "1 024 bytes": {0xF6, 1024},
		"16 384 bytes": {0xF2, 16384}, "nothing": {0, 1024}, "too much": {0xF1, 1024}, "too little": {0xF8, 1024},
	} {
		i := image{n.Bytes, map[uint64][]byte{0: slices.Clone(boot)}}
		i.Places[0][64] = row.told
		whole := make([]byte, row.size)
		copy(whole, record)
		count := uint16(row.size/512) + 1 // the number that stands at the end of each sector, and what stood there
		le.PutUint16(whole[6:], count)
		at := int(le.Uint16(whole[4:]))
		if room := int(le.Uint16(whole[20:])); at+2*int(count) > room { // no room for so many: its attributes move down
			attributes := slices.Clone(whole[room : 1024-64])
			moved := (at + 2*int(count) + 7) &^ 7
			clear(whole[room:])
			copy(whole[moved:], attributes)
			le.PutUint16(whole[20:], uint16(moved))
		}
		for sector := range int(count) - 1 {
			copy(whole[at+2+2*sector:], whole[510+512*sector:512+512*sector])
			copy(whole[510+512*sector:], whole[at:at+2])
		}
		i.Places[table+3*row.size] = whole
		v := one(t, i)
		assert.Equal(t, "Ledger", v.Label, "%s: %s", name, v.Why)
		assert.Equal(t, Clean, v.State, name)
	}

	// A partition of one sector is one; one that ends before it begins is none.
	g := load(t, "gpt")
	entry := g.Places[1024]
	for last, want := range map[uint64]int{2047: 1, 2048: 2} {
		le.PutUint64(entry[40:], last)
		seals["gpt"](g)
		assert.Len(t, Look(g.read, g.Bytes, 512).Volumes, want, "to sector %d", last)
	}
	// The rest of an old GPT at the end does not stand against the MBR that came after it.
	g = load(t, "gpt")
	delete(g.Places, 512)
	assert.Equal(t, "GPT", Look(g.read, g.Bytes, 512).Scheme, "it is promised")
	g.Places[0][446+4] = 0x83
	assert.NotEqual(t, "GPT", Look(g.read, g.Bytes, 512).Scheme)
}
