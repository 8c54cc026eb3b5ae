PYTHON ?= python3.11
BIN := .venv/bin

# Where it is set, each command would compile the program anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: help demo test lint real bench proof commands screenshots versions clean

help:  # say what make can do
	@sed -n "s/^\([a-z]*\):.*  # \(.*\)/  make \1|\2/p" $(firstword $(MAKEFILE_LIST)) | while IFS="|" read -r what why; do printf "%-20s %s\n" "$$what" "$$why"; done

# uv installs in seconds what takes pip minutes; where it cannot be had, pip does it.
.venv/ready: pyproject.toml constraints.txt
	$(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check uv || echo "uv cannot be had here; pip takes a little longer."
	@if [ -x $(BIN)/uv ]; then echo "$(BIN)/uv pip install ..."; $(BIN)/uv pip install --quiet --python $(BIN)/python --constraint constraints.txt -e '.[dev]'; \
	else $(BIN)/python -m pip install --quiet --disable-pip-version-check --constraint constraints.txt -e '.[dev]'; fi
	touch $@

demo: .venv/ready  # the whole journey on a made-up world, about a minute
	$(BIN)/bramblemoor demo --into demo-world

test: .venv/ready lint  # lint, and the tests
	$(BIN)/python -m pytest --numprocesses 4 --dist worksteal

lint: .venv/ready  # ruff and mypy --strict
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

real: .venv/ready  # against real servers, which are installed and started where that is possible
	$(BIN)/python proof/real.py -- $(BIN)/python -m pytest -q --numprocesses 2 tests/test_service_kinds.py

bench: .venv/ready  # speed, as ratios to the system's own programs: half an hour on a quiet machine
	$(BIN)/python proof/bench.py
	$(BIN)/python proof/bench_copies.py
	$(BIN)/python proof/bench_day.py
	$(BIN)/python proof/bench_moves.py

proof: .venv/ready  # the heavy proofs: random exports, kills, faults of real drives
	$(BIN)/python proof/corpus_run.py --dialects 280 --frames 200
	$(BIN)/python proof/sidecar_orders.py --share 0.1
	$(BIN)/python proof/kills.py
	$(BIN)/python proof/depot_kills.py
	$(BIN)/python proof/card_kills.py
	$(BIN)/python proof/looks.py
	$(BIN)/python proof/power.py
	$(BIN)/python proof/faults.py
	$(BIN)/python proof/outside.py
	$(BIN)/python proof/model.py
	$(BIN)/python proof/moves.py
	$(BIN)/python proof/services_amiss.py

commands: .venv/ready  # docs/commands.md, from the program's own help
	$(BIN)/python docs/commands.py

screenshots: .venv/ready  # docs/screenshots, from the demo data
	$(BIN)/python docs/screenshots/make.py

versions:  # write constraints.txt anew, with the versions that can be had today
	rm -rf .venv && $(PYTHON) -m venv .venv && $(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	(sed -n "/^#/p" constraints.txt; $(BIN)/python -m pip freeze --exclude-editable) > constraints.new && mv constraints.new constraints.txt

clean:  # remove what was set up here
	rm -rf .venv demo-world
