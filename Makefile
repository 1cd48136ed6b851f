# Two commands matter: "make demo" (see it) and "make test" (trust it).
.PHONY: setup demo test bench screenshots lint
PY = .venv/bin/python

setup:
	@tools/setup

demo: setup
	@tools/demo

lint: setup
	.venv/bin/ruff check src tests
	.venv/bin/mypy
	.venv/bin/lint-imports --no-logo

test: lint
	$(PY) -m pytest

bench: setup
	.venv/bin/wolbrin bench --write docs/benchmarks.md

screenshots: setup
	$(PY) tools/screenshots.py docs/screenshots
