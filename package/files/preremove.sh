#!/bin/sh
set -e
# Debian says remove, or upgrade with the new version.
if [ "$1" = remove ] && [ -d /run/systemd/system ]; then
	systemctl disable --now gull || true
fi
