package worker

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/check"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
)

// imageSuffix is how images of copies end.
const imageSuffix = ".image"

// takeCopy says why a drive cannot be copied to where an order wants it.
func (w *Worker) takeCopy(o protocol.Order) error {
	if o.Copy == nil {
		return w.refuseWith(o, drive.FaultNotAllowed, "it is not said where the copy goes", "Name a folder.")
	}
	image, err := w.machine.imageOf(*o.Copy)
	if err != nil {
		return w.refuseWith(o, drive.FaultNotAllowed, err.Error(), "Name one of this bench's folders: it is started with --copies FOLDER.")
	}
	if w.bay.Device.Transport == "image" && w.bay.Device.Node == image {
		return w.refuseWith(o, drive.FaultInUse, "the image is what stands in this bay", "Name another file.")
	}
	return nil
}

// imageOf is the file that a copy goes to. Nobody but the bench decides in which folders it may lie.
func (m *Machine) imageOf(d check.Destination) (string, error) {
	if name := d.Image; name != filepath.Base(name) || !strings.HasSuffix(name, imageSuffix) || name == imageSuffix ||
		strings.HasPrefix(name, ".") || drive.Printable(name) != name {
		return "", fmt.Errorf("%q is no name of an image, which ends with %s and has no folder in it", d.Image, imageSuffix)
	}
	if len(m.Copies) == 0 {
		return "", errors.New("this bench keeps no copies")
	}
	for _, folder := range m.Copies {
		if d.Folder != "" && d.Folder != folder && d.Folder != filepath.Base(folder) {
			continue
		}
		if stat, err := os.Stat(folder); err != nil {
			return "", fmt.Errorf("the folder for copies is not there: %w", err)
		} else if !stat.IsDir() {
			return "", fmt.Errorf("%s is no folder", folder)
		}
		return filepath.Join(folder, d.Image), nil
	}
	return "", fmt.Errorf("%q is no folder in which this bench keeps copies", d.Folder)
}

// protectSource has the machine refuse to write to a drive that is about to be copied.
func (w *Worker) protectSource(ctx context.Context, step int) error {
	source, ok := w.machine.Source.(device.Guard)
	if step < 0 || w.current.Steps[step].Kind != check.Copying || !ok || w.bay.WriteProtected || w.bay.Device.Instance == "" {
		return nil
	}
	if err := source.WriteProtect(ctx, w.bay.Device, true); err != nil {
		return fmt.Errorf("protecting the drive from writing: %w", err)
	}
	w.bay.WriteProtected = true
	w.publish(ctx)
	return nil
}
