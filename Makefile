.PHONY: setup demo test thorough docs package bench accuracy fuzz schema mutants firmware-tools
setup:
	@tools/setup.sh
demo: setup
	@tools/demo.sh
test: setup
	@tools/test.sh
thorough: setup
	@tools/test.sh --thorough
firmware-tools:
	@FIRMWARE_TOOLS=1 tools/setup.sh
schema: setup
	@.venv/bin/python tools/generated.py
docs: setup
	@.venv/bin/python tools/site.py build
package: setup
	@tools/package.sh
bench: setup
	@QT_QPA_PLATFORM=offscreen .venv/bin/python tools/benchmarks.py
accuracy: setup
	@OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 .venv/bin/python tools/calibrate.py --captures 300 --write docs/accuracy.md
	@OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 .venv/bin/python tools/attack_commutation.py --write docs/commutation-accuracy.md
COUNT ?= 300
mutants: setup
	@.venv/bin/python tools/mutants.py --count $(COUNT)
MINUTES ?= 2
fuzz: setup
	@OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 POLARS_MAX_THREADS=1 .venv/bin/python tools/fuzz.py --minutes $(MINUTES)
	@QT_QPA_PLATFORM=offscreen .venv/bin/python tools/kills.py 500
