#!/bin/bash
# Installs from Debian's packages what the demo and the tests need and the machine
# lacks: a PostgreSQL server, and Chromium for the console's test.
set -euo pipefail

missing=()
ls /usr/lib/postgresql/1[5-7]/bin/initdb >/dev/null 2>&1 && ls /usr/lib/postgresql/1[5-7]/bin/pgbench >/dev/null 2>&1 || missing+=(postgresql)
command -v psql >/dev/null || missing+=(postgresql-client)
command -v chromium >/dev/null || missing+=(chromium)
for need in go node npm; do
	command -v "$need" >/dev/null || { echo "prepare: $need is needed and not installed" >&2; exit 1; }
done
[ ${#missing[@]} -gt 0 ] || exit 0

as_root=()
[ "$(id -u)" = 0 ] || as_root=(sudo)
echo "prepare: installing ${missing[*]}"
if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
	# Servers of our own are started; the package need not start one.
	"${as_root[@]}" mkdir -p /etc/postgresql-common
	echo "create_main_cluster = false" | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
fi
"${as_root[@]}" apt-get update -qq
DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
