.PHONY: setup demo test bench
setup:
	@tools/setup.sh
demo: setup
	@tools/demo.sh
test: setup
	@tools/test.sh
bench: setup
	@QT_QPA_PLATFORM=offscreen .venv/bin/python tools/benchmarks.py
