# Two commands matter: "make demo" (see it) and "make test" (trust it).
.PHONY: setup demo test bench screenshots lint warm
PY = .venv/bin/python

setup:
	@tools/setup

demo: setup
	@tools/demo

lint: setup
	.venv/bin/ruff check src tests
	.venv/bin/mypy
	.venv/bin/lint-imports --no-logo

# Kernels are compiled once before the tests: two workers would each compile them, in the midst of a test.
warm: setup
	NUMBA_CACHE_DIR=$(CURDIR)/.venv/kernels $(PY) -c "from wolbrin.core.work import warmed, warming; warmed.is_warm() or warming.warm()"

test: lint warm
	$(PY) -m pytest

bench: setup
	.venv/bin/wolbrin bench --write docs/benchmarks.md

screenshots: setup
	$(PY) tools/screenshots.py docs/screenshots
