#!/usr/bin/env bash
# Runs a command in a virtual X screen of its own: with-xvfb.sh COMMAND [ARG ...]
set -euo pipefail
number=$(mktemp)
Xvfb -displayfd 3 -screen 0 1600x1000x24 -nolisten tcp 3>"$number" 2>/dev/null &
server=$!
trap 'kill $server 2>/dev/null || true; rm -f "$number"' EXIT
for _ in $(seq 100); do [ -s "$number" ] && break; sleep 0.1; done
[ -s "$number" ] || { echo "Xvfb did not start" >&2; exit 1; }
DISPLAY=":$(cat "$number")" QT_QPA_PLATFORM=xcb "$@"
