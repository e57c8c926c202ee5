#!/usr/bin/env bash
# The demo: everything started on the ferry data, one joined query, then the foreground until Ctrl+C.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/common.sh
trap 'kill $(jobs -p) 2> /dev/null; exit 0' INT TERM
start_service "${1:-0.1}"
query="SELECT r.name, count(*) AS boardings, sum(b.fare) AS earned
FROM drop.public.boardings b
JOIN fleet.public.routes r ON r.id = b.route_id
WHERE b.month = '2025-07' AND r.active
GROUP BY r.name
ORDER BY earned DESC
LIMIT 5"
echo
echo "A folder of Parquet files joined with a PostgreSQL database:"
echo
echo "$query"
echo
"$cobble" sql "$query"
echo
echo "What each of the two sources took over:"
echo
"$cobble" plan --measure --as gates "$query"
echo
echo "The console: $("$cobble" access link)  —  Ctrl+C stops everything."
# The sleeper must not hold the pipe by which the service learns that this script has ended.
while true; do sleep 3600 {keep}>&- & wait $!; done
