#!/usr/bin/env bash
# The demo's questions in the terminal, each with its gates; ends by itself.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/common.sh
start_service "${1:-0.1}"
number=0
for file in $(ls -v demo/questions/*.sql); do
  number=$((number + 1))
  echo
  echo "━━ $number. $(sed -n 's/^-- //p' "$file" | head -1)"
  echo "   look at: $(sed -n 's/^-- look at: //p' "$file")"
  echo
  query=$(grep -v '^--' "$file")
  echo "$query"
  echo
  "$cobble" sql "$query"
  echo
  "$cobble" plan --measure --as gates "$query"
done
echo
echo "$number questions answered."
