#!/bin/sh
# A picture of `candid status` in a terminal window, when xterm and Xvfb are here.
set -eu
for tool in xterm Xvfb import; do
	command -v $tool > /dev/null || { echo "$tool is missing: no terminal picture"; exit 0; }
done
Xvfb :97 -screen 0 1280x800x24 > /dev/null 2>&1 &
x=$!
trap 'kill $t $x 2>/dev/null' EXIT
export DISPLAY=:97
until [ -e /tmp/.X11-unix/X97 ]; do kill -0 $x; done
xterm -geometry 140x44+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#f6f2e8' -fg '#22262b' -e sh -c '
	PS1="\$ "
	for c in "candid status" "candid snapshot list specimen-db --limit 3"; do
		echo "\$ $c"; PATH=$PWD/bin:$PATH $c; echo
	done
	touch /tmp/candid-shot-ready; read _' &
t=$!
until [ -e /tmp/candid-shot-ready ]; do kill -0 $t; done
rm -f /tmp/candid-shot-ready
sleep 1
import -window root "$1"
