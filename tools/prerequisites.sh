#!/bin/sh
# Installs what the tests need on Debian and its kin, and names what is missing
# elsewhere. Nothing is installed that is there already.
set -eu

missing=""
need() { command -v "$1" >/dev/null 2>&1 || missing="$missing $1"; }
need go; need gcc; need node; need npm; need git
if [ -n "$missing" ]; then
	echo "Missing:$missing. The README says which versions are needed." >&2
	exit 1
fi

packages=""
command -v chromium >/dev/null 2>&1 || packages="$packages chromium"
[ -x /usr/sbin/apache2 ] || command -v apache2 >/dev/null 2>&1 || packages="$packages apache2-bin"
[ -z "$packages" ] && exit 0

if ! command -v apt-get >/dev/null 2>&1; then
	echo "Missing:$packages. This system has no apt-get; install them and run make test again." >&2
	exit 1
fi
as_root=""
if [ "$(id -u)" -ne 0 ]; then
	command -v sudo >/dev/null 2>&1 || { echo "Missing:$packages. Run as root: apt-get install$packages" >&2; exit 1; }
	as_root="sudo"
fi
echo "Installing$packages for the tests."
$as_root env DEBIAN_FRONTEND=noninteractive apt-get update -qq
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $packages fonts-dejavu-core >/dev/null
