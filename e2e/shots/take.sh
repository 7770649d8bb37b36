#!/bin/sh
# Starts a demo, takes the pictures, ends the demo.
set -eu
dir=$(mktemp -d)
trap 'kill $pid 2>/dev/null; wait $pid 2>/dev/null; rm -rf "$dir"' EXIT
bin/candid demo --data "$dir/data" --listen 127.0.0.1:7390 > "$dir/log" 2>&1 &
pid=$!
until [ -e "$dir/log" ] && grep -q '^Press Ctrl' "$dir/log"; do
  kill -0 $pid || { cat "$dir/log"; exit 1; }
  tail -s 0.2 -f --pid=$pid "$dir/log" | grep -m1 -q 'Press Ctrl' || true
done
token=$(grep -o 'cht_[0-9a-f]*' "$dir/log" | head -1)
go run ./e2e/shots -url http://127.0.0.1:7390 -token "$token" -dir docs/screenshots
other=$(grep -o 'cht_[0-9a-f]*' "$dir/log" | sed -n 2p)
go run ./e2e/shots -url http://127.0.0.1:7392 -token "$other" -dir docs/screenshots -only failover,drill
own=$(CANDID_SITE="unix:$dir/data/larkfield/candid.sock" bin/candid token add pictures --person ines)
go run ./e2e/shots -url http://127.0.0.1:7390 -token "$own" -dir docs/screenshots -only mine
CANDID_SITE="unix:$dir/data/larkfield/candid.sock" sh e2e/shots/terminal.sh docs/screenshots/status.png
