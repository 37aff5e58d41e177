# make demo: install and run the full example.   make test: install and run every test.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
INSTALLED := $(VENV)/.installed

.PHONY: demo test lint clean hooks

demo: $(INSTALLED)
	$(BIN)/bloodroot demo
	@echo
	$(BIN)/bloodroot demo --faulty

test: $(INSTALLED)
	scripts/system-packages
	scripts/node-packages
	$(BIN)/python -m tests

lint: $(INSTALLED)
	$(BIN)/ruff check src tests benchmarks docs editors
	$(BIN)/ruff format --check src tests benchmarks docs editors
	$(BIN)/mypy src tests
	cd benchmarks && MYPYPATH=../src ../$(BIN)/mypy --config-file ../pyproject.toml *.py

$(INSTALLED): pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[demo,test]'
	touch $@

clean:
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .hypothesis

hooks:
	printf '#!/bin/sh\nexec make --silent lint\n' > .git/hooks/pre-commit
	chmod +x .git/hooks/pre-commit
