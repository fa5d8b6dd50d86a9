#!/bin/sh
# A newcomer's way on a clean system: the package is installed, its unit started, a folder linked and
# copied, the service reached as a network drive, backed up and restored, upgraded while a run goes on,
# and removed. The system is a Debian of its own, booted in a container without a network.
# Needs root, and Debian's packages debootstrap and systemd-container, which it installs.
set -eu
cd "$(dirname "$0")/.."
say() { echo "test-system: $*"; }
fail() { say "FAILED: $*" >&2; exit 1; }

[ "$(id -u)" -eq 0 ] || fail "only root can boot a system in a container"
command -v debootstrap >/dev/null && command -v systemd-nspawn >/dev/null && command -v curl >/dev/null ||
	DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends debootstrap systemd-container curl >/dev/null

say "the unit's exposure"
systemd-analyze security --offline=true --threshold=25 packaging/heron.service >/dev/null || fail "the unit is exposed more than 2.5"

say "a second build is equal byte for byte"
work=$(mktemp -d /tmp/heron-system-XXXXXX)
leader=""
machine=""
clean() {
	if [ -n "$machine" ]; then
		kill "$machine" 2>/dev/null || true
		wait "$machine" 2>/dev/null || true
	fi
	rm -rf "$work"
}
trap clean EXIT INT TERM
git clone -q . "$work/again"
mkdir -p "$work/again/.cache/bin"
cp .cache/bin/nfpm "$work/again/.cache/bin/"
cp -R console/dist/. "$work/again/console/dist/"
(cd "$work/again" && sh packaging/package.sh >/dev/null)
[ -z "$(git status --porcelain)" ] || say "(the work tree has changes: the two builds are not of one source)"
cmp dist/SHA256SUMS "$work/again/dist/SHA256SUMS" || fail "two builds differ"

package=$(ls "$PWD"/dist/heron_*.deb)
say "an earlier package, of the same program"
mkdir "$work/earlier"
sed 's/^version: .*/version: 0.0.1/' dist/nfpm.yaml >"$work/nfpm.yaml"
.cache/bin/nfpm package --config "$work/nfpm.yaml" --packager deb --target "$work/earlier/" >/dev/null

if [ ! -e .cache/system-root/etc/debian_version ]; then
	say "making a Debian system, once"
	debootstrap --variant=minbase --include=systemd,systemd-sysv bookworm .cache/system-root >"$work/debootstrap.log" 2>&1 ||
		fail "debootstrap: $(tail -3 "$work/debootstrap.log")"
fi
cp -a .cache/system-root "$work/root"
cp "$package" "$work/root/root/heron.deb"
cp "$work"/earlier/*.deb "$work/root/root/earlier.deb"

say "booting it"
systemd-nspawn -q --register=no --keep-unit --private-network -D "$work/root" --boot >"$work/boot.log" 2>&1 &
machine=$!
for _ in $(seq 100); do
	leader=$(ps -o pid= --ppid "$machine" | tr -d ' ' | head -1)
	[ -n "$leader" ] && nsenter -t "$leader" -m -p -r -w -- systemctl is-system-running --wait >/dev/null 2>&1 && break
	# "degraded" is a system without a network.
	[ -n "$leader" ] && nsenter -t "$leader" -m -p -r -w -- systemctl is-system-running 2>/dev/null | grep -q degraded && break
	sleep 0.2
done
[ -n "$leader" ] || fail "the system does not boot: $(tail -5 "$work/boot.log")"
inside() { nsenter -t "$leader" -m -u -i -n -p -r -w -- /usr/bin/env PATH=/usr/bin:/usr/sbin:/bin:/sbin HOME=/root "$@"; }
heron() {
	inside sh -c 'HERON_TOKEN=$(cat /var/lib/heron/owner.token) exec heron "$@"' heron "$@"
}
ready() {
	for _ in $(seq 100); do
		heron whoami >/dev/null 2>&1 && return
		sleep 0.1
	done
	fail "the service does not answer: $(inside journalctl -u heron -n 20 --no-pager)"
}

say "installing and starting"
inside dpkg -i /root/earlier.deb >/dev/null
inside sh -c 'mkdir -p /srv/desk/files /srv/archive && for i in $(seq 200); do head -c 100000 /dev/urandom >/srv/desk/files/$i; done; chown -R heron /srv'
inside sh -c 'mkdir -p /etc/systemd/system/heron.service.d && printf "[Service]\nReadWritePaths=/srv\n" >/etc/systemd/system/heron.service.d/folders.conf'
inside systemctl daemon-reload
inside systemctl enable --now heron 2>/dev/null
ready
[ "$(inside stat -c %U:%a /var/lib/heron)" = heron:700 ] || fail "the data folder is not the service's alone"
inside man -w heron >/dev/null 2>&1 || inside test -e /usr/share/man/man1/heron.1.gz || fail "there is no manual page"

say "linking and copying"
heron account link folder desk --path /srv/desk >/dev/null
heron account link folder archive --path /srv/archive >/dev/null
heron copy /desk/files/1 /archive --json >/dev/null || fail "a copy failed"

say "the network drive"
token=$(inside cat /var/lib/heron/owner.token)
nsenter -t "$leader" -n curl -sf -u "x:$token" http://127.0.0.1:8420/dav/archive/1 | cmp - "$work/root/srv/desk/files/1" || fail "the drive reads something else"

say "backing up and restoring"
printf 'a passphrase of some length\n' >"$work/root/root/passphrase"
heron backup create /root/heron.tar.age --passphrase-file /root/passphrase >/dev/null
heron backup check /root/heron.tar.age --passphrase-file /root/passphrase >/dev/null || fail "the backup is not good"
heron backup restore /root/heron.tar.age --data /root/second --passphrase-file /root/passphrase >/dev/null
inside test -s /root/second/heron.db || fail "nothing was restored"

say "upgrading while a run goes on"
run=$(heron copy /desk/files /archive --up 2MB/s --detach --json | sed -n 's/.*"run": *"\([^"]*\)".*/\1/p')
[ -n "$run" ] || fail "no run was started"
sleep 2
inside dpkg -i /root/heron.deb >/dev/null
ready
heron run limit "$run" --up unlimited >/dev/null 2>&1 || true
heron run follow "$run" >/dev/null || fail "the run did not end well: $(heron run show "$run")"
diff -r "$work/root/srv/desk/files" "$work/root/srv/archive/files" || fail "the copy differs"
heron run show "$run" --json | grep -q '"interruptions": *[1-9]' || fail "the upgrade did not interrupt the run"

say "removing"
inside dpkg -r heron >/dev/null
inside test ! -e /usr/bin/heron || fail "the program stayed"
inside test -e /var/lib/heron/heron.db || fail "removing the package removed the records"
inside dpkg -P heron >/dev/null
inside test ! -e /var/lib/heron || fail "purging the package left the records"
say "all done"
