#!/usr/bin/env bash
# Installs what is missing from Debian's packages; with `for-tests`, also what only the tests need. Says nothing when all
# is there.
set -euo pipefail

missing=()
compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || missing+=(postgresql)
compgen -G '/usr/lib/rabbitmq/bin/rabbitmq-server' >/dev/null || missing+=(rabbitmq-server)
[ -e /etc/ssl/certs/ca-certificates.crt ] || missing+=(ca-certificates)
command -v setpriv >/dev/null || missing+=(util-linux)
command -v cc >/dev/null || missing+=(build-essential)

command -v node >/dev/null || missing+=(nodejs)
command -v npm >/dev/null || missing+=(npm)
if [ "${1:-}" = for-tests ]; then
  command -v chromium >/dev/null || missing+=(chromium)
  command -v chromedriver >/dev/null || missing+=(chromium-driver)
fi

command -v cargo >/dev/null || {
  echo "Rust is missing: install it with rustup (the program of that name from Debian's packages), then run this again." >&2
  exit 1
}

((${#missing[@]})) || exit 0
command -v apt-get >/dev/null || {
  echo "These programs are missing and this is no Debian: ${missing[*]}. Install them, then run this again." >&2
  exit 1
}

as_root=()
if [ "$(id -u)" != 0 ]; then
  command -v sudo >/dev/null || {
    echo "These packages are missing: ${missing[*]}. Install them as root: apt-get install ${missing[*]}" >&2
    exit 1
  }
  as_root=(sudo)
fi

echo "… installing ${missing[*]}" >&2
# The package must not start a cluster of its own: ours is private to its folder.
if [[ " ${missing[*]} " == *" postgresql "* ]]; then
  "${as_root[@]}" mkdir -p /etc/postgresql-common
  [ -e /etc/postgresql-common/createcluster.conf ] ||
    echo 'create_main_cluster = false' | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
fi
log=$(mktemp)
trap 'rm -f "$log"' EXIT
apt() { "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get -qq "$@" >>"$log" 2>&1; }
{ apt update && apt install -y "${missing[@]}"; } || {
  cat "$log" >&2
  echo "The packages could not be installed (see above): ${missing[*]}. Install them, then run this again." >&2
  exit 1
}
