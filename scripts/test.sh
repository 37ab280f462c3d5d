#!/usr/bin/env bash
# Format, lints, every test; quiet when all is well, closing with cargo's summary.
set -euo pipefail
cd "$(dirname "$0")/.."

cargo fmt --check
cargo clippy --workspace --all-targets --quiet -- -D warnings
# The programs that the end-to-end tests start.
cargo build --quiet --workspace --bins
# One private database server for the whole run; it ends with the run. Told are failures, and cargo's summary of each
# suite that has tests; the last line is the sum.
log=$(mktemp)
trap 'rm -f "$log"' EXIT
status=0
cargo run --quiet -p wirewatch-testkit --bin with-postgres -- cargo test --workspace --quiet "$@" >"$log" 2>&1 || status=$?
if [ "$status" != 0 ]; then
  cat "$log"
else
  grep -E '^test result: .* [1-9][0-9]* passed' "$log" || true
fi
awk '/^test result:/ { passed += $4; failed += $6 } END { printf "%d passed, %d failed\n", passed, failed }' "$log"
exit "$status"
