#!/bin/sh
# Fuzzes every decoder for the time given, as many at once as there are cores: sh test/fuzz.sh 10s
#
# The fuzzing engine can report its own deadline as a failure, when time is up in the middle of an input: the last word is
# then "context deadline exceeded", and no input is written. Only that is not a finding; a panic, a failing input or any
# other word is.
set -u
export TIME="${1:-5m}" GO="${GO:-go}"
one=$(mktemp)
trap 'rm -f "$one"' EXIT
cat >"$one" <<'S'
dir=${1%%:*} name=${1##*:}
out=$(mktemp)
if ! $GO test -run '^$' -fuzz "^$name\$" -parallel 1 -fuzztime "$TIME" "./$dir" </dev/null >"$out" 2>&1; then
	if grep -qE 'panic|Failing input|testdata/fuzz' "$out" || ! grep -qx ' *context deadline exceeded' "$out"; then
		echo "$name in $dir:"
		cat "$out"
		rm -f "$out"
		exit 255 # ends the others, too
	fi
fi
execs=$(grep -oE 'execs: [0-9]+' "$out" | tail -1)
if [ -z "$execs" ]; then
	echo "$name in $dir tried no input:"
	cat "$out"
	exit 255
fi
echo "$name in $dir: $execs, nothing found"
rm -f "$out"
S
found=$(grep -roE 'func Fuzz[A-Za-z]+' --include='*_test.go' internal | sed -E 's#^(.*)/[^/]+:func (.*)$#\1:\2#' | sort)
printf '%s\n' "$found" | xargs -P "$(nproc)" -n 1 sh "$one" || exit 1
echo "$(printf '%s\n' "$found" | wc -l) decoders fuzzed, $TIME each"
