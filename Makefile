.PHONY: help demo test check types console-types form console-form console-units fuzz soak cluster truth bench format api lock console dist clean

help: ## this list
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | awk -F ':.*## ' '{printf "make %-8s %s\n", $$1, $$2}'

demo: ## everything for a first look: installs, builds, starts, says where to look
	@tools/setup run
	@exec .venv/bin/jamb-demo

test: ## everything that must hold: checks and tests, with their own database and port
	@tools/setup test
	@$(MAKE) --no-print-directory check
	.venv/bin/pytest

check: ## format, lint, types and import contracts; the same of the console, and its units
	@$(MAKE) --no-print-directory -j2 -O types console-types form console-form console-units

types:
	.venv/bin/mypy

console-types:
	cd console && npx --no-install vue-tsc --noEmit

form:
	.venv/bin/ruff format --check src tests benchmarks
	.venv/bin/ruff check src tests benchmarks
	.venv/bin/lint-imports --no-logo

console-form:
	cd console && npm run --silent lint

console-units:
	cd console && npx --no-install vitest run

fuzz: ## properties of the core, and requests of every kind, drawn anew; EXAMPLES=1000 for a night
	@tools/setup test
	JAMB_EXAMPLES=$(or $(EXAMPLES),100) .venv/bin/pytest -n 2 --timeout=0 tests/core
	.venv/bin/python -m tests.contract $(or $(EXAMPLES),100) $(SEED)

soak: ## services and database killed, held and cut under load, every answer against the records; MINUTES=, SEED=
	@tools/setup test
	.venv/bin/python -m tests.soak $(or $(MINUTES),5) $(SEED)

cluster: ## two services behind nginx and PgBouncer, a primary and a standby: a process and the primary are lost
	@tools/setup test
	.venv/bin/python -m tests.soak cluster

truth: ## the audit against a slow judge of its own words; SEEDS=, FIRST=, CLIENTS=, CHANGES=
	@tools/setup test
	JAMB_TRUTH_FIRST=$(or $(FIRST),1) JAMB_TRUTH_SEEDS=$(or $(SEEDS),20) JAMB_TRUTH_CLIENTS=$(or $(CLIENTS),10000) JAMB_TRUTH_CHANGES=$(or $(CHANGES),5000) .venv/bin/pytest -p no:xdist -o addopts="" --timeout=0 -s tests/oracle

bench: ## figures, each beside a floor run in the same minute; PART=, JSON=, BASE= (a file of an earlier run)
	@tools/setup test
	.venv/bin/python -m benchmarks $(PART)

format: ## lay out and mend what can be mended by itself
	.venv/bin/ruff check --fix src tests benchmarks
	.venv/bin/ruff format src tests benchmarks
	cd console && npx --no-install eslint --fix src tests && npm run --silent format

api: ## after a change of the API: its description, the rules' page, the console's types
	.venv/bin/jamb-service openapi docs/openapi.json
	.venv/bin/jamb-service rules docs/audit-rules.md
	cd console && npm run --silent api

console: ## build the console
	@tools/setup run

dist: ## the wheel, with the console inside, in dist/
	@tools/setup run
	rm -rf dist
	.venv/bin/python -m hatchling build -t wheel -d dist

lock: ## after a change of requirements/*.in (needs uv)
	cd requirements && uv pip compile --python-version 3.11 --universal --generate-hashes --no-header --no-annotate --no-emit-index-url -q runtime.in -o runtime.lock
	cd requirements && uv pip compile --python-version 3.11 --universal --generate-hashes --no-header --no-annotate --no-emit-index-url -q -c runtime.lock dev.in -o dev.lock

clean: ## forget all that was installed and built
	rm -rf .venv .stamps .jamb .jamb-test .jamb-bench console/node_modules src/jamb/service/static
