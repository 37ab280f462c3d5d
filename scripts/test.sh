#!/usr/bin/env bash
# Format, lints, every test; quiet when all is well, closing with cargo's summary.
set -euo pipefail
cd "$(dirname "$0")/.."

cargo fmt --check
cargo clippy --workspace --all-targets --quiet -- -D warnings
# The programs that the end-to-end tests start.
cargo build --quiet --workspace --bins
# One private database server for the whole run; it ends with the run.
cargo run --quiet -p wirewatch-testkit --bin with-postgres -- cargo test --workspace --quiet "$@"
