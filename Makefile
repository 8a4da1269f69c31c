# `make demo` and `make test` are all a newcomer needs; both set everything up first.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: install demo test setup lint wheel lock mutants bench proof fuzz gallery audits sweep siege screenshots clean

install: setup
	@$(BIN)/swift-sample desktop install

demo: setup
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then $(BIN)/swift-sample demo; else $(BIN)/swift-sample demo --headless; fi

test: setup
	$(BIN)/python -m pytest -n auto --dist worksteal

setup:
	@sh scripts/setup.sh "$(PYTHON)" "$(VENV)"

lint: setup
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy
	$(BIN)/lint-imports

wheel: setup
	@sh scripts/check_wheel.sh "$(BIN)/python"

lock:
	@sh scripts/lock.sh "$(PYTHON)"

mutants: setup
	@sh scripts/mutants.sh "$(BIN)/python" $(ONLY)

bench: setup
	$(BIN)/python -m pip install -q --disable-pip-version-check -e '.[bench]'
	$(BIN)/python -m benchmarks

proof: setup
	$(BIN)/python -m tests.core.renderers.builtin.kernels.closed_forms
	$(BIN)/python -m tests.core.measure.injected

fuzz: setup
	SWIFT_SAMPLE_FUZZ=$${SWIFT_SAMPLE_FUZZ:-20} $(BIN)/python -m pytest -m hypothesis

gallery: setup
	$(BIN)/python scripts/gallery.py

audits: setup
	$(BIN)/python scripts/audits.py

sweep: setup
	$(BIN)/python scripts/sweep_settings.py

siege: setup
	$(BIN)/python -m siege --minutes $(or $(MINUTES),60)

screenshots: setup
	$(BIN)/python scripts/screenshots.py

clean:
	rm -rf $(VENV) build
