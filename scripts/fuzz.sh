#!/bin/sh
# Fuzzes a target of the X12 crate (reader, checker, tree) for some seconds, beginning from the corpus of its tests.
#   scripts/fuzz.sh reader 60
set -eu
target=$1
seconds=${2:-60}
cd "$(dirname "$0")/../crates/x12/fuzz"
# What a fuzzer needs of the compiler: counters at every edge. The sanitizers are left out; the crate has no unsafe code.
RUSTFLAGS="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table -Ccodegen-units=1 -Cdebug-assertions" \
  cargo build --release --quiet --bin "$target" --target-dir "${CARGO_TARGET_DIR:-../../../target}/fuzz" --target "$(rustc -vV | sed -n 's/host: //p')"
seeds=$(mktemp -d)
trap 'rm -rf "$seeds"' EXIT
for file in ../tests/corpus/*.txt; do
  # The document behind the line of dashes; the first bytes are what the targets take before it.
  sed '1,/^---$/d' "$file" > "$seeds/$(basename "$file" .txt)"
done
"${CARGO_TARGET_DIR:-../../../target}/fuzz/$(rustc -vV | sed -n 's/host: //p')/release/$target" \
  -max_total_time="$seconds" -max_len=8192 -print_final_stats=1 -artifact_prefix=./ "$seeds"
