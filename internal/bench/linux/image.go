package linux

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

// Images is a Machine with image files, or block devices without a drive behind them such as loop devices, as further
// places. They have a surface and no counters.
type Images struct {
	*Machine
	files []string // absolute
}

// WithImages adds images to a machine. Each file must be there when it is added; one that goes later is a drive that left.
func WithImages(m *Machine, files []string) (*Images, error) {
	all := &Images{Machine: m}
	for _, f := range files {
		path, err := filepath.Abs(f)
		if err != nil {
			return nil, fmt.Errorf("taking %s for a bay: %w", f, err)
		}
		if _, err := attachImage(path); err != nil {
			return nil, fmt.Errorf("taking %s for a bay: %w. Name an image file or a block device that is there", f, err)
		}
		all.files = append(all.files, path)
	}
	return all, nil
}

// attachImage describes an image.
func attachImage(path string) (drive.Attachment, error) {
	f, err := os.Open(path)
	if err != nil {
		return drive.Attachment{}, err
	}
	defer func() { _ = f.Close() }()
	size, err := f.Seek(0, io.SeekEnd) // of a block device, too
	if err != nil {
		return drive.Attachment{}, err
	}
	var s unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &s); err != nil {
		return drive.Attachment{}, err
	}
	return drive.Attachment{
		Address:       drive.Address("image-" + path),
		Node:          path,
		Transport:     "image",
		Model:         "Image file",
		Serial:        drive.Printable(filepath.Base(path)),
		Bytes:         uint64(size),
		LogicalSector: 512,
		Instance:      fmt.Sprintf("%d-%d-%d-%d", s.Dev, s.Rdev, s.Ino, size),
	}, nil
}

// Look lists the machine's drives and the images.
func (i *Images) Look(ctx context.Context) ([]drive.Attachment, error) {
	all, err := i.Machine.Look(ctx)
	for _, path := range i.files {
		if d, err := attachImage(path); err == nil {
			all = append(all, d)
		}
	}
	return all, err
}

// image is an image, opened.
type image struct {
	description drive.Attachment
	blocks
}

// Describe is what was said of the image when it was opened.
func (i *image) Describe() drive.Attachment { return i.description }

// Close does nothing: each sweep opens the image anew.
func (i *image) Close() error { return nil }

// Open opens a drive of the machine, or an image.
func (i *Images) Open(ctx context.Context, d drive.Attachment) (device.Device, error) {
	if d.Transport != "image" {
		return i.Machine.Open(ctx, d)
	}
	there := func() bool {
		now, err := attachImage(d.Node)
		return err == nil && now.Instance == d.Instance
	}
	if !there() {
		return nil, &device.Failed{Class: drive.FaultVanished, What: "opening " + d.Node, Cause: "the image that was there is gone"}
	}
	limits := device.Limits{Bytes: d.Bytes, Logical: d.LogicalSector, Physical: 4096}
	if node, ok := strings.CutPrefix(d.Node, "/dev/"); ok {
		limits = i.limitsOf(node)
		limits.Bytes = d.Bytes
	}
	return &image{d, blocks{node: d.Node, limits: limits, alive: there}}, nil
}
