# Everything a person runs from the root.
DEMO_DIR ?= /var/tmp/constans-demo-$(shell id -u)
export DEMO_DIR

.PHONY: packages tools interface-check bench fuzz demo demo-reset console console-check test test-hosts test-long check fmt shots dependencies advisories unused circles

demo: ## builds, starts the server and the nodes of Skerry Line, and says what to try; Ctrl-C stops all; CROWD=0: no simulated nodes
	@demo/check demo
	@echo "building (the first time takes some minutes)"
	@$(MAKE) --no-print-directory console
	@cargo build --locked --profile demo --bins -p constans-agent -p constans-cli -p constans-server -p constans-demo
	@folder=$${CARGO_TARGET_DIR:-target}/demo; exec "$$folder/constans-demo" $(DEMO_DIR) "$$folder"

console: console/dist/built ## builds the console's pages, which the server holds

console/node_modules/installed: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/built: console/node_modules/installed console/index.html console/vite.config.ts $(shell find console/src -type f 2>/dev/null)
	cd console && npm run --silent build -- --logLevel warn
	@touch $@

demo-reset: ## takes the demo's machines away, so that make demo begins anew
	rm -rf -- "$(DEMO_DIR)"

test: console tools ## all tests, on the real programs
	@demo/check test
	cd console && npm run --silent test
	cargo build --locked --bins
	cargo test --locked --no-run
	ci/leaves-nothing cargo test --locked

tools: target/tools/python/installed target/tools/metrics/installed ci/interface/node_modules/installed ## what checks the interface from outside

# One program of the package; installed, the package would start a server of its own.
target/tools/metrics/installed:
	@demo/check test
	mkdir -p target/tools/metrics
	cd target/tools/metrics && { apt-get download -qq prometheus || { apt-get update -qq && apt-get download -qq prometheus; }; }
	cd target/tools/metrics && dpkg -x prometheus_*.deb . && rm prometheus_*.deb
	@touch $@

target/tools/python/installed: ci/interface/requirements.txt
	@demo/check test
	python3 -m venv target/tools/python
	target/tools/python/bin/pip install --quiet --disable-pip-version-check -r ci/interface/requirements.txt
	@touch $@

ci/interface/node_modules/installed: ci/interface/package.json ci/interface/package-lock.json
	cd ci/interface && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

interface-check: tools ## the interface's document, by three tools that know the standard
	target/tools/python/bin/openapi-spec-validator console/openapi.json
	cd ci/interface && REDOCLY_TELEMETRY=off npx --no redocly lint --config redocly.yaml ../../console/openapi.json
	cd ci/interface && npx --no spectral lint --ruleset spectral.yaml --fail-severity warn ../../console/openapi.json

test-hosts: console ## the agent on real Debian hosts, as root; KILLS=1100 sets how often it is killed
	cargo build --locked -p constans-agent -p constans-hosts -p constans-server -p constans-cli
	ci/leaves-nothing target/debug/constans-hosts

test-long: tools ## two thousand nodes of a crowd in one process: what a node costs, and that it stays so; some minutes
	cargo build --locked --bins -p constans-crowd -p constans-server -p constans-cli
	ci/leaves-nothing cargo test --locked -p constans-e2e --test e2e -- --ignored --nocapture --test-threads=1

check: dependencies console-check interface-check unused circles ## format, lints, licences, dependencies banned and unused
	cargo fmt --all --check
	cargo clippy --locked --workspace --all-targets -- -D warnings

console-check: console/node_modules/installed ## types, and that they are those of the interface
	node ci/console-licences.mjs
	cd console && npm run --silent check

fmt: console/node_modules/installed
	cargo fmt --all
	cd console && npm run --silent fix

DENY := target/tools/deny/bin/cargo-deny

dependencies: $(DENY) ## licences of dependencies, banned ones, and where they come from
	@cargo fetch --locked --quiet
	@if [ -x $(DENY) ]; then $(DENY) --log-level error --offline check licenses bans sources; \
	  else echo "NOT CHECKED: licences and bans of dependencies, as cargo-deny could not be installed"; fi

$(DENY):
	@echo "installing cargo-deny (some minutes, once)"
	@cargo install --quiet --locked --root target/tools/deny --version 0.20.2 cargo-deny || true

advisories: $(DENY) console/node_modules/installed ## known vulnerabilities of dependencies: needs the network
	$(DENY) check advisories
	cd console && npm audit

unused: ## dependencies that nothing uses
	ci/unused-dependencies

circles: ## modules that import each other
	ci/import-circles

shots: ## docs/screenshots from the demo's data
	docs/shots

bench: console ## figures beside their budgets, as a table and as target/bench.json
	@demo/check test
	cargo build --locked --profile small -p constans-agent
	cargo build --locked --release --bins -p constans-agent -p constans-cli -p constans-crowd -p constans-server
	ci/leaves-nothing cargo run --locked --release -p constans-bench -- target/bench.json

packages: console ## .deb and .rpm of agent, server and client, into target/packages; half an hour, since they are optimised
	cargo build --locked --profile small -p constans-agent
	cargo build --locked --release --bins -p constans-cli -p constans-server
	mkdir -p target/packages/programs
	ln -sf ../../small/constans-agent ../../release/constans ../../release/constans-server target/packages/programs/
	packaging/build target/packages/programs target/packages

fuzz: ## fuzzes each parser for a minute (SECONDS_EACH=60), beginning with the demo's documents
	fuzz/run
