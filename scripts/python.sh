#!/usr/bin/env bash
# A Python of the tests' own, with what the example of a connector needs, and the library of lake tables that ours are compared with.
set -euo pipefail
cd "$(dirname "$0")/.."
home=target/python
# Another name for each set of packages, so that an older one is brought up to date.
ready="$home/ready-with-lakes"
[ -e "$ready" ] && exit 0
if ! python3 -c "import ensurepip, venv" 2> /dev/null; then
  if [ "$(id -u)" -ne 0 ]; then
    echo "The Debian packages python3 and python3-venv are missing; install them as root" >&2
    exit 1
  fi
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends python3 python3-venv > /dev/null
fi
mkdir -p target
python3 -m venv "$home"
"$home/bin/pip" install --quiet --disable-pip-version-check "pyarrow==26.*" "pyiceberg[sql-sqlite]==0.12.*" "pyiceberg-core==0.11.*"
touch "$ready"
