package reading

import (
	"fmt"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/nvme"
	"hylostat.example/internal/core/scsi"
	"hylostat.example/internal/core/tcg"
)

// lock reads what the drive says of its own lock, the same on every interface.
func (r *Reading) lock(p Page) error {
	d, err := tcg.Decode(p.Bytes)
	if d.HasLocking {
		id := &r.Identity.Security
		id.Encrypting = d.Locking.Encrypts
		if d.Locking.Locked && !id.Locked {
			id.Locked, id.By = true, drive.LockEncryption
		}
	}
	if !r.explains {
		return err
	}
	s := r.sheet(p.Name)
	if len(d.Subsystems) > 0 {
		s.add("Kind", 48, len(p.Bytes)-48, strings.Join(d.Subsystems, ", "), "")
	}
	if !d.HasLocking {
		s.missing("Locking", 48, 0, "the drive offers none")
		return err
	}
	l := d.Locking
	s.yes("Locking", d.Offset, 1, l.Enabled, "switched on", "not in use")
	s.yes("Locked now", d.Offset, 1, l.Locked, "yes", "no")
	s.yes("Encrypts what it stores", d.Offset, 1, l.Encrypts, "always", "no")
	s.yes("Shadow boot record", d.Offset, 1, l.ShadowEnabled, "switched on", "not in use")
	return err
}

// elements reads how each head with its surface stands.
func (r *Reading) elements(p Page, littleEndian bool) error {
	e, err := scsi.DecodeElements(p.Bytes, littleEndian)
	if err != nil {
		return err
	}
	r.Elements = &e
	s := r.sheet(p.Name)
	s.add("Physical elements", 0, 4, e.Count, "")
	for _, x := range e.Elements {
		s.add(fmt.Sprintf("Element %d", x.ID), x.Offset+15, 1, x.Health, "")
	}
	return nil
}

// ranges lists the parts of the surface that can be read at the same time.
func (r *Reading) ranges(page PageName, all []scsi.Range) {
	s := r.sheet(page)
	for _, x := range all {
		s.add(fmt.Sprintf("Range %d", x.Number), x.Offset, 32, fmt.Sprintf("%d sectors from LBA %d", x.Count, x.First), "")
	}
}

func (r *Reading) scsiPending(p Page) error {
	d, err := scsi.DecodePending(p.Bytes)
	if err != nil {
		return err
	}
	r.SCSI.Pending = &d
	s := r.sheet(p.Name)
	s.add("Pending sectors", 8, 4, d.Count, "sectors")
	for _, x := range d.Defects {
		s.add(fmt.Sprintf("LBA %d", x.LBA), x.Offset, 12, fmt.Sprintf("pending, found at %d h", x.Hours), "")
	}
	return nil
}

func (r *Reading) environment(p Page) error {
	e, err := scsi.DecodeEnvironment(p.Bytes)
	if err != nil {
		return err
	}
	r.SCSI.Environment = &e
	s := r.sheet(p.Name)
	for i, x := range []struct {
		name string
		c    int8
	}{
		{"Temperature", e.Now},
		{"Highest ever", e.LifeHighest},
		{"Lowest ever", e.LifeLowest},
		{"Highest since power-on", e.Highest},
		{"Lowest since power-on", e.Lowest},
	} {
		s.celsius(x.name, e.Offset+1+i, 1, int(x.c), x.c != scsi.NoTemperature)
	}
	return nil
}

func (r *Reading) environmentLimits(p Page) error {
	e, err := scsi.DecodeEnvironmentLimits(p.Bytes)
	if err != nil {
		return err
	}
	s := r.sheet(p.Name)
	for _, x := range []struct {
		name string
		at   int
		c    int8
	}{
		{"Critical temperature, high", 0, e.HighCritical},
		{"Critical temperature, low", 3, e.LowCritical},
		{"Operating temperature, high", 4, e.HighOperating},
		{"Operating temperature, low", 7, e.LowOperating},
	} {
		s.celsius(x.name, e.Offset+x.at, 1, int(x.c), x.c != scsi.NoTemperature)
	}
	return nil
}

func (r *Reading) names(p Page) error {
	all, err := nvme.DecodeNames(p.Bytes)
	s := r.sheet(p.Name)
	for _, n := range all {
		s.add(n.KindName(), n.Offset, 4+len(n.Value), n.String(), "")
	}
	return err
}

func (r *Reading) endurance(p Page) error {
	e, err := nvme.DecodeEndurance(p.Bytes)
	if err != nil {
		return err
	}
	r.Endurance = append(r.Endurance, e)
	s := r.sheet(p.Name)
	warning := "none"
	if words := nvme.WarningWords(e.Warning); len(words) > 0 {
		warning = strings.Join(words, "; ")
	}
	s.add("Critical warning", 0, 1, warning, "")
	s.add("Available spare", 3, 1, e.Spare, "%")
	s.add("Available spare threshold", 4, 1, e.SpareThreshold, "%")
	s.add("Percentage used", 5, 1, e.Used, "%")
	if e.Estimate != (nvme.Counter{}) {
		s.add("Endurance estimate", 32, 16, e.Estimate, "x 1 000 000 000 B")
	}
	s.add("Data read", 48, 16, e.Read, "x 1 000 000 000 B")
	s.add("Data written", 64, 16, e.Written, "x 1 000 000 000 B")
	s.add("Written to the medium", 80, 16, e.MediaWritten, "x 1 000 000 000 B")
	s.add("Media and data integrity errors", 128, 16, e.MediaErrors, "")
	s.add("Error information log entries", 144, 16, e.ErrorEntries, "")
	return nil
}

func (r *Reading) sanitize(b []byte) error {
	x, err := nvme.DecodeSanitize(b)
	if err != nil {
		return err
	}
	s := r.sheet(PageSanitize)
	s.add("Last sanitize", 2, 2, x.StateName(), "")
	if state := x.State & 7; state == nvme.SanitizeRuns {
		s.add("Progress", 0, 2, int(x.Progress)*100/65536, "%")
	}
	if x.State&7 != nvme.SanitizeNever {
		s.add("Its action", 4, 4, x.Action, "")
	}
	return nil
}
