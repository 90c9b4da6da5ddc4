#!/usr/bin/env bash
# Takes the pictures of commands in docs/screenshots: each in a terminal window
# under Xvfb. Usage: terminal.sh FOLDER; the demo must be running.
set -euo pipefail
into=$1
program=$PWD/bin/yfence
work=$(mktemp -d)
trap 'rm -rf "$work"; kill "$xvfb" 2>/dev/null || true' EXIT
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
sleep 1
shoot() { # NAME COMMAND [WHAT IS RUN] [SECONDS]; with ONLY=NAME that picture alone
	[[ -z ${ONLY:-} || $ONLY == "$1" ]] || return 0
	# The command's text is shown as it would be typed, then run.
	printf '#!/bin/bash\nexport PATH=%q:$PATH\nprintf "\\e[1m$ %%s\\e[0m\\n" %q\n%s\nsleep 30\n' "$(dirname "$program")" "$2" "${3:-$2}" >"$work/run"
	chmod +x "$work/run"
	DISPLAY=:97 xterm -geometry 158x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#10161d' -fg '#e9e6dc' -b 14 -T yfence -e "$work/run" &
	local term=$!
	sleep "${4:-3}"
	DISPLAY=:97 import -window root "$into/$1.png"
	kill "$term" 2>/dev/null || true
	wait "$term" 2>/dev/null || true
}
shoot drift 'yfence drift' "yfence drift --server http://127.0.0.1:8480 --token-file $PWD/var/demo/token"
service="--server http://127.0.0.1:8480 --token-file $PWD/var/demo/token"
shoot lock-out 'yfence publish -m "fewer rules"' \
	"cd $PWD; yfence publish --policy var/demo/locked -m 'fewer rules' --yes $service; printf '\\n\\e[1m$ %s\\e[0m\\n' 'yfence waves show 2   # forced through with --accept no-guard'; yfence waves show 2 $service"
shoot probe "yfence probe 'pilotage-01 -> logbook-01 : postgresql' --listen" \
	"q() { printf '\\n\\e[1m$ yfence %s\\e[0m\\n' \"\$*\"; yfence \"\$@\" $service; }; yfence probe 'pilotage-01 -> logbook-01 : postgresql' --listen $service; q probe --all-expectations; q copies charts-02; q connections charts-01" 14
cp -r demo/saltmarsh "$work/saltmarsh"
sed -i '/^allow dispatch:/s/office/ofice/; s/broker-tls  on quay-lan/broker-tls  on qay-lan/' "$work/saltmarsh/rules.fence"
echo 'block no-ssh:           everywhere -> logbook : ssh  because "keys leaked"' >>"$work/saltmarsh/rules.fence"
cp -r "$work/saltmarsh" "$work/guard"
cp demo/saltmarsh/rules.fence "$work/guard/rules.fence"
echo 'block no-ssh:           everywhere -> logbook : ssh  because "keys leaked"' >>"$work/guard/rules.fence"
shoot check 'yfence check saltmarsh' \
	"cd $work; yfence check saltmarsh; printf '\\n\\e[1m$ %s\\e[0m\\n' 'yfence check saltmarsh   # the names mended'; mv saltmarsh old; mv guard saltmarsh; yfence check saltmarsh"
shoot rules 'yfence rules pilotage-01 --policy demo/saltmarsh | sed -n "/chain inbound {/,$ p" | cut -c1-150' "cd $PWD; yfence rules pilotage-01 --policy demo/saltmarsh | sed -n '/chain inbound {/,\$ p' | expand -t 4 | cut -c1-150 | head -42"
shoot rules-iptables 'yfence rules charts-02 --dialect iptables --policy demo/saltmarsh | cut -c1-150' "cd $PWD; yfence rules charts-02 --dialect iptables --policy demo/saltmarsh | cut -c1-150"
shoot live 'yfence live --dump demo/recorded/depot-01.json   # what comes in, and the first sets' "cd $PWD; yfence live --dump demo/recorded/depot-01.json | sed -e '/^output/,/^\$/d' | cut -c1-156 | head -44"
shoot traffic 'yfence traffic refused --since 1h --most 2' \
	"q() { printf '\\n\\e[1m$ yfence %s\\e[0m\\n' \"\$*\"; yfence \"\$@\" $service; }; yfence traffic refused --since 1h --most 2 $service; q traffic seen --since 1h --most 2; q traffic unused --since 1h | head -15"
shoot company "yfence publish -m 'the hill reads the logbook'   # its last words" \
	"cd $PWD; q() { printf '\\n\\e[1m$ yfence %s\\e[0m\\n' \"\$*\"; yfence \"\$@\" $service; }; yfence publish --policy var/demo/hill -m 'the hill reads the logbook' --yes $service 2>&1 | tail -3; q proposals --all; q proposals show 2; q record --limit 15 | cut -c1-156; q record verify; q events --limit 5" 5
shoot ask "yfence ask 'everywhere -> logbook : postgresql' --policy saltmarsh" \
	"cd $PWD/demo; q() { printf '\n\e[1m\$ yfence ask %s\e[0m\n' \"\$*\"; yfence ask \"\$@\"; }; yfence ask 'everywhere -> logbook : postgresql' --policy saltmarsh; q 'everywhere -> jump : ssh' --policy saltmarsh; q '10.60.0.7 -> 10.60.3.40 : postgresql' --dump recorded/logbook-01.json"
cp -r demo/saltmarsh "$work/change"
sed -i 's/at most 4 per 1m/at most 40 per 1m/; /^allow nightly/d' "$work/change/rules.fence"
printf 'allow extra:            office -> charts : tcp 8097\nallow snmp:             everywhere -> watch : snmp  knowingly wide-open "for the shot"\n' >>"$work/change/rules.fence"
cp -r demo/saltmarsh "$work/today"
shoot compare 'yfence compare today change' "cd $work; yfence compare today change"
shoot adopt 'yfence adopt --fleet demo/saltmarsh/fleet.json --dump demo/recorded/logbook-01.json --dump …' \
	"cd $PWD; yfence adopt --name harbour --fleet demo/saltmarsh/fleet.json \$(for h in logbook-01 pilotage-01 jump-01; do echo --dump demo/recorded/\$h.json; done) | cut -c1-156"
