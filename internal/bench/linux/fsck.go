package linux

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hylostat.example/internal/bench/confine"
	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/core/volume"
)

// checker is the system's own program for a file system, in the mode in which it changes nothing, and the exit codes by which it
// says that all is well or that something is damaged (its manual page; e2fsck adds its codes up). Any other code: it could not.
type checker struct {
	program string
	args    []string
	clean   []int
	damaged []int
}

var checkers = map[string]checker{
	"ext2":  {"e2fsck", []string{"-n", "-f"}, []int{0}, []int{4, 12}},
	"ext3":  {"e2fsck", []string{"-n", "-f"}, []int{0}, []int{4, 12}},
	"ext4":  {"e2fsck", []string{"-n", "-f"}, []int{0}, []int{4, 12}},
	"XFS":   {"xfs_repair", []string{"-n"}, []int{0}, []int{1}},
	"btrfs": {"btrfs", []string{"check", "--readonly"}, []int{0}, []int{1}},
	"FAT12": {"fsck.fat", []string{"-n"}, []int{0}, []int{1}},
	"FAT16": {"fsck.fat", []string{"-n"}, []int{0}, []int{1}},
	"FAT32": {"fsck.fat", []string{"-n"}, []int{0}, []int{1}},
	"exFAT": {"fsck.exfat", []string{"-n"}, []int{0}, []int{1, 4}},
	"NTFS":  {"ntfsfix", []string{"-n"}, []int{0}, []int{1}},
	"F2FS":  {"fsck.f2fs", []string{"--dry-run"}, []int{0}, []int{1}},
}

// places are where such programs lie, besides the path.
var places = []string{"/usr/sbin", "/sbin", "/usr/local/sbin"}

func found(program string) (string, bool) {
	if path, err := exec.LookPath(program); err == nil {
		return path, true
	}
	for _, dir := range places {
		if path, err := exec.LookPath(filepath.Join(dir, program)); err == nil {
			return path, true
		}
	}
	return "", false
}

// said is how much of what a checker printed is kept, in bytes, of its end.
const said = 2000

// CheckVolume implements device.Checker.
func (m *Machine) CheckVolume(ctx context.Context, d drive.Attachment, partition int, kind string) volume.Check {
	out := volume.Check{Partition: partition, Result: volume.NotChecked}
	c, known := checkers[kind]
	if !known {
		out.Said = "no checker is known for " + kind
		return out
	}
	out.Program = strings.TrimSpace(c.program + " " + strings.Join(c.args, " "))
	path, ok := found(c.program)
	if !ok {
		out.Said = c.program + " is not installed here"
		return out
	}
	if d.InUse != "" {
		out.Said = "in use: " + d.InUse + "; a checker would err"
		return out
	}
	node, err := m.partition(d, partition)
	if err != nil {
		out.Said = err.Error()
		return out
	}
	args := append(slices.Clone(c.args), node)
	cmd := exec.CommandContext(ctx, path, args...) //nolint:gosec // one of the programs above, in a mode that writes nothing
	if m.self != "" {
		cmd = confine.Command(ctx, m.self, node, path, args...)
	}
	text, err := cmd.CombinedOutput()
	out.Said = drive.Printable(strings.Join(strings.Fields(string(text[max(0, len(text)-said):])), " "))
	code := 0
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		code = exit.ExitCode()
	} else if err != nil {
		out.Said = err.Error()
		return out
	}
	switch {
	case ctx.Err() != nil:
		out.Said = "it took too long"
	case slices.Contains(c.clean, code):
		out.Result = volume.FoundClean
	case slices.Contains(c.damaged, code):
		out.Result = volume.FoundDamaged
	default:
		out.Said = fmt.Sprintf("it ended with %d: %s", code, out.Said)
	}
	return out
}

// partition finds the node of a partition; 0 is the drive itself. Names are no rule: the kernel's own number is asked for.
func (m *Machine) partition(d drive.Attachment, number int) (string, error) {
	if filepath.IsAbs(d.Node) { // an image
		if number != 0 {
			return "", errors.New("the partitions of an image have no nodes")
		}
		return d.Node, nil
	}
	if number == 0 {
		return "/dev/" + d.Node, nil
	}
	all, err := filepath.Glob(filepath.Join(m.sys, "block", d.Node, d.Node+"*", "partition"))
	if err != nil {
		return "", err
	}
	for _, file := range all {
		dir := filepath.Dir(file)
		if read(dir, "partition") == strconv.Itoa(number) {
			return "/dev/" + filepath.Base(dir), nil
		}
	}
	return "", fmt.Errorf("the system has no node for partition %d", number)
}
