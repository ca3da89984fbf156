#!/bin/sh
set -e
if [ -d /run/systemd/system ]; then systemctl daemon-reload || true; fi
# Nothing is asked and no mail is deleted, by purge either: the database, the key file in
# /var/lib/gull and what waits in /var/spool/gull stay, and the user who owns them.
if [ "$1" = purge ] && [ -e /var/lib/gull/key ]; then
	echo "The key file /var/lib/gull/key and the database stay: remove them yourself if nothing is needed any more."
fi
