# Each target builds its own virtual environment; Python 3.11 or later is all that is needed.
PYTHON ?= python3

.PHONY: demo test examples check clean

demo: .venv/installed
	.venv/bin/millwright demo

test: .venv-dev/installed
	.venv-dev/bin/python -W error -m unittest_parallel -j 2 -s tests -t .
	.venv-dev/bin/python -W error -m unittest tests.sampling.in_processes

# Compiled as users have them, and two at a time.
examples: .venv-dev/installed
	XLA_FLAGS= .venv-dev/bin/python -W error -m unittest_parallel -j 2 --level test -s tests -p 'whole_*.py' -t .

check: .venv-dev/installed
	.venv-dev/bin/ruff check .
	.venv-dev/bin/ruff format --check .
	.venv-dev/bin/mypy
	.venv-dev/bin/lint-imports

.venv/installed: pyproject.toml
	$(PYTHON) -m venv .venv
	.venv/bin/pip install --quiet --disable-pip-version-check .
	touch $@

.venv-dev/installed: pyproject.toml
	$(PYTHON) -m venv .venv-dev
	.venv-dev/bin/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

clean:
	rm -rf .venv .venv-dev demo-figures
