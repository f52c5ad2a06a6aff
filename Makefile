PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
BENCHES := $(filter-out bench/short.py bench/spans.py,$(wildcard bench/*.py))

.PHONY: demo test quick docs lint bench bench-short cuts simulate week exhaust machines mutants night clean locked lock outdated

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

# Exactly the files that CI ran, by their digests: nothing is installed that requirements.lock does not name.
locked: requirements.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	touch $(VENV)/.base $(VENV)/.test $(VENV)/.lint

# The digests of the versions in constraints.txt, as the registry has them now; look at what changes before keeping it.
lock:
	$(PYTHON) -m venv $(VENV)-lock
	$(VENV)-lock/bin/python -m pip install --quiet --disable-pip-version-check pip-tools
	grep -v '^#' constraints.txt > $(VENV)-lock/pins.in
	$(VENV)-lock/bin/pip-compile --quiet --generate-hashes --allow-unsafe --strip-extras --no-annotate --no-header \
	  --no-emit-index-url --no-emit-find-links --output-file $(VENV)-lock/lock $(VENV)-lock/pins.in
	( sed -n '/^#/p' requirements.lock; sed -n '/^[^#-]/p' $(VENV)-lock/lock ) > $(VENV)-lock/new
	mv $(VENV)-lock/new requirements.lock && rm -rf $(VENV)-lock

# Newer versions of what constraints.txt pins; for a look now and then, it changes nothing.
outdated: $(VENV)/.lint
	$(BIN)/python -m pip list --outdated

demo: $(VENV)/.base
	$(BIN)/gallant demo

test: $(VENV)/.test
	$(BIN)/python -m pytest -m alone
	$(BIN)/python -m pytest -m "not alone and not long and not machines" -n 2 --dist worksteal

# Core, engine, and one pass of the built program: for between two edits. The nights that are killed at every position one
# after the other are for make test; here kills are drawn by chance.
quick: $(VENV)/.test
	$(BIN)/python -m pytest -n 2 -k "not killed_anywhere and not killed_at_any_instant and not breaks_a_promise" tests/core tests/engine tests/simulation \
	  tests/cli/test_commands.py::test_the_way_from_survey_to_plan_says_at_each_step_what_comes_next

# What is made from the code: the reference of estate.yaml, the index of messages, and what each command lists.
docs: $(VENV)/.base
	$(BIN)/python -m gallant.core.estate.reference > docs/estate.md
	$(BIN)/python docs/make_errors.py > docs/errors.md
	$(BIN)/python docs/make_formats.py

lint: $(VENV)/.lint
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	PYTHONPATH=src $(BIN)/lint-imports --no-cache

# Processes killed at random moments, a hundred times each of backups and fetches; some minutes.
cuts: $(VENV)/.test
	GALLANT_CUTS=100 $(BIN)/python -m pytest -k "power_cut or killed_anywhere" tests/vault tests/stock

# Nights by the thousand, drawn from seeds; a seed that breaks a promise is printed, and made as small as it goes.
RUNS ?= 500
SEED ?= 1
simulate: $(VENV)/.test
	$(BIN)/python -m tests.simulation.dice --runs $(RUNS) --seed $(SEED) --jobs 2
	PYTHONHASHSEED=1 $(BIN)/python -m tests.simulation.dice --runs 20 --seed 7000 --journals > $(VENV)/journals
	PYTHONHASHSEED=4242 $(BIN)/python -m tests.simulation.dice --runs 20 --seed 7000 --journals | cmp - $(VENV)/journals

# Weeks of bookings, drawn from seeds; two thousand are twenty minutes on two cores.
week: RUNS = 100
week: $(VENV)/.test
	$(BIN)/python -m tests.simulation.week --runs $(RUNS) --seed $(SEED) --jobs 2

# All of three small worlds: every fault at every order with a kill after every entry, and every two faults; twenty minutes on two cores, or a
# piece of it.
PIECES ?= 1
PIECE ?= 0
exhaust: $(VENV)/.test
	$(BIN)/python -m tests.simulation.exhaust --pieces $(PIECES) --piece $(PIECE) --jobs 2

# The engine, the order, plans and guards broken one by one; two hours. What lives is listed.
mutants: $(VENV)/.test
	$(BIN)/python -m tests.mutants

# Hosts that really boot, restart and lose their power, a pair of databases and a quorum on them; ten minutes. Needs root.
machines: $(VENV)/.test
	$(BIN)/python -m pytest -m machines

# The whole line in one night, as the demo has it, and a tenth of what make exhaust has; ten minutes.
night: $(VENV)/.test
	$(BIN)/python -m pytest -m long

bench: $(VENV)/.test
	for script in $(BENCHES); do echo "== $$script"; $(BIN)/python $$script || exit 1; done

# Every script once, only as large as shows that it still runs.
bench-short: $(VENV)/.test
	for script in $(BENCHES); do echo "== $$script"; $(BIN)/python $$script --short || exit 1; done

clean:
	rm -rf $(VENV) skerry-line
