package check

import (
	"time"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/surface"
	"hylostat.example/internal/core/wording"
)

// Standing is how a sweep stands: small enough to travel with every word of its run.
type Standing struct {
	Geometry   surface.Geometry `json:"geometry"`
	Sample     *surface.Sample  `json:"sample,omitempty"` // of a spot sweep
	Share      float64          `json:"share"`            // settled, 0 to 1
	LBA        uint64           `json:"lba"`              // where the pass stands
	Closer     bool             `json:"closer,omitempty"` // a place that failed is looked at more closely
	Unreadable uint64           `json:"unreadable"`       // physical sectors
	Other      uint64           `json:"other"`            // ranges that failed for another reason, or were not narrowed
	Slow       uint64           `json:"slow"`             // places slow once
	Confirmed  uint64           `json:"confirmed"`        // of them, slow twice
	Speed      float64          `json:"speed"`            // bytes per second, of late
	Left       time.Duration    `json:"left"`             // 0: not known, or none
	Celsius    *int             `json:"celsius,omitempty"`
	Hottest    *int             `json:"hottest,omitempty"`
	HotAt      int              `json:"hot_at"`         // °C at which it pauses
	Early      wording.Phrase   `json:"early,omitzero"` // why it ended before its end
	Lost       uint64           `json:"lost,omitempty"` // physical sectors that do not hold what was written to them

	// Beyond is how many bytes the drive says it has beyond those this machine sees: no sweep here reads the whole of it.
	Beyond uint64 `json:"beyond,omitempty"`

	Held      *float64           `json:"held,omitempty"`      // share of what was read that held anything but zeros; nil: nobody looked
	Elsewhere *surface.Elsewhere `json:"elsewhere,omitempty"` // the first of them that holds what was written elsewhere
	Written   *Written           `json:"written,omitempty"`   // of a step that writes
	Copied    *Copied            `json:"copied,omitempty"`    // of a copy
}

// Copied is what a copy has, in sectors.
type Copied struct {
	Image      string `json:"image"`             // its file
	Pass       uint8  `json:"pass"`              // surface.Pass
	Sectors    uint64 `json:"sectors"`           // copied
	Skipped    uint64 `json:"skipped,omitempty"` // left for later, or failed and tried again
	Missing    uint64 `json:"missing,omitempty"` // given up
	Used       uint64 `json:"used,omitempty"`    // what file systems use; 0: not known
	UsedCopied uint64 `json:"used_copied,omitempty"`
}

// Written is what a step that writes did, in physical sectors.
type Written struct {
	Sectors  uint64 `json:"sectors"`  // written; one that is written twice counts twice
	Cleared  uint64 `json:"cleared"`  // could not be read, were written, and can be read now
	Readable uint64 `json:"readable"` // were to be mended, and could be read after all: nothing was written
	Restored uint64 `json:"restored"` // written once more from the copy kept of them, after an end in the middle
}

// Block is some cells of a ribbon, packed by surface.Ribbon.PackBlock.
type Block struct {
	Number int    `json:"number"`
	Cells  []byte `json:"cells"`
}

// Heat is a temperature during a sweep.
type Heat struct {
	At      time.Time `json:"at"`
	Share   float64   `json:"share"`
	Celsius int       `json:"celsius"`
}

// Sweep is a step of a run that goes over the surface, as it stands or as it ended. Run and Step name it.
type Sweep struct {
	Run      int64     `json:"run"`
	Step     int       `json:"step"`
	Kind     StepKind  `json:"kind"`
	Began    time.Time `json:"began"`
	Ended    time.Time `json:"ended"`
	Standing Standing  `json:"sweep"`
	Missed   uint64    `json:"missed,omitempty"` // ranges found beyond those that are kept
}

// ReadAll reports whether it read everything there is.
func (s *Sweep) ReadAll() bool {
	return s.Kind.ReadsAll() && s.Standing.Share >= 1 && s.Standing.Beyond == 0
}

// Found is what a sweep found, place by place.
type Found struct {
	Ranges []surface.Range `json:"ranges,omitempty"`
	Slow   []surface.Slow  `json:"slow,omitempty"`
	Blocks []Block         `json:"blocks,omitempty"` // those with anything in them
	Heat   []Heat          `json:"heat,omitempty"`
}

// Result is a sweep that ended, with everything it found.
type Result struct {
	Sweep
	Found
	Key drive.Key `json:"key"`
}
