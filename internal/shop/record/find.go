package record

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// meansBay reports whether a name that can be read as a bay's means one: a bare number of three digits and more is the ending of a
// serial, and so is what stands after a slash when no bench has that name.
func (s *Keeper) meansBay(name string, bay drive.Bay) bool {
	if bay.Bench != "" {
		return s.fleet.Has(bay.Bench)
	}
	return len(name) < 3 || strings.HasPrefix(strings.ToLower(name), "bay")
}

// FindDrive finds the one drive a person names: by serial, by an unambiguous ending of at least 3 characters, or by its bay.
func (s *Keeper) FindDrive(ctx context.Context, name string) (shop.Drive, error) {
	name = strings.TrimSpace(name)
	if bay, err := drive.ParseBay(name); err == nil && s.meansBay(name, bay) {
		return s.driveInBay(ctx, bay)
	}
	if whole, err := s.store.DrivesBySerial(ctx, name); err != nil || len(whole) == 1 { // which nearly every question gives
		return append(whole, shop.Drive{})[0], err
	}
	ending := strings.ToUpper(strings.ReplaceAll(name, " ", ""))
	if len(ending) < 3 {
		return shop.Drive{}, &shop.Invalid{
			What:   fmt.Sprintf("%q is too short to name a drive", name),
			Advice: "Give at least the last 3 characters of its serial, or bay-N.",
		}
	}
	found, err := s.store.DrivesBySuffix(ctx, ending)
	if err != nil {
		return shop.Drive{}, err
	}
	var exact []shop.Drive
	for _, d := range found {
		if strings.EqualFold(d.Identity.Serial, ending) {
			exact = append(exact, d)
		}
	}
	if len(exact) == 1 {
		found = exact
	}
	switch len(found) {
	case 0:
		if bay, err := drive.ParseBay(name); err == nil && bay.Bench != "" {
			return shop.Drive{}, &shop.NotFound{
				What: fmt.Sprintf("there is no %s, and no drive whose serial ends so", bay.Words()), Advice: "List the bays.",
			}
		}
		return shop.Drive{}, &shop.NotFound{
			What:   fmt.Sprintf("no drive whose serial ends with %q", name),
			Advice: "List the drives, or read it in a bay first.",
		}
	case 1:
		return found[0], nil
	}
	var serials []string
	for _, d := range found[:min(len(found), 5)] {
		serials = append(serials, d.Identity.Serial)
	}
	return shop.Drive{}, &shop.Invalid{
		What:   fmt.Sprintf("%q names %d drives: %s", name, len(found), strings.Join(serials, ", ")),
		Advice: "Give more of the serial.",
	}
}

func (s *Keeper) driveInBay(ctx context.Context, id drive.Bay) (shop.Drive, error) {
	bays, err := s.store.Bays(ctx)
	if err != nil {
		return shop.Drive{}, err
	}
	i := slices.IndexFunc(bays, func(b protocol.Bay) bool { return b.ID == id })
	if i < 0 {
		return shop.Drive{}, &shop.NotFound{What: "there is no " + id.Words(), Advice: "List the bays."}
	}
	b := bays[i]
	if b.Key.IsValid() {
		if d, err := s.store.DriveByKey(ctx, b.Key); !shop.IsNone(err) {
			return d, err
		}
	}
	do := "Check its power, then try again."
	if b.Fault != nil {
		do = b.Fault.Advice()
	}
	return shop.Drive{}, &shop.NotFound{What: fmt.Sprintf("no drive has named itself in %s (%s)", id.Words(), b.Connection), Advice: do}
}
