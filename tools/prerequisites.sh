#!/bin/sh
# Installs what the tests need on Debian and its kin, and names what is missing
# elsewhere. Nothing is installed that is there already. File servers are unpacked
# below .cache/servers and not installed, so that none of them starts to serve on
# this machine by itself, and those that exclude each other are there side by side.
set -eu
cd "$(dirname "$0")/.."

missing=""
need() { command -v "$1" >/dev/null 2>&1 || missing="$missing $1"; }
need go; need gcc; need node; need npm; need git
if [ -n "$missing" ]; then
	echo "Missing:$missing. The README says which versions are needed." >&2
	exit 1
fi

# Unpacked, and the libraries that they need and that start nothing.
servers="openssh-server openssh-sftp-server vsftpd pure-ftpd proftpd-core proftpd-mod-crypto samba samba-common-bin"
libraries="libwrap0 libgssapi-krb5-2 libselinux1 libaudit1 libpam0g libnss-wrapper samba-libs libldb2 libtalloc2 libtdb1 libtevent0 libwbclient0 libsodium23 libcap2 libpopt0 libcups2 libavahi-client3 libmemcached11 libmemcachedutil2 libhiredis0.14 libpcre2-posix3"

packages=""
# Chromium without what draws a desktop's window takes a quarter less processor time.
browser=""
command -v chromium-headless-shell >/dev/null 2>&1 || browser=chromium-headless-shell
[ -x /usr/sbin/apache2 ] || command -v apache2 >/dev/null 2>&1 || packages="$packages apache2-bin"
command -v pdftoppm >/dev/null 2>&1 || packages="$packages poppler-utils"
command -v ffmpeg >/dev/null 2>&1 || packages="$packages ffmpeg"
command -v ip >/dev/null 2>&1 || [ -x /usr/sbin/ip ] || packages="$packages iproute2"
command -v nft >/dev/null 2>&1 || [ -x /usr/sbin/nft ] || packages="$packages nftables"
command -v jq >/dev/null 2>&1 || packages="$packages jq"
command -v age >/dev/null 2>&1 || packages="$packages age"
command -v litmus >/dev/null 2>&1 || packages="$packages litmus"
if command -v dpkg-query >/dev/null 2>&1; then
	for library in $libraries; do
		dpkg-query -W -f '${Status}' "$library" 2>/dev/null | grep -q "ok installed" || packages="$packages $library"
	done
fi
unpacked=.cache/servers
fetch=""
for server in $servers; do
	[ -e "$unpacked/$server.unpacked" ] || fetch="$fetch $server"
done
[ -z "$packages$fetch$browser" ] && exit 0

if ! command -v apt-get >/dev/null 2>&1; then
	if [ -z "$packages$fetch" ] && command -v chromium >/dev/null 2>&1; then
		exit 0
	fi
	echo "Missing:$packages$fetch $browser. This system has no apt-get; the tests need Debian or its kin." >&2
	exit 1
fi
as_root=""
if [ "$(id -u)" -ne 0 ]; then
	command -v sudo >/dev/null 2>&1 || { echo "Missing:$packages $browser. Run as root: apt-get install$packages $browser" >&2; exit 1; }
	as_root="sudo"
fi
$as_root env DEBIAN_FRONTEND=noninteractive apt-get update -qq
if [ -n "$browser" ]; then
	apt-cache show "$browser" >/dev/null 2>&1 || browser=chromium # of earlier releases
	packages="$packages $browser fonts-dejavu-core"
fi
if [ -n "$packages" ]; then
	echo "Installing$packages for the tests."
	$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $packages >/dev/null
fi
if [ -n "$fetch" ]; then
	echo "Unpacking$fetch for the tests."
	mkdir -p "$unpacked/archives"
	# apt fetches as root into a folder that its own user may not enter; that is fine.
	(cd "$unpacked/archives" && apt-get download -qq $fetch 2>/dev/null)
	for server in $fetch; do
		dpkg -x "$unpacked/archives/$server"_*.deb "$unpacked"
		touch "$unpacked/$server.unpacked"
	done
	rm -rf "$unpacked/archives"
fi
