# make demo  sets everything up and starts the application with demo data.
# make test  sets everything up and runs every check.
# Both can be repeated at any time; what is in place already is left alone.

PORT ?= 8017
VENV := .venv
BIN := $(VENV)/bin
export YELLOWJACKET_HOME ?= $(CURDIR)/.demo
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo demo-reset serve test tools-for-tests bench css screenshots lock dist clean

demo: $(VENV)/.base
	@exec $(BIN)/yellowjacket demo --port $(PORT)

demo-reset:
	@sh tools/forget-demo.sh "$(YELLOWJACKET_HOME)"
	@$(MAKE) --no-print-directory demo

serve: $(VENV)/.base
	@exec $(BIN)/yellowjacket serve --port $(PORT)

# Python's packages, those of npm and Debian's do not wait for each other.
test:
	@$(MAKE) --no-print-directory -j3 $(VENV)/.test node_modules/.installed tools-for-tests
	@sh tools/check.sh

tools-for-tests:
	@sh tools/ensure.sh tests

bench: $(VENV)/.base
	@$(BIN)/yellowjacket bench

# A wheel and a source archive in dist/, for others to install with pip or pipx.
dist: $(VENV)/.base
	@rm -rf dist
	@$(BIN)/python -m build --no-isolation
	@ls -l dist

# The stylesheet is built from source and committed; `make test` checks that it is current.
css: node_modules/.installed
	@npm run --silent vendor
	@npm run --silent build

# Needs a running `make demo`.
screenshots: $(VENV)/.test
	@$(BIN)/python tools/screenshots.py http://127.0.0.1:$(PORT)

# New versions of everything, with hashes and without the name of any package host.
lock: $(VENV)/.test
	@sh tools/lock.sh

clean:
	rm -rf $(VENV) node_modules

$(VENV)/.base: requirements/build.txt requirements/base.txt pyproject.toml
	@sh tools/environment.sh $(VENV) requirements/base.txt
	@touch $@

# What tests need includes what the application needs.
$(VENV)/.test: requirements/build.txt requirements/test.txt pyproject.toml
	@sh tools/environment.sh $(VENV) requirements/test.txt
	@touch $(VENV)/.base $@

node_modules/.installed: package.json package-lock.json
	@sh tools/ensure.sh npm
	@npm ci --silent --ignore-scripts
	@touch $@
