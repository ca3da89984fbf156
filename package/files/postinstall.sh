#!/bin/sh
set -e
case "$1" in configure | abort-upgrade | "") ;; *) exit 0 ;; esac

if command -v systemd-sysusers >/dev/null 2>&1; then
	systemd-sysusers gull-route.conf
elif ! getent passwd gull >/dev/null; then
	useradd --system --home-dir /var/lib/gull --shell /usr/sbin/nologin --user-group gull
fi
chown root:gull /etc/gull/gull.env
chmod 0640 /etc/gull/gull.env
if command -v systemd-tmpfiles >/dev/null 2>&1; then
	systemd-tmpfiles --create gull-route.conf || true
fi
install -d -m 0700 -o gull -g gull /var/lib/gull /var/spool/gull

running() { [ -d /run/systemd/system ]; }
if running; then systemctl daemon-reload || true; fi

if [ -n "$2" ]; then
	# An upgrade: the service goes on as the new program, if it ran.
	if running && systemctl is-active --quiet gull; then systemctl restart gull || true; fi
	exit 0
fi
cat <<'TEXT'

Gull Route is installed. Next, as root:

  gull setup          asks for what a server begins with, makes the database,
                      and says how to sign in (man gull, and
                      /usr/share/doc/gull-route/operations.md)


TEXT
