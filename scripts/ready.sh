#!/usr/bin/env bash
# Finds before the build what would end the demo after it: ports that are taken, and folders that cannot be written to. Says nothing when
# all is well. The ports are those of wirewatch-demo.
set -euo pipefail
cd "$(dirname "$0")/.."

for port in 7811 7812 7813 7814 7815; do
  if (exec 3<>"/dev/tcp/127.0.0.1/$port") 2>/dev/null; then
    echo "Port $port, which the demo needs, is taken. End what listens there: \`ss -ltnp | grep $port\` names it." >&2
    exit 1
  fi
done
for folder in . bin state; do
  if [ -e "$folder" ] && [ ! -w "$folder" ]; then
    echo "$(realpath "$folder") cannot be written to, and the demo keeps its data there. Give yourself the right, or clone into a folder of your own." >&2
    exit 1
  fi
done
