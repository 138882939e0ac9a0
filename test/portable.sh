#!/bin/sh
# The program for other machines: built for Windows and macOS; built for arm64 and run there, by QEMU's emulation of its processor.
set -eu
cd "$(dirname "$0")/.."
go=${GO:-go}
for target in windows/amd64 darwin/arm64; do
	GOOS=${target%/*} GOARCH=${target#*/} CGO_ENABLED=0 $go build ./internal/app # all but the link
	echo "$target: built"
done
arm=build/arm64/hylostat
GOARCH=arm64 CGO_ENABLED=0 $go build -trimpath -ldflags "-s -w" -o $arm ./cmd/hylostat
command -v qemu-aarch64-static >/dev/null || {
	root=; [ "$(id -u)" = 0 ] || root=sudo
	$root apt-get update -qq && DEBIAN_FRONTEND=noninteractive $root apt-get install -y -qq --no-install-recommends qemu-user-static >/dev/null
}
dir=$(mktemp -d)
qemu-aarch64-static $arm demo --data "$dir/demo" --listen 127.0.0.1:0 >"$dir/said" 2>"$dir/log" &
demo=$!
trap 'kill $demo 2>/dev/null; wait $demo 2>/dev/null || true; rm -rf "$dir"' EXIT
for _ in $(seq 120); do
	address=$(sed -n 's/.* is open at \(http:[^ ]*\).*/\1/p' "$dir/said")
	[ -n "$address" ] && break
	kill -0 $demo 2>/dev/null || { cat "$dir/log"; exit 1; }
	sleep 1
done
seen=$(qemu-aarch64-static $arm --service "$address" bay list)
case $seen in *"KVA07 7M4Q2"*"X replace"*) echo "linux/arm64: the demo runs, and its command line answers" ;; *) echo "$seen"; exit 1 ;; esac
