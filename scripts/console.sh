#!/usr/bin/env bash
# Builds the console into console/dist, which the service embeds. Says and does nothing when all is current.
set -euo pipefail
cd "$(dirname "$0")/../console"

log=$(mktemp)
trap 'rm -f "$log"' EXIT
quietly() {
  "$@" >"$log" 2>&1 || {
    cat "$log" >&2
    echo "The console could not be built (see above): ${*}" >&2
    exit 1
  }
}

if ! cmp -s package-lock.json node_modules/.installed-for; then
  echo "… fetching what the console is built from" >&2
  # As the lock file says, which it leaves as it is. `npm ci` would refuse it where a registry serves the native parts of
  # some platforms only.
  quietly npm install --no-save
  cp package-lock.json node_modules/.installed-for
fi
# The client's types follow the API's description.
[ src/api/schema.ts -nt openapi.json ] && [ src/api/schema.d.ts -nt package-lock.json ] || quietly npm run generate

sources=(index.html openapi.json package.json package-lock.json public src tsconfig.json vite.config.ts)
if [ ! -e dist/index.html ] || [ -n "$(find "${sources[@]}" -newer dist/index.html -print -quit)" ]; then
  quietly npm run build
  touch dist/index.html
fi
