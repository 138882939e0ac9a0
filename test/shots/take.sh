#!/bin/sh
# Takes docs/screenshots anew: the console's pages in headless Chromium, the command line in a terminal window under Xvfb, all
# from the demo's data. Installs what it needs from Debian's packages.
set -eu
cd "$(dirname "$0")/../.."
out=docs/screenshots
work=$(mktemp -d)
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }
missing=
for need in pdftoppm:poppler-utils Xvfb:xvfb xterm:xterm import:imagemagick fc-list:fontconfig; do
	command -v "${need%%:*}" >/dev/null || missing="$missing ${need##*:}"
done
[ -e /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf ] || missing="$missing fonts-dejavu-core"
# shellcheck disable=SC2086
[ -z "$missing" ] || { as_root apt-get update -qq; DEBIAN_FRONTEND=noninteractive as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null; }

address=127.0.0.1:8399
build/hylostat demo --data "$work/demo" --listen $address >"$work/demo.log" 2>&1 &
demo=$!
Xvfb :87 -screen 0 1280x800x24 >/dev/null 2>&1 &
screen=$!
trap 'kill $demo $screen 2>/dev/null; rm -rf "$work"' EXIT
sleep 9
export HYLOSTAT_SERVICE=http://$address HYLOSTAT_BY=Dov DISPLAY=:87

terminal() { # terminal FILE COMMANDS: what they print, in a window
	file=$1; shift
	printf '%s\n' "$@" >"$work/commands"
	cat >"$work/session" <<S
cd "$work"; PATH=$PWD/build:\$PATH; clear
while IFS= read -r line; do printf '\033[1m\$ %s\033[0m\n' "\$line"; eval "\$line" </dev/tty; echo; done < "$work/commands"
touch "$work/done"; sleep 60
S
	rm -f "$work/done"
	xterm -geometry 138x43+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#FBFAF5' -fg '#1B1C1E' -b 16 -e sh "$work/session" &
	window=$!
	for _ in $(seq 120); do [ -e "$work/done" ] && break; sleep 0.5; done
	sleep 0.7
	import -window root "$out/$file"
	kill $window 2>/dev/null || true
}

go build -o "$work/shots" ./test/shots
"$work/shots" http://$address $out/bench.png="/?theme=light" $out/bench-far.png="/?view=far"
build/hylostat bay try 4 >/dev/null
terminal cli-drives.png 'hylostat drive list --limit 6' 'hylostat drive trend 7M4Q2 pending' 'hylostat bay list'
terminal cli-alerts.png 'hylostat alert list' 'hylostat alert accept' 'hylostat alert route list' 'hylostat watch list' 'hylostat alert told --limit 6'
build/hylostat outcome 7M4Q2 --failed "$(date -d yesterday +%F)" --note 'no longer found' >/dev/null
build/hylostat outcome 7M4X2 --worked-until "$(date -d yesterday +%F)" >/dev/null
build/hylostat policy show --text | sed 's/^  bad_sectors: {all: 100,/  bad_sectors: {all: 8,/' >"$work/draft.yaml"
grep -q 'bad_sectors: {all: 8,' "$work/draft.yaml" # else the draft is the policy in force
"$work/shots" http://$address $out/policy.png="/policy?theme=light@draft"
hylostat_run() { build/hylostat "$@" >/dev/null; }
hylostat_run check quick 7M4R9
hylostat_run check quick 7M4Q2
hylostat_run check quick 7M511 --follow
hylostat_run run follow 1
terminal cli-verdict.png 'hylostat verdict show 7M511' 'hylostat verdict sign 7M4Q2 --overrule degrading' 'hylostat verdict sign 7M4R9 --by Dov'
"$work/shots" http://$address $out/alerts.png="/alerts?theme=dark" $out/watch.png="/watch?theme=light" $out/phone.png="/drives/KVA077M511?theme=light@phone" $out/drive.png="/drives/KVA077M511?theme=light" \
	$out/drives.png=/drives $out/intake.png="/intake?bay=bay-5&theme=light" $out/lot.png="/lots/1?theme=light"
build/hylostat statement 7M511 --format pdf -o "$work/statement.pdf" >/dev/null
build/hylostat label 7M511 -o "$work/label.pdf" >/dev/null
build/hylostat label 7M4Q2 -o "$work/label2.pdf" >/dev/null
pdftoppm -r 90 -png -singlefile "$work/statement.pdf" "$work/statement"
for l in label label2; do pdftoppm -r 190 -png -singlefile "$work/$l.pdf" "$work/$l"; convert "$work/$l.png" -bordercolor '#858585' -border 1 "$work/$l.png"; done
convert \( "$work/statement.png" -bordercolor '#858585' -border 1 \) \( "$work/label.png" "$work/label2.png" -background white -append \) -background white -gravity north +append $out/papers.png
terminal cli-lot.png 'hylostat lot show 1 | cut -c1-138 | head -16' 'hylostat volume look 7M4R9 | cut -c1-138' 'hylostat statement 7M4R9 | head -9' 'hylostat audit list --limit 3'

# docs/screenshots/installed.png is of another machine: SHOTS=$PWD/docs/screenshots go test -tags vm -run TestInstalled ./test/vm

# A sweep takes hours of the drives' time: here it runs faster.
kill $demo; wait $demo 2>/dev/null || true
build/hylostat demo --factor 200 --data "$work/fast" --listen $address >"$work/fast.log" 2>&1 &
demo=$!
sleep 9
hylostat_run sweep whole 7M4Q2
hylostat_run check quick 7M4R9
sleep 45
"$work/shots" http://$address $out/run.png="/runs/1?theme=light"
terminal cli-sweep.png 'hylostat run show 1' 'hylostat run figure 1 -o sweep.svg' 'hylostat sweep show 2' 'hylostat run list'
hylostat_run run follow 1 || true # it finds something
hylostat_run release 7M4Q2 --scope mend --owner 'Orla Fenn, by phone'
hylostat_run rework mend 7M4Q2 --serial 077M4Q2 --follow
"$work/shots" http://$address $out/rework.png="/runs/3?theme=light@full"
ls -la $out
