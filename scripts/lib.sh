# What scripts/demo, scripts/test and scripts/bench share. Source it; it expects
# to be in the project's directory.

PG_BIN=/usr/lib/postgresql/15/bin

say() { printf '%s\n' "$*" >&2; }
die() { say "error: $*"; exit 1; }

as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }

# need COMMAND PACKAGE...: installs Debian packages if the command is missing.
need() {
	local probe=$1
	shift
	command -v "$probe" >/dev/null 2>&1 && return
	say "installing $*"
	if [ ! -e /etc/postgresql-common/createcluster.conf ]; then # our own cluster, not the package's
		as_root mkdir -p /etc/postgresql-common
		echo 'create_main_cluster = false' | as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
	fi
	as_root apt-get update -qq
	as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null || die "could not install $*"
}

need_tools() {
	command -v go >/dev/null || die "Go is needed (see go.mod for the version)"
	command -v npm >/dev/null || die "Node.js 20 or newer with npm is needed"
	need "$PG_BIN/initdb" postgresql-15
}

# build_console makes the console's files if a source is newer than they are.
build_console() {
	local dist=internal/service/console/dist
	if [ ! -e web/node_modules/.package-lock.json ] || [ web/package-lock.json -nt web/node_modules/.package-lock.json ]; then
		say "installing the console's packages"
		(cd web && npm ci --no-audit --no-fund --loglevel=error) >&2
	fi
	if [ ! -e $dist/index.html ] || [ -n "$(find web -path web/node_modules -prune -o -type f -newer $dist/index.html -print -quit)" ]; then
		say "building the console"
		(cd web && npm run --silent build) >&2
	fi
}

build() {
	build_console
	go build -ldflags "-X gullroute/internal/service.Version=$(git describe --tags --always 2>/dev/null || echo dev)" -o bin/gull ./cmd/gull
}

# pg_as runs a command as the user that PostgreSQL runs under: never root.
pg_as() { if [ "$(id -u)" = 0 ]; then (cd / && exec setpriv --reuid postgres --regid postgres --init-groups "$@"); else "$@"; fi; }

# pg_place DIR names a place for a cluster that its user can reach: DIR, or, where
# a parent of it is closed to others, one of the project's own under /var/tmp.
pg_place() {
	local dir=$1
	mkdir -p "$dir"
	if [ "$(id -u)" != 0 ] || pg_as test -x "$dir"; then echo "$dir"; return; fi
	echo "/var/tmp/gull-route-$(printf %s "$dir" | sha256sum | cut -c1-12)"
}

# pg_start DIR PORT PASSWORD [open]: a cluster of our own on loopback, with a role gull
# that owns its databases and is no superuser. With open the superuser postgres has the
# same password: tests make tablespaces with it, and benches checkpoints. Without, nobody can sign in as it.
pg_start() {
	local dir=$1 port=$2 password=$3 fresh=
	mkdir -p "$dir"
	if [ ! -e "$dir/data/PG_VERSION" ]; then
		say "making a database cluster"
		if [ "$(id -u)" = 0 ]; then chown postgres:postgres "$dir"; fi
		printf '%s\n' "$password" | pg_as tee "$dir/password" >/dev/null
		pg_as "$PG_BIN/initdb" -D "$dir/data" -U postgres -E UTF8 --locale=C.UTF-8 -A scram-sha-256 --pwfile="$dir/password" >/dev/null || die "initdb failed"
		pg_as rm "$dir/password"
		fresh=1
		pg_as tee -a "$dir/data/postgresql.conf" >/dev/null <<-EOF
			listen_addresses = '127.0.0.1'
			unix_socket_directories = ''
			max_connections = 240
			shared_buffers = 512MB
			wal_buffers = 64MB
			min_wal_size = 1GB
			max_wal_size = 4GB
			checkpoint_timeout = 15min
			wal_compression = off
			logging_collector = off
			log_min_messages = error
		EOF
	fi
	pg_as "$PG_BIN/pg_ctl" -D "$dir/data" -l "$dir/log" -o "-p $port" -w -t 60 start >/dev/null || die "PostgreSQL did not start; see $dir/log"
	[ -n "$fresh" ] || return 0
	PGPASSWORD=$password "$PG_BIN/psql" -h 127.0.0.1 -p "$port" -U postgres -d postgres -qv ON_ERROR_STOP=1 -v password="$password" >/dev/null <<-'EOF' || die "the role gull could not be made"
		CREATE ROLE gull LOGIN CREATEDB PASSWORD :'password';
	EOF
	local last='ALTER ROLE postgres PASSWORD NULL'
	[ "${4:-}" != open ] || last='GRANT pg_checkpoint TO gull' # benches begin from one
	PGPASSWORD=$password "$PG_BIN/psql" -h 127.0.0.1 -p "$port" -U postgres -d postgres -qc "$last" >/dev/null
}

pg_stop() { [ -e "$1/data/postmaster.pid" ] && pg_as "$PG_BIN/pg_ctl" -D "$1/data" -m fast -w stop >/dev/null || true; }

# stop_pid FILE: ends the process that the file names, and waits for it.
stop_pid() {
	[ -e "$1" ] || return 0
	local pid
	pid=$(cat "$1")
	if kill "$pid" 2>/dev/null; then
		for _ in $(seq 200); do kill -0 "$pid" 2>/dev/null || break; sleep 0.05; done
		kill -9 "$pid" 2>/dev/null || true
	fi
	rm -f "$1"
}
