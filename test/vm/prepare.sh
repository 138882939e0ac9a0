#!/bin/sh
# Brings what the virtual machine is made of into build/vm: Debian's kernel with the few modules it needs, and busybox.
# Installs QEMU and the tools from Debian's packages when they are missing.
set -eu
cd "$(dirname "$0")/../.."
out=build/vm
mkdir -p $out
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }
missing=
for need in qemu-system-x86_64:qemu-system-x86 busybox:busybox-static depmod:kmod cpio:cpio debootstrap:debootstrap mke2fs:e2fsprogs; do
	PATH=$PATH:/usr/sbin:/sbin command -v "${need%%:*}" >/dev/null || missing="$missing ${need##*:}"
done
if [ -n "$missing" ] || ! [ -f $out/kernel.ready ]; then
	as_root apt-get update -qq
fi
# shellcheck disable=SC2086
[ -z "$missing" ] || DEBIAN_FRONTEND=noninteractive as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
if ! [ -f $out/kernel.ready ]; then
	package=$(apt-cache depends linux-image-amd64 | awk '/Depends: linux-image/ {print $2; exit}')
	rm -rf $out/deb $out/root && mkdir -p $out/deb $out/root
	(cd $out/deb && apt-get download -qq "$package")
	dpkg-deb -x $out/deb/*.deb $out/root
	cp $out/root/boot/vmlinuz-* $out/vmlinuz
	release=$(basename $out/root/lib/modules/*)
	PATH=$PATH:/usr/sbin:/sbin depmod -b $out/root "$release"
	echo "$release" > $out/release
	touch $out/kernel.ready
fi
# The tools that make device-mapper and md devices, whose packages would set up a service here if they were installed.
if ! [ -f $out/rig.ready ]; then
	as_root apt-get update -qq
	rm -rf $out/rig && mkdir -p $out/rig
	(cd $out/rig && apt-get download -qq dmsetup libdevmapper1.02.1 mdadm && for d in *.deb; do dpkg-deb -x "$d" .; done)
	touch $out/rig.ready
fi
# A Debian with systemd, as somebody installs it: a pristine root, kept packed.
if ! [ -f $out/debian.tar ]; then
	rm -rf $out/debian
	as_root debootstrap --variant=minbase --include=systemd-sysv,dbus,udev,iproute2 bookworm $out/debian >$out/debootstrap.log 2>&1
	as_root tar -C $out/debian --exclude=./var/cache/apt/archives/*.deb --exclude=./var/lib/apt/lists/* -cf $out/debian.tar .
	as_root rm -rf $out/debian
fi
release=$(cat $out/release)
modules=$out/root/lib/modules/$release

# The initramfs: busybox, the program, and the modules in the order of their dependencies.
init=$out/init && rm -rf $init && mkdir -p $init/bin $init/dev $init/proc $init/sys $init/tmp $init/lib $init/data
cp "$(command -v busybox)" $init/bin/busybox
cp build/hylostat $init/bin/hylostat
cp build/vm/hylostat-conform $init/bin/hylostat-conform
: > $init/lib/order
add() { # add NAME: the module's dependencies first, then itself, each once
	line=$(grep -E "/$1\.ko(\.[a-z]+)?:" "$modules/modules.dep") || { echo "no module $1"; return 0; }
	for path in $(echo "${line#*:}" | tr ' ' '\n' | tac) "${line%%:*}"; do
		name=$(basename "$path" | sed 's/\.ko.*//')
		grep -qx "$name" $init/lib/order && continue
		case $path in *.xz) xz -dc "$modules/$path" > "$init/lib/$name.ko" ;; *) cp "$modules/$path" "$init/lib/$name.ko" ;; esac
		echo "$name" >> $init/lib/order
	done
}
for m in crc32c_generic crct10dif_generic crc64_rocksoft_generic crc64-rocksoft ahci sd_mod sg nvme virtio_pci virtio_scsi virtio_blk xhci-pci usb-storage uas; do add "$m"; done
for m in dm-mod dm-delay ext4 raid1 virtio_net; do add "$m"; done
for tool in dmsetup mdadm; do
	cp $out/rig/sbin/$tool $init/bin/
	LD_LIBRARY_PATH=$out/rig/lib/x86_64-linux-gnu ldd $out/rig/sbin/$tool | awk '/=>/ {print $3} /^[ \t]*\/lib/ {print $1}' | while read -r lib; do
		to=$init/${lib#"$out/rig/"}
		mkdir -p "$(dirname "$to")" && cp -L "$lib" "$to"
	done
done
# scsi_debug brings its own disk; a test loads it when it wants one.
cp "$modules/kernel/drivers/scsi/scsi_debug.ko" $init/lib/scsi_debug.ko 2>/dev/null || xz -dc "$modules/kernel/drivers/scsi/scsi_debug.ko.xz" > $init/lib/scsi_debug.ko
cp test/vm/init $init/init && cp test/vm/init-debian $init/init-debian && chmod +x $init/init $init/init-debian
(cd $init && find . | cpio -o -H newc --quiet) | gzip -1 > $out/initramfs.gz

# The root of that Debian with what is to be installed, as a disk. Its shell for the test is a service of its own.
root=$out/debian.root && rm -rf $root && mkdir -p $root && as_root tar -C $root -xf $out/debian.tar
cp build/package/hylostat_*_amd64.deb build/package/hylostat_*_amd64.tar.gz $root/root/
cp test/vm/shell $root/usr/local/bin/test-shell && chmod +x $root/usr/local/bin/test-shell
cp test/vm/test-shell.service $root/etc/systemd/system/
mkdir -p $root/etc/systemd/system/multi-user.target.wants
ln -sf ../test-shell.service $root/etc/systemd/system/multi-user.target.wants/test-shell.service
ln -sf /dev/null $root/etc/systemd/system/serial-getty@ttyS0.service # waits for a device that does not come
echo bench > $root/etc/hostname
rm -f $out/debian.img
PATH=$PATH:/usr/sbin:/sbin as_root mke2fs -q -t ext4 -d $root $out/debian.img 1400M
as_root rm -rf $root
