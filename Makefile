# Two commands do everything: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
PEERS := $(VENV)/.peers
DEMO ?= demo-out
export QT_LOGGING_RULES = qt.qpa.*=false
unexport PYTHONDONTWRITEBYTECODE  # Programs are started hundreds of times: a third of a second each.

.PHONY: demo test check bench wheel pictures docs clean

$(READY): pyproject.toml setup/system_libraries.py
	@$(PYTHON) setup/system_libraries.py
	@test -x $(BIN)/python && $(BIN)/python -m pip --version >/dev/null 2>&1 || $(PYTHON) -m venv --clear $(VENV) \
	  || { echo "Python cannot make a virtual environment. Please run: sudo apt-get install python3-venv" >&2; exit 1; }
	@echo "installing Python packages (once)"
	@$(BIN)/python -m pip install -q --disable-pip-version-check -e '.[dev]'
	@touch $@

demo: $(READY)
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then \
	  $(BIN)/yaffle demo --to $(DEMO) >/dev/null && $(BIN)/yaffle open $(DEMO)/*.pcapng; \
	else $(BIN)/yaffle demo --to $(DEMO) --run; fi

$(PEERS): setup/test_peers.py | $(READY)
	@$(PYTHON) setup/test_peers.py $(VENV)/peers
	@touch $@

# What is compiled once is compiled while types are checked, not by each of the tests that meet it first.
test: $(READY) $(PEERS)
	@$(BIN)/python -m yaffle.warm_up & $(MAKE) -s check; checked=$$?; wait $$! && exit $$checked
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -m "not alone"
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -m alone -n 0 --reruns 4 --only-rerun AssertionError

check: $(READY)
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check -q . || { echo "run: $(BIN)/ruff format ." >&2; exit 1; }
	@$(BIN)/mypy
	@$(BIN)/lint-imports

bench: $(READY)
	@$(BIN)/python -m benchmarks.first_answer
	@$(BIN)/python -m benchmarks.engine
	@$(BIN)/python -m benchmarks.desktop
	@$(BIN)/python -m benchmarks.services
	@$(BIN)/python -m benchmarks.tiers
	@$(BIN)/python -m benchmarks.following
	@$(BIN)/python -m benchmarks.cluster
	@$(BIN)/python -m benchmarks.records
	@$(BIN)/python -m benchmarks.history
	@$(BIN)/python -m benchmarks.capture
	@$(BIN)/python -m benchmarks.path
	@$(BIN)/python -m benchmarks.path bench-data 10
	@$(BIN)/python -m benchmarks.inside
	@$(BIN)/python -m benchmarks.watches
	@$(BIN)/python -m benchmarks.false_alarms
	@$(BIN)/python -m benchmarks.player

wheel: $(READY)
	@rm -rf build src/yaffle/compiled dist && YAFFLE_CACHE_DIR=build/kernels $(BIN)/python -m yaffle.warm_up
	@mkdir -p src/yaffle/compiled && for d in build/kernels/kernels-*; do mv $$d src/yaffle/compiled/$${d##*-}; done
	@$(BIN)/python -m pip wheel -q --disable-pip-version-check --no-deps -w dist . ; s=$$?; rm -rf build src/yaffle/compiled; exit $$s
	@ls dist

# What they show of places is of no machine: the folder is told from the home.
pictures: DEMO := $(HOME)/harbourline
pictures: $(READY)
	@$(BIN)/yaffle demo --to $(DEMO) --run && cp $(DEMO)/*.png docs/screenshots/

docs: $(READY)
	@$(BIN)/mkdocs build -q --strict && echo build/site/index.html

clean:
	rm -rf $(VENV) $(DEMO) bench-data build dist src/yaffle/compiled
