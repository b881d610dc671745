# make demo   everything for a first look: installs, builds, starts, says where to look
# make test   everything that must hold: checks and tests, with their own database and port
.PHONY: demo test check fuzz truth bench format api lock console clean

demo:
	@tools/setup run
	@exec .venv/bin/jamb-demo

test:
	@tools/setup test
	@$(MAKE) --no-print-directory check
	.venv/bin/pytest

check:
	.venv/bin/ruff format --check src tests benchmarks
	.venv/bin/ruff check src tests benchmarks
	.venv/bin/mypy
	.venv/bin/lint-imports --no-logo
	cd console && npx --no-install vue-tsc --noEmit

# Requests of every kind against the description; EXAMPLES=1000 for a night.
fuzz:
	@tools/setup test
	.venv/bin/python -m tests.contract $(or $(EXAMPLES),100) $(SEED)

# The audit against a slow judge written from the rules' own words: large estates, and changes while rounds run.
truth:
	@tools/setup test
	JAMB_TRUTH_FIRST=$(or $(FIRST),1) JAMB_TRUTH_SEEDS=$(or $(SEEDS),20) JAMB_TRUTH_CLIENTS=$(or $(CLIENTS),10000) JAMB_TRUTH_CHANGES=$(or $(CHANGES),5000) .venv/bin/pytest -p no:xdist -o addopts="" --timeout=0 -s tests/oracle

bench:
	@tools/setup test
	.venv/bin/python -m benchmarks

format:
	.venv/bin/ruff check --fix src tests benchmarks
	.venv/bin/ruff format src tests benchmarks

# After a change of the API: its description, and the console's types made from it.
api:
	.venv/bin/jamb-service openapi docs/openapi.json
	.venv/bin/jamb-service rules docs/audit-rules.md
	cd console && npm run --silent api

console:
	@tools/setup run

# After a change of requirements/*.in (needs uv).
lock:
	cd requirements && uv pip compile --python-version 3.11 --universal --generate-hashes --no-header --no-annotate --no-emit-index-url -q runtime.in -o runtime.lock
	cd requirements && uv pip compile --python-version 3.11 --universal --generate-hashes --no-header --no-annotate --no-emit-index-url -q -c runtime.lock dev.in -o dev.lock

clean:
	rm -rf .venv .stamps .jamb .jamb-test .jamb-bench console/node_modules src/jamb/service/static
