# Two commands: `make demo` and `make test`. Each sets up what is missing.
PYTHON ?= python3
BIN := .venv/bin
PORT ?= 8787
JOBS ?= auto
WEB_SOURCES := $(shell find web/src web/index.html web/vite.config.ts web/package-lock.json -type f -not -name schema.d.ts)
PAGES := src/salt_anvil/web/index.html
TYPES := web/src/lib/schema.d.ts
PIP := $(BIN)/pip install -q --disable-pip-version-check --no-deps --no-compile

# Some machines forbid it: then every process compiles some 600 modules anew, two seconds each.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test lint unit browser-test test-long setup browser kernels bench screenshots clean

# What is needed is fetched beside each other.
demo:
	@$(MAKE) -s -j2 setup
	@$(BIN)/salt-anvil serve --demo --data data --port $(PORT)

test:
	@$(MAKE) -j2 -Otarget lint $(PAGES) browser kernels
	$(BIN)/python -m pytest -n $(JOBS)

lint: .venv/tools $(TYPES)
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/ruff check src tests bench tools
	$(BIN)/mypy
	cd web && npm run -s lint && npm run -s check && npm run -s test

unit: .venv/tools $(PAGES) kernels
	$(BIN)/python -m pytest -n $(JOBS) -m "not browser"

browser-test: .venv/tools $(PAGES) browser kernels
	$(BIN)/python -m pytest -m browser

# Every rate, hundreds of random sessions and files: what the short run takes a sample of.
test-long: .venv/tools $(PAGES) browser kernels
	SALT_ANVIL_LONG=1 $(BIN)/python -m pytest -n $(JOBS)

kernels: .venv/ready
	@$(BIN)/salt-anvil compile

bench: .venv/tools
	$(BIN)/python bench/kernels.py
	$(BIN)/python -m bench.routing
	$(BIN)/salt-anvil speed

setup: .venv/ready $(PAGES)

.venv/ready: requirements.lock pyproject.toml
	@$(PYTHON) -m venv .venv || { echo "python3-venv is needed: apt install python3-venv"; exit 1; }
	$(PIP) -r requirements.lock
	$(PIP) -e .
	@touch $@

.venv/tools: .venv/ready requirements-dev.lock
	$(PIP) -r requirements-dev.lock
	@touch $@

web/node_modules/ready: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(PAGES): web/node_modules/ready $(WEB_SOURCES)
	cd web && npm run -s build
	@touch $@

# Only checking needs the types; the build takes them out.
$(TYPES): .venv/ready web/node_modules/ready $(shell find src/salt_anvil -name "*.py")
	@mkdir -p web/build
	$(BIN)/python -m salt_anvil.api.schema > web/build/openapi.json
	cd web && npm run -s types
	@touch $@

browser:
	@sh tools/chromium.sh

screenshots: .venv/tools $(PAGES) browser
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf .venv web/node_modules web/build src/salt_anvil/web data
