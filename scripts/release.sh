#!/usr/bin/env bash
# Builds the program for every platform into dist/, with checksums. No path, no time
# and no build id of this machine gets in: the same commit gives the same bytes.
set -euo pipefail
cd "$(dirname "$0")/.."
rm -rf dist
mkdir dist
for platform in $(cat scripts/platforms.txt); do
  os=${platform%/*} arch=${platform#*/} end=
  [ "$os" = windows ] && end=.exe
  GOOS=$os GOARCH=$arch CGO_ENABLED=0 GOFLAGS= go build -trimpath -buildvcs=false \
    -ldflags "$1 -buildid=" -o "dist/orenda-$os-$arch$end" ./cmd/orenda
done
cd dist
sha256sum orenda-* >SHA256SUMS
cat SHA256SUMS
