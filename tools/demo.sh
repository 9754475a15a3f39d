#!/usr/bin/env bash
# Opens the window on the Winch demo bench; without a display it makes the tour's pictures instead.
set -euo pipefail
cd "$(dirname "$0")/.."
if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
  exec .venv/bin/crisp-compass demo/winch/winch.bench.json
fi
echo "No display found: running the window in a virtual one and leaving the tour's pictures in demo-tour/"
exec tools/with-xvfb.sh .venv/bin/crisp-compass tour --out demo-tour
