# Two commands do all set-up on a fresh machine: `make demo` and `make test`.

SHELL := /bin/bash
.SHELLFLAGS := -euo pipefail -c
.DEFAULT_GOAL := help

# Outside the checkout, so that a fresh clone builds quickly.
export CARGO_TARGET_DIR ?= $(HOME)/.cache/wirewatch/target

.PHONY: help demo demo-build demo-outage demo-recover demo-reset console console-api test lint bench bench-core fuzz soak torture

help: ## What can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 16

demo: demo-build ## Run the demo: database, stand-ins and service, until Ctrl-C
	@exec bin/wirewatch-demo run

demo-build:
	@scripts/ready.sh
	@scripts/packages.sh
	@scripts/own-build.sh
	@echo "… building (the first time takes some minutes)" >&2
	@scripts/console.sh
	@cargo build --release --quiet --bin wirewatch --bin wirewatch-demo
	@mkdir -p bin && cp -f $(CARGO_TARGET_DIR)/release/wirewatch $(CARGO_TARGET_DIR)/release/wirewatch-demo bin/

demo-outage: ## Stop the demo's order system answering
	@bin/wirewatch-demo outage on

demo-recover: ## Let the demo's order system answer again
	@bin/wirewatch-demo outage off

demo-reset: ## Delete all data of the demo
	@if [ -x bin/wirewatch-demo ]; then bin/wirewatch-demo reset; else rm -rf state; fi

console: ## Build the web console
	@scripts/packages.sh
	@scripts/console.sh

console-api: ## Follow a change of the API: its description, and the console's client made from it
	@WRITE_OPENAPI=1 cargo test --quiet -p wirewatch-service --test description
	@scripts/console.sh

test: ## Format, lints and every test
	@scripts/packages.sh for-tests
	@scripts/own-build.sh
	@scripts/console.sh
	@scripts/test.sh

lint: ## Format and lints alone
	@scripts/console.sh
	@cd console && npm run --silent check
	@cargo fmt --check
	@cargo clippy --workspace --all-targets --quiet -- -D warnings

bench: ## Measure the whole system beside its physical limit; writes docs/BENCHMARKS.md
	@scripts/packages.sh
	@scripts/own-build.sh
	@scripts/console.sh
	@cargo build --release --quiet --bin wirewatch --bin wirewatch-bench
	@$(CARGO_TARGET_DIR)/release/wirewatch-bench

bench-core: ## Measure the pure parts: reading, checking, mapping
	@cargo bench --quiet -p wirewatch-x12 -p wirewatch-core

fuzz: ## Fuzz: make fuzz TARGET=reader|checker|tree|expression|map|document|api SECONDS=60
	@scripts/fuzz.sh $(or $(TARGET),reader) $(or $(SECONDS),60)

soak: ## Simulate as many runs as asked: make soak RUNS=1000000 FROM=0
	@RUNS=$(or $(RUNS),200000) FROM=$(or $(FROM),0) cargo test --release --quiet -p wirewatch-engine --test simulation -- --nocapture seeded

torture: ## Kills, restarts, outages, damaged records and hostile callers: make torture KILLS=200 RESTARTS=50 OUTAGES=20 DAMAGED=100
	@scripts/packages.sh for-tests
	@scripts/own-build.sh
	@scripts/console.sh
	@cargo build --quiet --workspace --bins
	@TORTURE_KILLS=$(or $(KILLS),200) TORTURE_RESTARTS=$(or $(RESTARTS),50) TORTURE_OUTAGES=$(or $(OUTAGES),20) \
	  TORTURE_DAMAGED=$(or $(DAMAGED),100) TORTURE_SEED=$(or $(SEED),20261201) \
	  cargo run --quiet -p wirewatch-testkit --bin with-servers -- cargo test --workspace --test e2e -- --nocapture torture
