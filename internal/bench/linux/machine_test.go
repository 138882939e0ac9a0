package linux

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/bench/device"
	"hylostat.example/internal/core/drive"
)

// tree builds a machine's sysfs and procfs in a folder: files with content, and links where the value begins with "->".
func tree(t *testing.T, files map[string]string) *Machine {
	t.Helper()
	root := t.TempDir()
	for name, content := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if len(content) > 2 && content[:2] == "->" {
			target := filepath.Join(root, content[2:])
			require.NoError(t, os.MkdirAll(target, 0o755))
			require.NoError(t, os.Symlink(target, path))
			continue
		}
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	}
	return &Machine{sys: filepath.Join(root, "sys"), proc: filepath.Join(root, "proc")}
}

const pci = "sys/devices/pci0000:00/"

// workshop is a machine with a SATA disk on the second port of its second controller, a USB disk, an NVMe and a SAS drive.
func workshop() map[string]string {
	files := map[string]string{
		"proc/self/mountinfo": "22 1 259:1 / / rw - ext4 /dev/nvme9n1p1 rw\n",
		"proc/swaps":          "Filename Type Size Used Priority\n/dev/sdc2 partition 100 0 -2\n",
	}
	disk := func(node, place, dev, size string, more map[string]string) {
		files["sys/block/"+node+"/device"] = "->" + place
		files["sys/block/"+node+"/dev"] = dev + "\n"
		files["sys/block/"+node+"/size"] = size + "\n"
		files["sys/block/"+node+"/diskseq"] = "7\n"
		files["sys/block/"+node+"/queue/logical_block_size"] = "512\n"
		for k, v := range more {
			files[k] = v
		}
	}
	for _, port := range []string{"ata3", "ata4", "ata10"} { // the kernel counts on from the first controller
		files[pci+"0000:00:1f.5/"+port+"/x"] = ""
		files["sys/class/ata_port/"+port] = "->" + pci + "0000:00:1f.5/" + port + "/ata_port/" + port
	}
	sata := pci + "0000:00:1f.5/ata4/host3/target3:0:0/3:0:0:0"
	disk("sda", sata, "8:0", "3907029168", map[string]string{
		sata + "/model":          "Korvan K4-2000\n",
		sata + "/vendor":         "ATA     \n",
		sata + "/vpd_pg80":       "\x00\x80\x00\x0aKVA077M511",
		"sys/block/sda/sda1/dev": "8:1\n",
	})
	usb := pci + "0000:00:14.0/usb2/2-1/2-1.4/2-1.4:1.0/host6/target6:0:0/6:0:0:0"
	adapter := pci + "0000:00:14.0/usb2/2-1/2-1.4"
	disk("sdb", usb, "8:16", "1000", map[string]string{
		usb + "/model":         "Adapter\x1b[2J\n",
		adapter + "/serial":    "ADAPTER01\n",
		adapter + "/idVendor":  "ff01\n",
		adapter + "/idProduct": "0a02\n",
		adapter + "/bcdDevice": "0100\n",
	})
	disk("nvme9n2", pci+"0000:00:1d.0/0000:03:00.0/nvme/nvme9", "259:8", "3000", nil)
	volume := pci + "0000:00:06.0/host9/target9:2:0/9:2:0:0"
	disk(
		"sdd", volume, "8:48", "5000",
		map[string]string{volume + "/model": "VOLUME\n", volume + "/vendor": "OSPRIL\n", pci + "0000:00:06.0/class": "0x010400\n"},
	)
	nvme := pci + "0000:00:1d.0/0000:03:00.0/nvme/nvme9"
	disk(
		"nvme9n1",
		nvme,
		"259:0",
		"2000",
		map[string]string{
			nvme + "/model":                   "Brackwater Heron\n",
			nvme + "/serial":                  "BWN11Q7E30\n",
			"sys/block/nvme9n1/nvme9n1p1/dev": "259:1\n",
		},
	)
	sas := pci + "0000:00:02.0/0000:05:00.0/host8/port-8:0/end_device-8:0/target8:0:3/8:0:3:0"
	disk(
		"sdc",
		sas,
		"8:32",
		"4000",
		map[string]string{
			sas + "/model":             "O12\n",
			sas + "/vendor":            "OSPRIL\n",
			"sys/block/sdc/sdc2/dev":   "8:34\n",
			"sys/class/block/sdc2/dev": "8:34\n",
		},
	)
	files["sys/block/loop0/size"] = "5\n" // nothing behind it
	files["sys/block/dm-0/size"] = "5\n"
	return files
}

func look(t *testing.T, m *Machine) map[string]drive.Attachment {
	t.Helper()
	all, err := m.Look(t.Context())
	require.NoError(t, err)
	by := map[string]drive.Attachment{}
	for _, d := range all {
		by[d.Node] = d
	}
	return by
}

func TestDrivesAreFoundWithTheirPlaceAndKind(t *testing.T) {
	by := look(t, tree(t, workshop()))
	require.Len(t, by, 5, "loop and device-mapper devices have no hardware behind them, and two namespaces are one drive")
	for node, want := range map[string]drive.Attachment{
		"sda": {
			Address:   "pci-0000:00:1f.5-ata-2",
			Transport: "SATA",
			Vendor:    "ATA",
			Model:     "Korvan K4-2000",
			Serial:    "KVA077M511",
			Bytes:     2000398934016,
		},
		"sdb": {
			Address:   "usb-2-1.4",
			Transport: "USB",
			Model:     "Adapter\uFFFD[2J",
			Serial:    "ADAPTER01",
			Adapter:   "ff01:0a02 0100",
			Bytes:     512000,
		},
		"nvme9n1": {
			Address:   "pci-0000:03:00.0-nvme",
			Transport: "NVMe",
			Model:     "Brackwater Heron",
			Serial:    "BWN11Q7E30",
			Bytes:     1024000 + 1536000,
			InUse:     "mounted at /",
		},
		"sdd": {
			Address:   "pci-0000:00:06.0-scsi-2:0:0",
			Transport: "SCSI",
			Vendor:    "OSPRIL",
			Model:     "VOLUME",
			Bytes:     2560000,
			Behind:    "behind a RAID controller",
		},
		"sdc": {
			Address:   "pci-0000:05:00.0-scsi-0:3:0",
			Transport: "SCSI",
			Vendor:    "OSPRIL",
			Model:     "O12",
			Bytes:     2048000,
			InUse:     "swap space",
		},
	} {
		want.Node, want.LogicalSector, want.Instance = node, 512, "7"
		assert.Equal(t, want, by[node])
	}
}

func TestEmptyATAPortsAreBays(t *testing.T) {
	assert.Equal(
		t, []drive.Address{"pci-0000:00:1f.5-ata-1", "pci-0000:00:1f.5-ata-2", "pci-0000:00:1f.5-ata-3"},
		tree(t, workshop()).Places(),
	)
}

func TestAHeldPartitionIsInUse(t *testing.T) {
	files := workshop()
	files["sys/block/sda/sda1/holders/dm-0"] = "->sys/block/dm-0"
	assert.Equal(t, "held by dm-0", look(t, tree(t, files))["sda"].InUse)
}

func TestADriveThatWasReplacedMeanwhileIsNotOpened(t *testing.T) {
	m := tree(t, workshop())
	d := look(t, m)["sda"]
	require.NoError(t, os.WriteFile(filepath.Join(m.sys, "block/sda/diskseq"), []byte("8\n"), 0o600))
	_, err := m.Open(t.Context(), d)
	var failed *device.Failed
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, drive.FaultVanished, failed.Class)
	_, err = m.Open(t.Context(), look(t, m)["nvme9n1"])
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, drive.FaultVanished, failed.Class, "no such node on this machine: %s", failed.What)
	assert.Equal(t, "opening /dev/nvme9", failed.What, "the controller is opened, not a namespace")
}

func TestLookingAgainScansTheHostOfTheBayAndNoOther(t *testing.T) {
	files := workshop()
	files["sys/class/scsi_host/host3"] = "->" + pci + "0000:00:1f.5/ata4/host3"
	files["sys/class/scsi_host/host2"] = "->" + pci + "0000:00:1f.5/ata3/host2"
	m := tree(t, files)
	for _, h := range []string{"host2", "host3"} {
		require.NoError(t, os.WriteFile(filepath.Join(m.sys, "class/scsi_host", h, "scan"), nil, 0o600))
	}
	require.NoError(t, m.Rescan(t.Context(), "pci-0000:00:1f.5-ata-2"))
	assert.Equal(t, "- - -", readRaw(filepath.Join(m.sys, "class/scsi_host/host3"), "scan"))
	assert.Empty(t, readRaw(filepath.Join(m.sys, "class/scsi_host/host2"), "scan"))
}

func TestAMachineWithoutSysfsSaysSo(t *testing.T) {
	_, err := (&Machine{sys: "/nowhere", proc: "/nowhere"}).Look(t.Context())
	assert.ErrorContains(t, err, "listing drives in /nowhere/block")
}
