#!/usr/bin/env bash
# A PostgreSQL server of the tests' own.   postgres.sh start PORT   prints its folder;   postgres.sh stop FOLDER
# The server refuses to run as root, so that root becomes postgres for it.
set -e
bin=$(ls -d /usr/lib/postgresql/*/bin | sort -V | tail -1)
as_owner() {
  if [ "$(id -u)" = 0 ]; then setpriv --reuid=postgres --regid=postgres --clear-groups "$@"; else "$@"; fi
}
if [ "$1" = stop ]; then
  cd "$2"
  as_owner "$bin/pg_ctl" -D "$2/data" -m immediate stop > /dev/null 2>&1
  cd /
  rm -rf "$2"
  exit
fi
folder=$(mktemp -d /tmp/oxgoad-postgres-XXXXXX)
echo "$folder"
cd "$folder"
if [ "$(id -u)" = 0 ]; then chown postgres "$folder"; fi
printf 'right' > password
chmod 644 password
as_owner "$bin/initdb" -D "$folder/data" -U oxgoad --auth=scram-sha-256 --pwfile="$folder/password" -N > "$folder/log" 2>&1
as_owner "$bin/pg_ctl" -D "$folder/data" -l "$folder/data/log" -o "-p $2 -k $folder -c listen_addresses=127.0.0.1 -c fsync=off" -w start > /dev/null 2>&1
PGPASSWORD=right psql -q -h 127.0.0.1 -p "$2" -U oxgoad postgres > /dev/null <<'SQL'
CREATE TABLE depots (name text, since date, seen timestamp, places bigint, rate numeric(30,10), open boolean);
INSERT INTO depots VALUES ('Cinder Quay', '2024-05-31', '2024-05-31 12:30', 100, 20.1234567891, true), ('Dunlin "<b>', NULL, NULL, NULL, NULL, false);
CREATE TABLE many AS SELECT g AS x, g * 0.5::float8 AS y FROM generate_series(1, 60000) g;
SQL
