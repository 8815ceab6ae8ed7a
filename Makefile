# `make demo` and `make test` set up everything in .venv.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test guide lint types layers docs bench bench-accuracy bench-cluster bench-loop bench-real torture screenshots pictures reference clean

demo: .venv/ready
	rm -rf saltmarsh-quay
	$(BIN)/barn-owl demo saltmarsh-quay

# Workers have one thread each: more would wait for each other in the linear algebra. Three keep two cores busy, as
# some tests wait for a browser, a signal or sound that is played. The many processes that tests start need not compile
# the package anew, even where compiled modules are not kept otherwise.
TEST_WITH := PYTHONDONTWRITEBYTECODE= OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1

test: .venv/ready-dev
	$(TEST_WITH) $(BIN)/pytest -n 3 --dist loadfile

# All commands of the guide and the README, copied out of their text and run in order.
guide: .venv/ready-dev
	$(TEST_WITH) $(BIN)/pytest -n 2 -m guide tests/test_guide.py

lint: .venv/ready-dev
	$(BIN)/ruff format --check .
	$(BIN)/ruff check .

types: .venv/ready-dev
	$(BIN)/mypy

layers: .venv/ready-dev
	$(BIN)/lint-imports

# A site that opens from disk: site/index.html. A dead link, or a page that is not in the menu, fails.
docs: .venv/ready-dev
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet

bench: .venv/ready-dev
	for script in start_up features clips training_step judging tagging compact annotating whole_job; do \
		$(BIN)/python benchmarks/$$script.py || exit 1; done

bench-accuracy: .venv/ready-dev
	$(BIN)/python benchmarks/classifiers.py
	$(BIN)/python benchmarks/learning_curves.py

# Scheduler and workers as processes of this machine; half an hour.
bench-cluster: .venv/ready-dev
	test -d saltmarsh-quay || $(BIN)/barn-owl demo
	$(BIN)/python benchmarks/cluster.py saltmarsh-quay/run
	$(BIN)/python benchmarks/scale.py

bench-loop: .venv/ready-dev
	test -d saltmarsh-quay || $(BIN)/barn-owl demo
	$(BIN)/python benchmarks/loop.py saltmarsh-quay

# Damaged inputs, kills, a full disk; an hour. The tests run a short form.
torture: .venv/ready-dev
	$(BIN)/python tests/torture.py

# Two real problems, set up beside the repository; says so where they are not there.
bench-real: .venv/ready-dev
	$(BIN)/python benchmarks/real/judge.py

screenshots: .venv/ready-dev
	$(BIN)/python docs/screenshots/take.py

# How it works, drawn from the demo.
pictures: .venv/ready-dev
	test -d saltmarsh-quay/run || $(MAKE) demo
	$(BIN)/python docs/pictures.py saltmarsh-quay

# Pages of the reference from the code, and measured figures from one file (docs/figures.toml).
reference: .venv/ready-dev
	$(BIN)/python docs/reference/generate.py
	$(BIN)/python docs/figures.py

clean:
	rm -rf .venv saltmarsh-quay

.venv/bin/python:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
	  { echo "Python 3.11 or newer is needed; say which with: make PYTHON=python3.12 ..."; exit 1; }
	$(PYTHON) -m venv .venv

.venv/ready: .venv/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

.venv/ready-dev: .venv/ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade "pip>=25.1"
	$(BIN)/python -m pip install --quiet --group dev
	touch $@
