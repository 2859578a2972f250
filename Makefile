# Two commands: `make demo` and `make test`. Each sets up what is missing.
PYTHON ?= python3
BIN := .venv/bin
PORT ?= 8787
JOBS ?= auto
WEB_SOURCES := $(shell find web/src web/index.html web/vite.config.ts web/package-lock.json -type f -not -name schema.d.ts)
PAGES := src/salt_anvil/web/index.html

.PHONY: demo test lint unit browser-test test-long setup browser kernels bench screenshots clean

demo: .venv/ready $(PAGES)
	@$(BIN)/salt-anvil serve --demo --data data --port $(PORT)

test: lint browser kernels
	$(BIN)/python -m pytest -n $(JOBS)

lint: .venv/ready $(PAGES)
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/ruff check src tests bench tools
	$(BIN)/mypy
	cd web && npm run -s lint && npm run -s check && npm run -s test

unit: .venv/ready $(PAGES) kernels
	$(BIN)/python -m pytest -n $(JOBS) -m "not browser"

browser-test: .venv/ready $(PAGES) browser kernels
	$(BIN)/python -m pytest -m browser

# Every rate, hundreds of random sessions and files: what the short run takes a sample of.
test-long: .venv/ready $(PAGES) browser kernels
	SALT_ANVIL_LONG=1 $(BIN)/python -m pytest -n $(JOBS)

kernels: .venv/ready
	@$(BIN)/salt-anvil compile

bench: .venv/ready
	$(BIN)/python bench/kernels.py
	$(BIN)/python -m bench.routing
	$(BIN)/salt-anvil speed

setup: .venv/ready $(PAGES)

.venv/ready: requirements.lock pyproject.toml
	@$(PYTHON) -m venv .venv || { echo "python3-venv is needed: apt install python3-venv"; exit 1; }
	$(BIN)/pip install -q --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install -q --disable-pip-version-check --no-deps -e .
	@touch $@

web/node_modules/ready: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(PAGES): .venv/ready web/node_modules/ready $(WEB_SOURCES) $(wildcard src/salt_anvil/api/*.py src/salt_anvil/live/messages.py src/salt_anvil/core/*.py)
	@mkdir -p web/build
	$(BIN)/python -m salt_anvil.api.schema > web/build/openapi.json
	cd web && npm run -s types && npm run -s build
	@touch $@

browser:
	@sh tools/chromium.sh

screenshots: .venv/ready $(PAGES) browser
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf .venv web/node_modules web/build src/salt_anvil/web data
