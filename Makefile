PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint bench cuts clean

# Each stamp says which extras are in the environment; a changed pyproject or constraints file makes it anew.
$(VENV)/.base: pyproject.toml constraints.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e .
	touch $@

$(VENV)/.test: $(VENV)/.base
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test]'
	touch $@

$(VENV)/.lint: $(VENV)/.test
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test,lint]'
	touch $@

demo: $(VENV)/.base
	$(BIN)/gallant demo

test: $(VENV)/.test
	$(BIN)/python -m pytest -m alone
	$(BIN)/python -m pytest -m "not alone" -n 2 --dist worksteal

lint: $(VENV)/.lint
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	PYTHONPATH=src $(BIN)/lint-imports --no-cache

# Processes killed at random moments, a hundred times each of backups and fetches; some minutes.
cuts: $(VENV)/.test
	GALLANT_CUTS=100 $(BIN)/python -m pytest -k "power_cut or killed_anywhere" tests/vault tests/stock

bench: $(VENV)/.test
	for script in bench/*.py; do echo "== $$script"; $(BIN)/python $$script || exit 1; done

clean:
	rm -rf $(VENV) skerry-line
