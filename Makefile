PYTHON ?= python3.11
BIN := .venv/bin

# Where it is set, each command would compile the program anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test lint bench proof screenshots clean

.venv/ready: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $@

demo: .venv/ready
	$(BIN)/bramblemoor demo --into demo-world

test: .venv/ready lint
	$(BIN)/python -m pytest --numprocesses 4 --dist worksteal

lint: .venv/ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: .venv/ready
	$(BIN)/python proof/bench.py
	$(BIN)/python proof/bench_copies.py

proof: .venv/ready
	$(BIN)/python proof/corpus_run.py --dialects 280 --frames 200
	$(BIN)/python proof/sidecar_orders.py --share 0.1
	$(BIN)/python proof/kills.py
	$(BIN)/python proof/depot_kills.py
	$(BIN)/python proof/power.py
	$(BIN)/python proof/faults.py
	$(BIN)/python proof/outside.py
	$(BIN)/python proof/model.py

screenshots: .venv/ready
	$(BIN)/python docs/screenshots/make.py

clean:
	rm -rf .venv demo-world
