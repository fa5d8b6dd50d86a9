#!/bin/sh
# After the package was installed or upgraded.
set -e
if command -v systemd-sysusers >/dev/null 2>&1; then
	systemd-sysusers heron.conf
elif ! getent passwd heron >/dev/null; then
	useradd --system --home-dir /var/lib/heron --no-create-home --shell /usr/sbin/nologin heron
fi
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	# An upgrade goes on with what runs; a first installation waits for its owner.
	systemctl try-restart heron.service heron-worker.service
fi
if [ ! -e /var/lib/heron/owner.token ]; then
	echo "Start Deft Heron with: systemctl enable --now heron"
	echo "Then sign in as its owner: heron signin --token-file /var/lib/heron/owner.token"
fi
