# Obitus. `make` alone lists the targets.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
BIN := .venv/bin
PROXIES := build/proxies/ready
TELEMETRY_JS := tests/service/telemetry_js/node_modules/ready
CONSOLE := src/obitus/service/console_files/index.html
PAGE_CLIENT := src/obitus/service/browser_files/browser.js
PAGE_CLIENT_SOURCES := $(shell find browser/src -type f 2>/dev/null) $(wildcard browser/*.config.ts)
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/svelte.config.js
# What core and store do by themselves, and how much of them these tests have to run, in percent.
UNITS := tests/core tests/store
COVERED := --cov=obitus.core --cov=obitus.store --cov-report= --cov-fail-under=84
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
# One at a time: what is installed for one target must not meet what is installed for another.
INSTALL := $(SUDO) flock /tmp/obitus-packages sh -c 'apt-get update -qq && apt-get install -y -qq "$$@" >/dev/null' install

# Where nothing compiled may be kept, each of some thousand processes compiles all that it imports, and each worker all tests.
unexport PYTHONDONTWRITEBYTECODE

.DEFAULT_GOAL := help
.PHONY: help setup docs demo test tested-first quick quick-tests lint lint-python lint-console console-tests bench bench-grouping bench-releases bench-hiding endure fuzz matrix redis shots demo-reports describe lock wheel page-package chromium clean

help: ## List the targets
	@grep -E '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 18

setup: .venv/ready $(CONSOLE) $(PAGE_CLIENT) ## Install everything and build the console

demo: setup ## Run the service with the ferry line's two weeks in it, and print one link
	@$(BIN)/obitus demo

test: ## Run linters and all tests
	@$(MAKE) --no-print-directory -j2 -Otarget tested-first
	@$(BIN)/python -m pytest $(UNITS) $(COVERED)
	@$(BIN)/python -m pytest tests $(UNITS:%=--ignore=%)

tested-first: setup chromium redis lint console-tests $(TELEMETRY_JS) $(PROXIES) .venv/compiled
	@$(BIN)/python -m tests.client.interpreters

quick: setup ## Run linters, and the tests of core and store with few examples each: a minute
	@$(MAKE) --no-print-directory -j2 -Otarget quick-tests lint

quick-tests: setup
	@$(BIN)/python -m pytest $(UNITS) -n 2 -m "not slow and not long" --hypothesis-profile=quick

lint: lint-python lint-console ## Check style, types and who imports whom: ruff, mypy, import-linter, svelte-check, eslint, prettier

lint-python: .venv/ready
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check -q .
	@$(BIN)/mypy
	@mkdir -p build; $(BIN)/lint-imports --no-cache --no-logo > build/imports.txt || (cat build/imports.txt; false)

lint-console: $(CONSOLE)
	@mkdir -p build; cd console && (npm run -s check && npm run -s lint && npx --no-install tsc -p ../browser/tsconfig.json && npx --no-install prettier --config .prettierrc.json --check --log-level warn ../browser/src ../browser/*.ts ../browser/*.js) > ../build/console-check.txt 2>&1 || (cat ../build/console-check.txt; false)

console-tests: $(CONSOLE)
	@mkdir -p build; cd console && npm run -s test > ../build/console-tests.txt 2>&1 || (cat ../build/console-tests.txt; false)

page-package: $(PAGE_CLIENT) ## Build the npm package of the client for pages, in build/
	@rm -rf build/page-package && mkdir -p build/page-package
	@cp browser/package.json browser/vite-plugin.js src/obitus/service/browser_files/obitus.js build/page-package/
	@cd console && npx --no-install tsc -p ../browser/tsconfig.json --noEmit false --declaration --emitDeclarationOnly --outDir ../build/page-package/types
	@cd build/page-package && npm pack --silent --pack-destination ..

bench-grouping: setup ## Measure how well failures are grouped, on planted faults
	@$(BIN)/python -m bench.grouping

bench-releases: setup ## Measure verdicts, rates and likely changes, on streams and repositories whose truth is known
	@$(BIN)/python -m bench.releases

bench-hiding: setup ## Measure how many planted secrets are hidden, and how much is hidden for nothing
	@$(BIN)/python -m bench.hiding

matrix: setup redis ## Drive other people's frameworks, servers and job runners, and write the table in docs/capture.md
	@rm -rf build/matrix && mkdir -p build/matrix
	@OBITUS_MATRIX=$(CURDIR)/build/matrix $(BIN)/python -m pytest tests/client/places tests/client/test_celery.py
	@$(BIN)/python docs/make_matrix.py build/matrix

endure: setup ## Let everything that strangers and broken senders do at a service, for SECONDS (60), and print one table
	@$(BIN)/python -m bench.endure $(SECONDS)

docs: setup ## Build the docs as a site in build/site, every link checked
	@[ -x build/docs/bin/mkdocs ] || (mkdir -p build && $(PYTHON) -m venv build/docs && build/docs/bin/pip install -qq --disable-pip-version-check --require-hashes -r requirements/docs.txt)
	@build/docs/bin/mkdocs -q build

fuzz: setup ## Drive every parser with inputs that a fuzzer makes, each for SECONDS (60); on Linux with Python 3.11
	@$(BIN)/pip install -qq --disable-pip-version-check --require-hashes -r requirements/fuzz.txt
	@$(BIN)/python -m bench.fuzz $(SECONDS)

bench: setup ## Measure speed, as ratios against floors taken in the same run
	@$(BIN)/python -m bench

shots: setup chromium ## Take the pictures in docs/screenshots again
	@$(BIN)/python docs/make_shots.py

demo-reports: setup chromium ## Record again what the demo's apps report, after a change to them, the story or the client
	@$(BIN)/python -m obitus.demo.recording
	@$(BIN)/python -m obitus.demo.pier_recording

describe: .venv/ready ## Write the OpenAPI description, the console's types and the generated docs again
	@$(BIN)/python -m obitus.service.describe .
	@cd console && npm run -s types
	@$(BIN)/python docs/make_docs.py

wheel: setup ## Build the wheels of client, command line and server, and the source distribution
	@rm -rf build/whole dist
	@$(BIN)/python -m hatchling build -t wheel -d build/whole >/dev/null
	@$(BIN)/python deploy/make_wheels.py build/whole/*.whl dist
	@$(BIN)/python -m hatchling build -t sdist -d dist >/dev/null

lock: ## Pin the Python dependencies again
	@$(PYTHON) -m venv build/uv && build/uv/bin/pip install -q uv
	@build/uv/bin/uv pip compile -q --upgrade --universal --python-version 3.11 --generate-hashes --no-emit-index-url \
	  --no-emit-find-links --no-header --no-annotate requirements/installer.in -o requirements/installer.txt
	@build/uv/bin/uv pip compile -q --upgrade --universal --python-version 3.11 --generate-hashes --no-emit-index-url \
	  --no-emit-find-links --no-header --no-annotate --extra cli --extra server pyproject.toml requirements/build.in -o requirements/server.txt
	@build/uv/bin/uv pip compile -q --upgrade --universal --python-version 3.11 --generate-hashes --no-emit-index-url \
	  --no-emit-find-links --no-header --no-annotate --extra cli --extra server -c requirements/server.txt \
	  pyproject.toml requirements/build.in requirements/test.in -o requirements/dev.txt

redis:
	@command -v redis-server >/dev/null || $(INSTALL) redis-server

# Unpacked, not installed: a proxy that starts by itself on this machine is nothing that tests should leave behind.
$(PROXIES):
	@mkdir -p build/proxies
	@cd build/proxies && $(SUDO) flock /tmp/obitus-packages sh -c 'apt-get update -qq && apt-get download -qq -o APT::Sandbox::User=root nginx caddy' && for one in *.deb; do dpkg -x "$$one" . || exit 1; done && rm -f *.deb
	@touch $@

chromium:
	@[ -x /usr/bin/chromium ] || $(INSTALL) chromium

$(PAGE_CLIENT): console/node_modules/ready $(PAGE_CLIENT_SOURCES)
	@mkdir -p build; cd console && (for one in vite vite.module vite.sketch; do npx --no-install vite build --config ../browser/$$one.config.ts --logLevel warn || exit 1; done) > ../build/browser-build.txt 2>&1 || (cat ../build/browser-build.txt; false)

clean: ## Remove what was built and installed
	@rm -rf .venv build dist console/node_modules src/obitus/service/console_files src/obitus/service/browser_files

.venv/ready: requirements/dev.txt requirements/installer.txt pyproject.toml
	@$(PYTHON) -c 'import ensurepip' 2>/dev/null || $(INSTALL) python3-venv
	@echo "Installing Python packages …"
	@$(PYTHON) -m venv .venv
	@$(BIN)/pip install -qq --disable-pip-version-check --no-compile --require-hashes -r requirements/installer.txt
# A tenth of the time that pip takes; where it finds no index, pip may.
	@UV_HTTP_TIMEOUT=60 $(BIN)/uv pip install -q --python $(BIN)/python --require-hashes -r requirements/dev.txt 2>/dev/null || $(BIN)/pip install -qq --disable-pip-version-check --no-compile --require-hashes -r requirements/dev.txt
	@$(BIN)/pip install -qq --disable-pip-version-check --no-deps --no-build-isolation -e .
	@$(BIN)/python -m compileall -q src
	@touch $@

# Programs that tests watch keep nothing compiled: each of some hundreds would compile the framework that it imports. Left out is what none of them imports.
.venv/compiled: .venv/ready
	@$(BIN)/python -m compileall -q -j 2 -x '/(scipy|numpy|faker|IPython|mypy|mypyc|jedi|pygments|wcwidth|setuptools|virtualenv|pip|tests?)/' .venv/lib >/dev/null 2>&1 || true
	@touch $@

console/node_modules/ready: console/package-lock.json console/package.json
	@echo "Installing the console's packages …"
	@cd console && npm ci --loglevel error
	@touch $@

$(TELEMETRY_JS): tests/service/telemetry_js/package-lock.json
	@cd tests/service/telemetry_js && npm ci --loglevel error
	@touch $@

$(CONSOLE): console/node_modules/ready $(CONSOLE_SOURCES)
	@echo "Building the console …"
	@mkdir -p build; cd console && npm run -s build -- --logLevel warn > ../build/console-build.txt 2>&1 || (cat ../build/console-build.txt; false)
