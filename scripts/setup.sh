#!/usr/bin/env bash
# Installs what is missing from Debian's packages when root; otherwise says what to install.
set -euo pipefail

declare -A needs=(
  [postgresql-15]="/usr/lib/postgresql/15/bin/postgres"
  [libpq-dev]="/usr/include/postgresql/libpq-fe.h"
  [mariadb-server-core]="/usr/sbin/mariadbd"
  [mariadb-client-core]="/usr/bin/my_print_defaults"
  [redis-server]="/usr/bin/redis-server"
  [chromium]="/usr/bin/chromium"
  [chromium-driver]="/usr/bin/chromedriver"
  [fonts-dejavu-core]="/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf"
  [gcc]="/usr/bin/gcc"
  [pkg-config]="/usr/bin/pkg-config"
  [curl]="/usr/bin/curl"
)
missing=()
for package in "${!needs[@]}"; do
  [ -e "${needs[$package]}" ] || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" -ne 0 ]; then
    echo "These Debian packages are missing: ${missing[*]}" >&2
    echo "Install them as root: apt-get install ${missing[*]}" >&2
    exit 1
  fi
  echo "Installing ${missing[*]}"
  apt-get update -qq
  # A server of the system's own is not wanted: ours are private and started on demand.
  mkdir -p /etc/postgresql-common
  grep -qs '^create_main_cluster' /etc/postgresql-common/createcluster.conf ||
    echo 'create_main_cluster = false' >> /etc/postgresql-common/createcluster.conf
  # Debian asks this program whether a service may be started; an own one of the machine's is left as it is.
  policy=/usr/sbin/policy-rc.d
  if [ ! -e "$policy" ]; then
    printf '#!/bin/sh\nexit 101\n' > "$policy"
    chmod +x "$policy"
    trap 'rm -f "$policy"' EXIT
  fi
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" > /dev/null
fi
for tool in cargo node npm; do
  command -v "$tool" > /dev/null || { echo "$tool is missing: install Rust 1.95 or newer and Node.js 20.19 or newer" >&2; exit 1; }
done
