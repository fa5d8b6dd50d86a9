#!/bin/sh
# Builds the program without anything that it would need of a system, below dist/static: with its
# certificates and time zones, it runs in an empty root. It has no previews of PDF files and films,
# which need programs of their own.
set -eu
cd "$(dirname "$0")/.."
root=dist/static
rm -rf "$root"
mkdir -p "$root/usr/bin" "$root/etc/ssl/certs" "$root/var/lib/heron" "$root/tmp"
chmod 700 "$root/var/lib/heron"
chmod 1777 "$root/tmp"
GOFLAGS="-tags=nomsgpack,sqlite_fts5,netgo,osusergo,timetzdata,sqlite_omit_load_extension" \
	go build -trimpath -ldflags "-s -w -buildid= -linkmode external -extldflags -static" -o "$root/usr/bin/heron" ./cmd/heron
cp /etc/ssl/certs/ca-certificates.crt "$root/etc/ssl/certs/"
printf 'heron:x:65532:65532:Deft Heron:/var/lib/heron:/sbin/nologin\n' >"$root/etc/passwd"
printf 'heron:x:65532:\n' >"$root/etc/group"
