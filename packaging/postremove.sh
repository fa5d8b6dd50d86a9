#!/bin/sh
# After the package was removed. The data folder stays unless the package is purged.
set -e
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload || true
fi
if [ "$1" = purge ]; then
	rm -rf /var/lib/heron
	echo "The records of Deft Heron in /var/lib/heron were removed."
fi
