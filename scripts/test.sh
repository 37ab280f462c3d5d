#!/usr/bin/env bash
# Format, lints, every test; quiet when all is well, closing with cargo's summary.
set -euo pipefail
cd "$(dirname "$0")/.."

# Format, types and quick tests of the console; shown in full only when something is wrong.
checked=$(cd console && npm run --silent check 2>&1) || {
  echo "$checked"
  exit 1
}
cargo fmt --check
cargo clippy --workspace --all-targets --quiet -- -D warnings
# The programs that the end-to-end tests start.
cargo build --quiet --workspace --bins
# One private database server and one broker for the whole run; they end with it. Shown are failures, what was measured, and cargo's
# summary of each suite that has tests; the last line is the sum.
log=$(mktemp)
trap 'rm -f "$log"' EXIT
status=0
cargo run --quiet -p wirewatch-testkit --bin with-servers -- cargo test --workspace --quiet -- --show-output "$@" >"$log" 2>&1 || status=$?
if [ "$status" != 0 ]; then
  cat "$log"
else
  grep -E '^measured: |^test result: .* [1-9][0-9]* passed' "$log" || true
fi
awk '/^test result:/ { passed += $4; failed += $6 } END { printf "%d passed, %d failed\n", passed, failed }' "$log"
exit "$status"
