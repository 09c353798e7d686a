# Two words start Apilado: make demo. The environment is made on the way.
VENV := .venv
PYTHON := $(VENV)/bin/python
STAMP := $(VENV)/.ready
DEV_STAMP := $(VENV)/.ready-dev
DATA ?= data
VENDOR := apilado/web/static/vendor

.PHONY: demo serve test sweep lint format bench vendor screenshots clean

demo: $(STAMP)
	$(VENV)/bin/apilado demo --data $(DATA)

serve: $(STAMP)
	$(VENV)/bin/apilado serve --data $(DATA)

# Kernels are compiled here, once, so that the first start is as quick as the next.
$(STAMP): requirements.txt pyproject.toml
	test -x $(PYTHON) || python3 -m venv $(VENV)
	$(VENV)/bin/pip install --quiet --disable-pip-version-check -r requirements.txt
	$(VENV)/bin/pip install --quiet --disable-pip-version-check --no-deps -e .
	@echo "Compiling the kernels (once)"
	$(VENV)/bin/apilado prepare
	@touch $@

$(DEV_STAMP): requirements-dev.txt $(STAMP)
	$(VENV)/bin/pip install --quiet --disable-pip-version-check -r requirements-dev.txt
	@touch $@

test: $(DEV_STAMP)
	tests/install-chromium
	$(PYTHON) -W error -m tests

# What holds for random stacks, on ten times as many of them as the suite takes.
sweep: $(DEV_STAMP)
	APILADO_SEEDS=10 $(PYTHON) -W error -m tests tests.seeded

lint: $(DEV_STAMP)
	$(VENV)/bin/ruff check .
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/mypy
	$(VENV)/bin/lint-imports

format: $(DEV_STAMP)
	$(VENV)/bin/ruff check --fix .
	$(VENV)/bin/ruff format .

bench: $(DEV_STAMP)
	$(VENV)/bin/apilado bench

screenshots: $(DEV_STAMP)
	tests/install-chromium
	$(PYTHON) -m tests.browser.screenshots docs/screenshots

vendor:
	npm install --ignore-scripts --no-audit --no-fund
	mkdir -p $(VENDOR)
	cp node_modules/bootstrap/dist/css/bootstrap.min.css node_modules/htmx.org/dist/htmx.min.js $(VENDOR)/
	cp node_modules/bootstrap/LICENSE $(VENDOR)/bootstrap.LICENSE.txt
	cp node_modules/htmx.org/LICENSE $(VENDOR)/htmx.LICENSE.txt
	cp node_modules/@fontsource/ibm-plex-sans/LICENSE $(VENDOR)/ibm-plex.LICENSE.txt
	for face in ibm-plex-sans-condensed ibm-plex-sans ibm-plex-mono; do \
	  for weight in 400 600; do cp node_modules/@fontsource/$$face/files/$$face-latin-$$weight-normal.woff2 apilado/web/static/fonts/; done; done
	mkdir -p tests/browser/vendor
	cp node_modules/axe-core/axe.min.js tests/browser/vendor/
	cp node_modules/axe-core/LICENSE tests/browser/vendor/axe.LICENSE.txt

clean:
	rm -rf $(VENV) node_modules build *.egg-info
