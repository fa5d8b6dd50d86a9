#!/bin/sh
# A newcomer's way on a clean system: the package is installed, its unit started, a folder linked and
# copied, the service reached as a network drive, backed up and restored, upgraded while a run goes on,
# and removed; then the backup restored on a second system. The systems are Debians of their own,
# booted in containers without a network. The rpm is unpacked and verified, and the static program runs
# in a root with nothing else.
# Needs root, and Debian's packages debootstrap and systemd-container, which it installs.
set -eu
cd "$(dirname "$0")/.."
say() { echo "test-system: $*"; }
fail() { say "FAILED: $*" >&2; exit 1; }

[ "$(id -u)" -eq 0 ] || fail "only root can boot a system in a container"
command -v debootstrap >/dev/null && command -v systemd-nspawn >/dev/null && command -v curl >/dev/null ||
	DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends debootstrap systemd-container curl >/dev/null
command -v rpm >/dev/null || DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends rpm >/dev/null

say "the unit's exposure"
for unit in heron heron-worker; do
	systemd-analyze security --offline=true --threshold=25 "packaging/$unit.service" >/dev/null || fail "the unit $unit is exposed more than 2.5"
done

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
mkdir "$work/earlier"
# The newest commit with fewer migrations of the records.
migrations() { git grep -hoE 'migration\("[0-9]{4}-' "$1" -- service/records | sort -u | wc -l; }
earlier=""
for commit in $(git log --format=%H -- service/records); do
	[ "$(migrations "$commit")" -lt "$(migrations HEAD)" ] && earlier=$commit && break
done
[ -n "$earlier" ] || fail "there is no earlier version in this clone"
say "an earlier package, of $(git log -1 --format='%h, %cs' "$earlier"), $(migrations "$earlier") of $(migrations HEAD) migrations"
git clone -q . "$work/before"
(cd "$work/before" && git checkout -q "$earlier" && mkdir -p console/dist && cp -R "$OLDPWD/console/dist/." console/dist/ &&
	go build -trimpath -o "$work/heron-before" ./cmd/heron)
sed -e 's/^version: .*/version: 0.0.1/' -e "s|src: \"dist/heron\"|src: \"$work/heron-before\"|" dist/nfpm.yaml >"$work/nfpm.yaml"
grep -q "$work/heron-before" "$work/nfpm.yaml" || fail "the earlier package would hold this program"
.cache/bin/nfpm package --config "$work/nfpm.yaml" --packager deb --target "$work/earlier/" >/dev/null

say "the rpm"
mkdir "$work/rpm"
rpm --root "$work/rpm" --initdb
rpm --root "$work/rpm" -i --nodeps --noscripts dist/*.rpm 2>"$work/rpm.log" || fail "the rpm: $(cat "$work/rpm.log")"
rpm --root "$work/rpm" -V --nodeps --noscripts heron || fail "the rpm does not verify"
[ "$("$work/rpm/usr/bin/heron" version)" = "$(dist/heron version)" ] || fail "the rpm holds another program"
rpm -qp --scripts dist/*.rpm | grep -q "systemctl" || fail "the rpm does not know of the unit"

say "the static program, in a root of its own"
sh packaging/static.sh
cp -a dist/static "$work/static"
mkdir "$work/static/proc" "$work/static/srv"
unshare --mount sh -c "mount -t proc proc '$work/static/proc' && exec chroot '$work/static' \"\$@\"" sh /usr/bin/heron serve --data /var/lib/heron --listen 127.0.0.1:28439 >/dev/null 2>"$work/static.log" &
static=$!
for _ in $(seq 100); do
	[ -s "$work/static/var/lib/heron/owner.token" ] && curl -sf http://127.0.0.1:28439/healthz >/dev/null && break
	sleep 0.1
done
HERON_URL=http://127.0.0.1:28439 HERON_TOKEN=$(cat "$work/static/var/lib/heron/owner.token") dist/heron account link folder srv --path /srv >/dev/null ||
	fail "the static program: $(cat "$work/static.log")"
kill "$static"
wait "$static" || fail "the static program ended badly: $(cat "$work/static.log")"

if [ ! -e .cache/system-root/sbin/mount.davfs ]; then
	say "making a Debian system, once"
	rm -rf .cache/system-root
	debootstrap --variant=minbase --include=systemd,systemd-sysv,davfs2,ca-certificates bookworm .cache/system-root >"$work/debootstrap.log" 2>&1 ||
		fail "debootstrap: $(tail -3 "$work/debootstrap.log")"
fi
# boot boots a root: its process is then in machine, and that of its init in leader.
boot() {
	fuse=""
	[ ! -e /dev/fuse ] || fuse="--bind=/dev/fuse"
	systemd-nspawn -q --register=no --keep-unit --private-network $fuse -D "$1" --boot >"$work/boot.log" 2>&1 &
	machine=$!
	for _ in $(seq 100); do
		leader=$(ps -o pid= --ppid "$machine" | tr -d ' ' | head -1)
		[ -n "$leader" ] && nsenter -t "$leader" -m -p -r -w -- systemctl is-system-running --wait >/dev/null 2>&1 && break
		# "degraded" is a system without a network.
		[ -n "$leader" ] && nsenter -t "$leader" -m -p -r -w -- systemctl is-system-running 2>/dev/null | grep -q degraded && break
		sleep 0.2
	done
	[ -n "$leader" ] || fail "the system does not boot: $(tail -5 "$work/boot.log")"
}
halt() {
	kill "$machine"
	wait "$machine" 2>/dev/null || true
	machine=""
}

say "booting a system"
cp -a .cache/system-root "$work/root"
cp "$package" "$work/root/root/heron.deb"
cp "$work"/earlier/*.deb "$work/root/root/earlier.deb"
boot "$work/root"
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
inside systemctl enable --now heron 2>/dev/null
ready
[ "$(inside stat -c %U:%a /var/lib/heron)" = heron:700 ] || fail "the data folder is not the service's alone"
inside man -w heron >/dev/null 2>&1 || inside test -e /usr/share/man/man1/heron.1.gz || fail "there is no manual page"

say "linking and copying"
# The unit shows the system read-only: the earlier version is allowed by hand, as this one proposes.
inside sh -c 'mkdir -p /etc/systemd/system/heron.service.d && printf "[Service]\nReadWritePaths=/srv\n" >/etc/systemd/system/heron.service.d/folders.conf'
inside sh -c 'systemctl daemon-reload && systemctl restart heron'
ready
heron account link folder desk --path /srv/desk >/dev/null
heron account link folder archive --path /srv/archive >/dev/null
heron copy /desk/files/1 /archive --json >/dev/null || fail "a copy failed"

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

say "a folder that the unit does not allow"
inside sh -c 'mkdir -p /opt/reports && chown heron /opt/reports'
said=$(heron account link folder reports --path /opt/reports 2>&1) && fail "a folder was linked that cannot be written to"
printf '%s\n' "$said" | grep -q "ReadWritePaths=/opt/reports" || fail "no drop-in is proposed: $said"
# What is proposed is done, as it is.
printf '%s\n' "$said" | sed -n 's/^ *\(mkdir\|printf\|systemctl\)/\1/p' >"$work/root/root/proposed.sh"
inside sh -e /root/proposed.sh
ready
heron account link folder reports --path /opt/reports >/dev/null || fail "what is proposed does not help"

say "the network drive"
token=$(inside cat /var/lib/heron/owner.token)
nsenter -t "$leader" -n curl -sf -u "x:$token" http://127.0.0.1:8420/dav/archive/1 | cmp - "$work/root/srv/desk/files/1" || fail "the drive reads something else"

say "backing up"
printf 'a passphrase of some length\n' >"$work/root/root/passphrase"
heron backup create /root/heron.tar.age --passphrase-file /root/passphrase >/dev/null
heron backup check /root/heron.tar.age --passphrase-file /root/passphrase >/dev/null || fail "the backup is not good"
runs=$(heron run list --json | wc -l)

if [ -e /dev/fuse ]; then
	say "the mount, and a restart of the system"
	heron drive install /mnt/heron >/dev/null 2>&1 && fail "a unit was installed for a folder that is not there"
	inside mkdir /mnt/heron
	heron drive install /mnt/heron >/dev/null || fail "the mount: $(sleep 2; inside journalctl -u 'heron-drive*' -n 20 --no-pager)"
	mounted() {
		for _ in $(seq 100); do
			inside test -e /mnt/heron/desk/files/1 && return
			sleep 0.1
		done
		fail "nothing is mounted: $(inside journalctl -u 'heron-drive*' -n 20 --no-pager)"
	}
	mounted
	halt
	boot "$work/root"
	ready
	mounted
	inside sh -c 'cmp /mnt/heron/desk/files/7 /srv/desk/files/7 && cp /srv/desk/files/8 /mnt/heron/reports/ && cmp /srv/desk/files/8 /opt/reports/8' ||
		fail "the mount reads or writes something else"
	inside systemctl disable --now heron-drive-mnt-heron.service 2>/dev/null

	say "the network drive, by davfs2"
	inside sh -c 'printf "http://127.0.0.1:8420/dav/ anybody %s\n" "$(cat /var/lib/heron/owner.token)" >/etc/davfs2/secrets'
	inside sh -c 'printf "delay_upload 0\n" >>/etc/davfs2/davfs2.conf; mkdir -p /mnt/dav; mount -t davfs http://127.0.0.1:8420/dav/ /mnt/dav' >/dev/null ||
		fail "davfs2 cannot mount the drive"
	inside cmp /mnt/dav/desk/files/9 /srv/desk/files/9 || fail "davfs2 reads something else"
	inside sh -c 'cp /srv/desk/files/10 /mnt/dav/reports/new && cp /srv/desk/files/11 /mnt/dav/reports/new && mkdir /mnt/dav/reports/folder &&
		mv /mnt/dav/reports/new /mnt/dav/reports/folder/moved && umount /mnt/dav' || fail "davfs2 cannot write"
	inside cmp /srv/desk/files/11 /opt/reports/folder/moved || fail "davfs2 wrote something else"
else
	say "(this machine has no /dev/fuse: the mount is not tried)"
fi

say "removing"
inside dpkg -r heron >/dev/null
inside test ! -e /usr/bin/heron || fail "the program stayed"
inside test -e /var/lib/heron/heron.db || fail "removing the package removed the records"
inside dpkg -P heron >/dev/null
inside test ! -e /var/lib/heron || fail "purging the package left the records"
halt

say "restoring on a second system"
cp -a .cache/system-root "$work/second"
cp "$package" "$work/second/root/heron.deb"
cp "$work/root/root/heron.tar.age" "$work/root/root/passphrase" "$work/second/root/"
cp -a "$work/root/srv/." "$work/second/srv/"
boot "$work/second"
inside dpkg -i /root/heron.deb >/dev/null
inside sh -c 'chown -R heron /srv; mkdir -p /etc/systemd/system/heron.service.d; printf "[Service]\nReadWritePaths=/srv\n" >/etc/systemd/system/heron.service.d/folders.conf'
inside heron backup restore /root/heron.tar.age --data /var/lib/heron --passphrase-file /root/passphrase >/dev/null
inside chown -R heron: /var/lib/heron
inside systemctl enable --now heron 2>/dev/null
ready
[ "$(heron run list --json | wc -l)" -eq "$runs" ] || fail "the restored service has other runs: $(heron run list)"
heron ls /desk/files | grep -q . || fail "the restored service does not show its accounts"
heron copy /desk/files/2 /archive --json >/dev/null || fail "the restored service cannot copy"
halt
say "all done"
