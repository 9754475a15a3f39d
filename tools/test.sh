#!/usr/bin/env bash
# Lint, types, borders, tests. Ends in pytest's own summary line.
set -euo pipefail
cd "$(dirname "$0")/.."
bin=.venv/bin
echo "== lint ==";    "$bin/ruff" check src tests demo tools
echo "== types ==";   "$bin/mypy"; MYPYPATH=src:tests "$bin/mypy" --config-file tools/mypy-tests.ini tests
echo "== borders =="; "$bin/lint-imports" --no-cache
echo "== tests ==";   exec env QT_QPA_PLATFORM=offscreen "$bin/python" -m pytest -n 2 --dist worksteal --durations=12 "$@"
