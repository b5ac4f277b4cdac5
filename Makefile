# make demo · make test · make quick · make bench · make faults · make fuzz · make soak · make kills · make screenshots · make proof · make setup
# As root on Debian each installs what it needs; without root it says what is missing.
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin

demo: setup
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then $(BIN)/combe demo; else $(BIN)/combe demo --headless --out demo-out; fi

test: setup
	$(BIN)/python tools/check.py

bench: setup
	$(BIN)/python tools/bench.py

screenshots: setup
	$(BIN)/python tools/screenshots.py

proof:
	@PYTHON="$(PYTHON)" bash tools/setup.sh all
	$(BIN)/python tools/long_proof.py
	COMBE_CAMPAIGN=1 $(BIN)/python tests/run.py
	$(BIN)/python tools/claims.py

quick: setup
	$(BIN)/python tests/run.py --quick

fuzz: setup
	$(BIN)/python tools/fuzz.py

kills: setup
	$(BIN)/python tools/kills.py

soak: setup
	$(BIN)/python tools/soak.py

faults: setup
	$(BIN)/python tools/faults.py

setup:
	@PYTHON="$(PYTHON)" bash tools/setup.sh

clean:
	rm -rf $(VENV) demo-out build *.egg-info

.PHONY: demo test quick bench faults fuzz soak kills screenshots proof setup clean
