# Starting and stopping the service for the demo and the tour.

cobble=${COBBLE:-target/demo/cobble}
port=${COBBLE_PORT:-7300}
export COBBLE_SERVICE="http://127.0.0.1:$port"

start_service() {
  # The service stops when this script does, however that happens: it watches the pipe it is given.
  exec {keep}> >("$cobble" up --demo --scale "$1" --port "$port" --stop-with-stdin)
  service=$!
  trap stop_service EXIT
  for _ in $(seq 600); do
    "$cobble" catalog list > /dev/null 2>&1 && return
    kill -0 "$service" 2> /dev/null || { echo "the service has not started" >&2; exit 1; }
    sleep 0.2
  done
  echo "the service does not answer after two minutes" >&2
  exit 1
}

stop_service() {
  trap - EXIT
  exec {keep}>&-
  wait "$service" 2> /dev/null || true
}
