#!/bin/sh
# SPDX-License-Identifier: MIT
# A PostgreSQL server for the tests: server.sh start FOLDER PORT, server.sh run FOLDER PORT SQL, server.sh stop FOLDER.
# Installs the Debian package when it is missing and may be installed (as root).
set -eu
action=$1 folder=$2 port=${3:-}
bin=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | tail -1)
if [ -z "$bin" ]; then
  [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "PostgreSQL is not installed (the package postgresql-15)"; exit 77; }
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends postgresql-15 >/dev/null 2>&1 ||
    { echo "the package postgresql-15 cannot be installed"; exit 77; }
  bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
fi
# It does not run as root.
as=""
if [ "$(id -u)" = 0 ]; then as="runuser -u postgres --"; fi
case $action in
  start)
    if [ -n "$as" ]; then chmod 711 "$folder"; install -d -o postgres "$folder/data"; fi
    cd /
    $as "$bin/initdb" -D "$folder/data" -U owner -A trust --no-sync -E UTF8 --locale=C >"$folder/initdb.log" 2>&1
    echo "host all owner 127.0.0.1/32 trust
host all all 127.0.0.1/32 scram-sha-256" >"$folder/data/pg_hba.conf"
    $as "$bin/pg_ctl" -D "$folder/data" -w -t 60 -l "$folder/data/log" \
      -o "-p $port -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c fsync=off" start >/dev/null
    ;;
  run) "$bin/psql" -q -X -v ON_ERROR_STOP=1 "postgresql://owner@127.0.0.1:$port/postgres" -c "$4" ;;
  stop) cd /; $as "$bin/pg_ctl" -D "$folder/data" -m immediate -w stop >/dev/null 2>&1 || true ;;
esac
