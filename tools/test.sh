#!/usr/bin/env bash
# Lint, types, borders, tests. Ends in pytest's own summary line.
set -euo pipefail
cd "$(dirname "$0")/.."
bin=.venv/bin
# as the program itself does: small systems, and two workers already
export OPENBLAS_NUM_THREADS=1 OMP_NUM_THREADS=1
# the simulated drive compiles meanwhile, in two parts that take about as long; whatever is not ready then, the tests compile themselves
compiling=()
for part in 0 1; do
  "$bin/python" -c "from crisp_compass.plant.simulation import warm_up; warm_up($part)" &
  compiling+=("$!")
done
echo "== lint ==";    "$bin/ruff" check src tests demo tools
echo "== types ==";   "$bin/mypy"
echo "== borders =="; "$bin/lint-imports" --no-cache
wait "${compiling[@]}" || true
echo "== tests ==";   exec env QT_QPA_PLATFORM=offscreen "$bin/python" -m pytest -n 2 --dist worksteal --durations=12 "$@"
