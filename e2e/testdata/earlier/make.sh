#!/bin/sh
# make.sh COMMIT NAME
#
# Makes NAME.tar.gz here: the data folder of a service of COMMIT with a run in flight, and the target
# as it was then. The service is killed in the middle of the run, so that the records are as a crash
# leaves them. TestEarlierVersions upgrades it.
set -eu
commit=$1 name=$2
here=$(cd "$(dirname "$0")" && pwd)
top=$(git -C "$here" rev-parse --show-toplevel)
root=/tmp/heron-earlier # it is in the records; the test puts another in its place
work=$(mktemp -d)
trap 'rm -rf "$work" "$root"' EXIT
rm -rf "$root"
mkdir -p "$root/desk/small" "$root/desk/large" "$root/archive"

git clone -q "$top" "$work/source"
cd "$work/source"
git checkout -q "$commit"
mkdir -p console/dist
cp -R "$top/console/dist/." console/dist/
go build -trimpath -o "$work/heron" ./cmd/heron

# As earlierFiles of the test makes them.
for i in 1 2 3 4 5 6 7 8 9; do
	yes "small $i" | head -c 4000 >"$root/desk/small/$i.txt"
	yes "large $i" | head -c 400000 >"$root/desk/large/$i.bin"
done

"$work/heron" serve --data "$root/data" --listen 127.0.0.1:28437 >"$work/log" 2>&1 &
service=$!
export HERON_URL=http://127.0.0.1:28437
for _ in $(seq 100); do
	[ -s "$root/data/owner.token" ] && HERON_TOKEN=$(cat "$root/data/owner.token") && export HERON_TOKEN &&
		"$work/heron" whoami >/dev/null 2>&1 && break
	sleep 0.1
done
heron() { "$work/heron" "$@"; }
heron account link folder desk --path "$root/desk" >/dev/null
heron account link folder archive --path "$root/archive" >/dev/null
heron copy /desk/small /archive >/dev/null
heron job create keep --type mirror --from /desk/large --to /archive/large --every 6h --up 400KB/s >/dev/null
heron job start keep --detach >/dev/null
sleep 3
kill -9 "$service"
wait "$service" 2>/dev/null || true
[ "$(find "$root/archive/large" -name '*.bin' | wc -l)" -lt 9 ] || { echo "the run had ended" >&2; exit 1; }
rm -rf "$root/data/previews" "$root/data/scratch" "$root"/data/search*
tar -C "$root" -czf "$here/$name.tar.gz" data archive
ls -l "$here/$name.tar.gz"
