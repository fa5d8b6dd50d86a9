#!/bin/sh
# Before the package is removed. Before an upgrade nothing is stopped: "upgrade" of dpkg, 1 of rpm.
set -e
case "$1" in
upgrade | 1) exit 0 ;;
esac
if [ -d /run/systemd/system ]; then
	systemctl disable --now heron.service heron-worker.service || true
fi
