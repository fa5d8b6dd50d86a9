#!/bin/sh
# Builds the packages of the commit that is checked out, below dist/: .deb, .rpm and .tar.gz, their
# checksums, and the bill of materials. Two builds of a commit with the same tools are equal byte for
# byte: paths are trimmed, and every time is that of the commit.
set -eu
cd "$(dirname "$0")/.."
VERSION=$(sed -n 's/^const release = "\(.*\)"$/\1/p' cmd/heron/version.go)
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct)
BUILT=$(date -u -d "@$SOURCE_DATE_EPOCH" +%Y-%m-%dT%H:%M:%SZ)
GOARCH=$(go env GOARCH)
OUT=${OUT:-dist}
export VERSION SOURCE_DATE_EPOCH GOARCH OUT

rm -rf "$OUT"
mkdir -p "$OUT"
go build -trimpath -ldflags "-s -w -buildid=" -o "$OUT/heron" ./cmd/heron
go run ./packaging/pages "$OUT" "$VERSION"
find "$OUT/man" -type f -exec gzip -n9 {} +
go run ./packaging/sbom "$OUT/heron" console/package-lock.json "$VERSION" "$OUT/sbom.cdx.json"
sed -e "s|\${OUT}|$OUT|g; s|\${VERSION}|$VERSION|; s|\${BUILT}|$BUILT|; s|\${GOARCH}|$GOARCH|" packaging/nfpm.yaml >"$OUT/nfpm.yaml"
find "$OUT" -exec touch -d "@$SOURCE_DATE_EPOCH" {} +
for kind in deb rpm; do
	.cache/bin/nfpm package --config "$OUT/nfpm.yaml" --packager "$kind" --target "$OUT/"
done
stage="heron-$VERSION-linux-$GOARCH"
mkdir "$OUT/$stage"
cp -R "$OUT/heron" "$OUT/man" "$OUT/completions" "$OUT/sbom.cdx.json" LICENSE README.md packaging/heron.service packaging/heron-worker.service packaging/heron.env "$OUT/$stage/"
tar --sort=name --mtime="@$SOURCE_DATE_EPOCH" --owner=0 --group=0 --numeric-owner -C "$OUT" -cf - "$stage" | gzip -n9 >"$OUT/$stage.tar.gz"
rm -r "${OUT:?}/$stage"
(cd "$OUT" && sha256sum ./*.deb ./*.rpm ./*.tar.gz sbom.cdx.json >SHA256SUMS)
cat "$OUT/SHA256SUMS"
