# Two commands do everything on a fresh machine: `make demo` and `make test`.

SCALE ?= 0.1
CARGO ?= cargo

.PHONY: demo tour test types fuzz fuzz-plans fuzz-travel fuzz-values conformance bench siege load hostile console program setup screenshots

setup:
	@scripts/setup.sh

console/node_modules: console/package-lock.json
	cd console && npm ci --no-audit --no-fund && touch node_modules

# Built only when its sources change: the service embeds it, and would be built again too.
console/dist/index.html: console/node_modules $(shell find console/src console/public console/index.html console/*.ts console/package.json 2> /dev/null)
	cd console && npm run --silent build

console: setup console/dist/index.html

# Without what only drives the product from outside, such as the benchmark. The profile optimises what touches rows.
program: console
	$(CARGO) build --profile demo --workspace --exclude cobble-tests

# The service and its sources on the ferry data, one joined query, the console's address; Ctrl+C stops all of it.
demo: program
	@scripts/demo.sh $(SCALE)

# The same, then the demo's questions with their gates; stops everything and exits.
tour: program
	@scripts/tour.sh $(SCALE)

test: console
	$(CARGO) fmt --all --check
	$(CARGO) clippy --workspace --all-targets -- -D warnings
	cd console && npm run --silent check && npm test --silent
	scripts/python.sh
	$(CARGO) build --workspace --examples --bins
	$(CARGO) test --workspace --no-fail-fast

# The console's types from the service's own description of itself, and the page of functions from the registry.
types:
	$(CARGO) build --workspace --examples
	target/debug/examples/openapi > console/openapi.json
	UPDATE_FUNCTIONS=1 $(CARGO) test --workspace --test engine -- registry > /dev/null
	cd console && npm run --silent types

# Statements made at random, judged by PostgreSQL; what differs is made small and shown.
fuzz: program
	COBBLE_FUZZ=$(or $(FUZZ),20000) COBBLE_SEED=$(or $(SEED),1) $(CARGO) test --profile demo --workspace --test product -- random::fuzz --ignored --nocapture

# The same for statements whose plans change their shape, with rewrites switched off at random.
fuzz-plans: program
	COBBLE_FUZZ=$(or $(FUZZ),2000) COBBLE_SEED=$(or $(SEED),1) $(CARGO) test --profile demo --workspace --test product -- random_plans::fuzz --ignored --nocapture

# Plans of statements made at random, each written by one process and run by another.
fuzz-travel: program
	COBBLE_FUZZ=$(or $(FUZZ),2000) COBBLE_SEED=$(or $(SEED),1) $(CARGO) test --profile demo --workspace --test product -- travel::travel_fuzz --ignored --nocapture

# Expressions of all types at random, with the scale of numbers and the class of errors.
fuzz-values: program
	COBBLE_FUZZ=$(or $(FUZZ),20000) COBBLE_SEED=$(or $(SEED),1) $(CARGO) test --profile demo --workspace --test product -- random_values::values_fuzz --ignored --nocapture

# The service killed at random in the middle of what it writes.
siege: program
	COBBLE_KILLS=$(or $(KILLS),300) $(CARGO) test --profile demo --workspace --test product -- kills --nocapture

# 200 clients of all kinds for ten minutes: answers, refusals, memory, open files, and what is left at the sources.
load: program
	COBBLE_LOAD=$(or $(SECONDS),600) $(CARGO) test --profile demo --workspace --test product -- many_clients_leave --nocapture

# Files of every format, and answers of servers, with bytes changed at random.
hostile:
	COBBLE_HOSTILE=$(or $(FILES),20000) COBBLE_SEED=$(or $(SEED),1) $(CARGO) test --workspace --test hostile -- --nocapture
	COBBLE_HOSTILE=$(or $(ANSWERS),1000) $(CARGO) test --workspace --test engine -- changed_by_chance
	COBBLE_HOSTILE=$(or $(ANSWERS),1000) $(CARGO) test --workspace --test partner -- changed_metadata

# The page of what works of PostgreSQL's language, found by running it.
conformance: console
	$(CARGO) build --workspace
	UPDATE_CONFORMANCE=1 $(CARGO) test --workspace --test product -- conformance

# Ours beside PostgreSQL in one run: ratios, bytes read, peak memory.
bench: console
	scripts/python.sh
	$(CARGO) build --release --workspace
	target/release/bench $(BENCH)

# From a running demo.
screenshots:
	python3 scripts/screenshots.py
