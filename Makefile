# Two commands are all a newcomer needs:  make demo   make test
PYTHON := $(or $(shell command -v python3.11),$(shell command -v python3))
BIN := .venv/bin
# Per cent of the core's statements that tests run in their own process; raise it with the tests.
CORE_COVERED := 85
# One more than there are cores: tests often wait for what they started.
WORKERS := $(shell expr $$(getconf _NPROCESSORS_ONLN) + 1)

.PHONY: demo test lint docs screenshots benchmarks clean

demo: .venv/.installed
	@$(BIN)/hot-anvil demo build/tide-gauge

test: lint
	$(BIN)/python -m pytest -n $(WORKERS) --dist loadfile --cov --cov-report=term:skip-covered --cov-fail-under=$(CORE_COVERED)

lint: .venv/.installed-test
	$(BIN)/ruff check src tests tools benchmarks
	$(BIN)/ruff format --check src tests tools benchmarks
	$(BIN)/mypy
	$(BIN)/python tools/import_rules.py

docs: .venv/.installed-test
	$(BIN)/python -m sphinx -q -W --keep-going -E docs build/docs

screenshots: .venv/.installed
	$(BIN)/python tools/screenshots.py

benchmarks: .venv/.installed-test
	$(BIN)/python benchmarks/startup.py
	$(BIN)/python benchmarks/reading.py
	$(BIN)/python benchmarks/grid.py
	$(BIN)/python benchmarks/reasons.py
	$(BIN)/python benchmarks/edits.py
	$(BIN)/python benchmarks/agreement.py tests/corpus/levels.c tests/corpus/tide.c tests/corpus/gate.c
	$(BIN)/python benchmarks/diffing.py
	$(BIN)/python benchmarks/facts.py
	$(BIN)/python benchmarks/stepping.py
	$(BIN)/python benchmarks/tracing.py
	$(BIN)/python benchmarks/launching.py
	$(BIN)/python benchmarks/inspecting.py
	$(BIN)/python benchmarks/checking.py
	$(BIN)/python benchmarks/page.py
	$(BIN)/python benchmarks/narrowing.py
	$(BIN)/python benchmarks/helping.py
	$(BIN)/python benchmarks/fleet.py
	$(BIN)/python benchmarks/fleet_plan.py
	$(BIN)/python benchmarks/trials.py

.venv/bin/python:
	sh tools/make_venv.sh "$(PYTHON)" .venv

.venv/.installed: .venv/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

.venv/.installed-test: .venv/.installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[test]'
	touch $@

clean:
	rm -rf .venv build .mypy_cache .ruff_cache .pytest_cache .hypothesis
