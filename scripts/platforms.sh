#!/usr/bin/env bash
# The core and its tests compile for every platform. The rest, which links the
# database, is built for them by `make release`.
set -euo pipefail
cd "$(dirname "$0")/.."
core=$(go list ./... | grep -v -e /journal/disk -e /internal/cli -e /cmd/ -e /internal/e2e)
for platform in $(cat scripts/platforms.txt); do
  GOOS=${platform%/*} GOARCH=${platform#*/} CGO_ENABLED=0 go vet -unreachable $core || {
    echo "does not compile for $platform"
    exit 1
  }
done
