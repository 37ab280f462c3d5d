#!/bin/sh
# Fuzzes a target for some seconds, beginning from the cases of its tests: reader, checker and tree of the X12 crate, expression, map and
# document of the core; api asks the running service.
#   scripts/fuzz.sh reader 60
set -eu
target=$1
seconds=${2:-60}
cd "$(dirname "$0")/.."
case "$target" in
  api)
    cargo build --quiet --workspace --bins
    FUZZ_SECONDS=$seconds FUZZ_SEED=${SEED:-$(date +%s)} \
      exec cargo run --quiet -p wirewatch-testkit --bin with-servers -- cargo test --workspace --test e2e -- --nocapture fuzzing
    ;;
  reader | checker | tree) crate=x12 ;;
  *) crate=core ;;
esac
seeds=$(mktemp -d)
trap 'rm -rf "$seeds"' EXIT
case "$target" in
  reader | checker | tree)
    for file in crates/x12/tests/corpus/*.txt; do
      # The document behind the line of dashes; the first bytes are what the targets take before it.
      sed '1,/^---$/d' "$file" >"$seeds/$(basename "$file" .txt)"
    done
    ;;
  expression)
    # A case is an expression; the document that it runs over stands in the line `given` before it.
    cat crates/core/tests/values/paths.txt crates/core/tests/values/nothing.txt crates/core/tests/values/numbers.txt \
      crates/core/tests/values/dates.txt crates/core/tests/values/texts.txt |
      awk -v at="$seeds" '/^given / { given = substr($0, 7); next } / => / { n++; split($0, part, " => "); print part[1] "\n" given > (at "/" n); close(at "/" n) }'
    ;;
  map)
    printf '[set]\na = "a"\no.x = "n * 2"\n[[each]]\nof = "l"\ninto = "l"\n[each.set]\nl = "l"\n---\n{"a":"x","n":1.5,"l":[{"l":[1,2]}]}' >"$seeds/1"
    printf 'begin = "as-is"\ndrop = ["n"]\n[rename]\na = "b"\n[change]\n"**.a" = "upper(it)"\n---\n{"a":"x","o":{"x":null}}' >"$seeds/2"
    ;;
  document)
    printf '0{"a":"x","l":[{"t":"y","f":true}]}' >"$seeds/1"
    printf '2<x a="1"><n>2</n><l><item><t>y</t></item></l></x>' >"$seeds/2"
    printf '5a,n\n"x",1\n' >"$seeds/3"
    printf '3Ax   0015020261201\nBy     true\n' >"$seeds/4"
    printf '7a|1~b|2~' >"$seeds/5"
    ;;
esac
cd "crates/$crate/fuzz"
# What a fuzzer needs of the compiler: counters at every edge. The sanitizers are left out; the crates have no unsafe code.
host=$(rustc -vV | sed -n 's/host: //p')
RUSTFLAGS="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table -Ccodegen-units=1 -Cdebug-assertions" \
  cargo build --release --quiet --bin "$target" --target-dir "${CARGO_TARGET_DIR:-../../../target}/fuzz" --target "$host"
"${CARGO_TARGET_DIR:-../../../target}/fuzz/$host/release/$target" \
  -max_total_time="$seconds" -max_len=8192 -print_final_stats=1 -artifact_prefix=./ "$seeds"
