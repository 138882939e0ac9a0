#!/bin/sh
# Fuzzes every decoder for the time given, one after the other: sh test/fuzz.sh 10s
#
# The fuzzing engine can report its own deadline as a failure, when time is up in the middle of an input: the last word is
# then "context deadline exceeded", and no input is written. Only that is not a finding; a panic, a failing input or any
# other word is.
set -u
time=${1:-5m}
go=${GO:-go}
out=$(mktemp)
trap 'rm -f "$out"' EXIT
count=0
for found in $(grep -roE 'func Fuzz[A-Za-z]+' --include='*_test.go' internal | sed -E 's#^(.*)/[^/]+:func (.*)$#\1:\2#' | sort); do
	dir=${found%%:*} name=${found##*:}
	if ! $go test -run '^$' -fuzz "^$name\$" -fuzztime "$time" "./$dir" </dev/null >"$out" 2>&1; then
		if grep -qE 'panic|Failing input|testdata/fuzz' "$out" || ! grep -qx ' *context deadline exceeded' "$out"; then
			echo "$name in $dir:"
			cat "$out"
			exit 1
		fi
	fi
	execs=$(grep -oE 'execs: [0-9]+' "$out" | tail -1)
	echo "$name in $dir: ${execs:-no execs}, nothing found"
	count=$((count + 1))
done
echo "$count decoders fuzzed, $time each"
