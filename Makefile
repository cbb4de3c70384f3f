# Everything a person runs from the root.
DEMO_DIR ?= /var/tmp/constans-demo-$(shell id -u)
export DEMO_DIR

.PHONY: demo demo-reset test check fmt shots licences bans

demo: ## builds, makes three machines of Skerry Line, and says what to try
	@demo/check
	@echo "building (the first time takes some minutes)"
	@cargo build --locked --profile demo --bins -p constans-agent -p constans-cli -p constans-world
	@target/demo/constans-world $(DEMO_DIR) target/demo
	@sed "s#\"\$$DEMO_DIR\"#$(DEMO_DIR)#" demo/try.txt

demo-reset: ## takes the demo's machines away, so that make demo begins anew
	rm -rf -- "$(DEMO_DIR)"

test: ## all tests, on the real programs
	@demo/check
	cargo build --locked --workspace --bins
	cargo test --locked --workspace

check: licences bans ## format, lints, licences, dependency bans
	cargo fmt --all --check
	cargo clippy --locked --workspace --all-targets -- -D warnings

fmt:
	cargo fmt --all

licences: ## every dependency has a licence of the list
	@mkdir -p target
	@cargo tree --locked --workspace --edges normal,build,dev --prefix none --format '{l} : {p}' | grep . | sort -u > target/licences.all
	@grep -vf ci/licences.allowed target/licences.all > target/licences.refused; \
	  if [ -s target/licences.refused ]; then echo "licences that ci/licences.allowed does not name:"; cat target/licences.refused; exit 1; fi

bans: ## dependencies that must not come in
	@while read -r crate why; do \
	  if cargo tree --locked --workspace --invert "$$crate" >/dev/null 2>&1; then echo "banned: $$crate ($$why)"; exit 1; fi; \
	done < ci/banned

shots: ## docs/screenshots from the demo's data
	docs/shots
