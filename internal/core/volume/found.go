package volume

// Piece is bytes as they lie on a drive, or why they could not be read.
type Piece struct {
	Offset uint64 `json:"offset"`
	Length int    `json:"length"`
	Bytes  []byte `json:"bytes,omitempty"` // trailing zeros are left out
	Fault  string `json:"fault,omitempty"`
}

// CheckResult is what a checker of a file system found.
type CheckResult string

// The results.
const (
	FoundClean   CheckResult = "clean"
	FoundDamaged CheckResult = "damaged"
	NotChecked   CheckResult = "not checked" // no such program here, mounted, or it could not
)

// Check is what the system's own checker of a file system said, in its mode that changes nothing.
type Check struct {
	Partition int         `json:"partition"`
	Program   string      `json:"program,omitempty"`
	Result    CheckResult `json:"result"`
	Said      string      `json:"said"` // the end of what it printed, or why it did not run
}
