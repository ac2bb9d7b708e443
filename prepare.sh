#!/bin/bash
# Installs what the machine lacks. For the demo: a PostgreSQL server from Debian's packages. With
# the argument "tests" also Chromium for the console's tests, and servers of the other supported
# versions, in testbed/servers.
set -euo pipefail
cd "$(dirname "$0")"

for need in go node npm; do
	command -v "$need" >/dev/null || { echo "prepare: $need is needed and not installed" >&2; exit 1; }
done
missing=()
ls /usr/lib/postgresql/1[4-8]/bin/pgbench >/dev/null 2>&1 && ls /usr/lib/postgresql/1[4-8]/bin/initdb >/dev/null 2>&1 || missing+=(postgresql)
command -v psql >/dev/null || missing+=(postgresql-client)
if [ "${1:-}" = tests ]; then
	command -v chromium >/dev/null || missing+=(chromium)
	[ -x /usr/lib/systemd/systemd ] || missing+=(systemd)
	command -v ip >/dev/null || [ -x /usr/sbin/ip ] || missing+=(iproute2)
	if ! cmp -s testbed/servers/package-lock.json testbed/servers/node_modules/.installed; then
		echo "prepare: installing servers of the other versions into testbed/servers"
		npm ci --prefix testbed/servers --no-audit --no-fund --loglevel=error
		cp testbed/servers/package-lock.json testbed/servers/node_modules/.installed
	fi
fi
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
