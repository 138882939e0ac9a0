package surface

import (
	"math"
	"math/rand/v2"
	"slices"
)

// Sizes of a sample.
const (
	spotCount  = 1000
	spotsMost  = 200_000
	endsChunks = 32 // at both ends of the surface, read without gaps
	nearChunks = 1  // on both sides of a place the drive names
)

// Sample is a spot sweep's choice: where to read, and what a clean result means.
type Sample struct {
	Seed        uint64   `json:"seed"`
	Independent int      `json:"independent"`     // drawn at random, one from each stratum
	Named       []uint64 `json:"named,omitempty"` // LBAs the drive named whose neighbourhood is read
}

// Strata is how many spots a sample of a share of the surface has, in per cent: no more than the share allows; 0: the usual number.
func Strata(g Geometry, percent int) uint64 {
	if percent <= 0 {
		return min(spotCount, g.chunks())
	}
	return max(1, min(g.chunks()*uint64(percent)/100, spotsMost))
}

// Spots draws a stratified sample: one chunk at random from each of as many equal strata as there are spots, both ends of
// the surface, and the neighbourhood of every LBA the drive names. They come in the order of the surface and do not
// overlap; the same seed and number of strata give the same spots.
func Spots(g Geometry, seed uint64, near []uint64, strata uint64) ([]Extent, Sample) {
	r := rand.New(rand.NewPCG(seed, 0x73706f74)) //nolint:gosec // a sample is to be drawn again by its seed
	chunks := g.chunks()
	strata = min(strata, chunks)
	chosen := make([]uint64, 0, strata+2*endsChunks)
	for i := range strata {
		first, end := mulDiv(i, chunks, strata), mulDiv(i+1, chunks, strata)
		chosen = append(chosen, first+r.Uint64N(max(1, end-first)))
	}
	for i := range min(endsChunks, chunks) {
		chosen = append(chosen, i, chunks-1-i)
	}
	var named []uint64
	for _, lba := range near {
		if lba >= g.Sectors {
			continue
		}
		named = append(named, lba)
		c := g.chunkOf(lba)
		for n := max(c, nearChunks) - nearChunks; n <= min(c+nearChunks, chunks-1); n++ {
			chosen = append(chosen, n)
		}
	}
	slices.Sort(chosen)
	chosen = slices.Compact(chosen)
	all := make([]Extent, len(chosen))
	for i, n := range chosen {
		all[i] = g.chunk(n)
	}
	return all, Sample{Seed: seed, Independent: int(strata), Named: named}
}

// RulesOut is the share of the surface of which a clean sample says, with the confidence given, that no more is damaged, if
// the damage is scattered: n independent samples that all miss a share p have probability (1-p)^n.
func (s Sample) RulesOut(confidence float64) float64 {
	if s.Independent == 0 {
		return 1
	}
	return 1 - math.Pow(1-confidence, 1/float64(s.Independent))
}

// Misses is the probability that the sample misses one cluster of that many bytes anywhere on the surface.
func (s Sample) Misses(g Geometry, cluster uint64) float64 {
	stratum := float64(g.Bytes()) / float64(max(1, s.Independent))
	hit := (float64(cluster) + float64(g.Chunk)*float64(g.Logical)) / stratum
	return math.Max(0, 1-hit)
}
