# Two commands matter: "make demo" (see it) and "make test" (trust it).
.PHONY: setup demo test check bench screenshots lint warm
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
	NUMBA_CACHE_DIR=$(CURDIR)/.venv/kernels $(PY) -c "from wolbrin.core.work import readying; r = readying.ready_beside(); r is None or r.over.wait()"

test: lint warm
	$(PY) -m pytest

# For daily work, in a minute: lint, types, and what the core promises by hand and by published values.
QUICK = tests/core/test_house.py tests/core/test_figures.py tests/core/test_engine_examples.py tests/core/test_engine_orders.py \
	tests/core/test_engine_same.py tests/core/test_formula.py tests/core/test_rules.py tests/core/test_market.py \
	tests/core/test_structure.py tests/core/test_measures.py tests/core/test_journal.py
check: lint warm
	$(PY) -m pytest $(QUICK)

bench: setup
	.venv/bin/wolbrin bench --write docs/benchmarks.md

screenshots: setup
	$(PY) tools/screenshots.py docs/screenshots
