#!/usr/bin/env bash
# Tests against what is too large to keep here: descriptions that Debian's packages bring.
# Nothing is installed: the packages are opened in a folder that is deleted afterwards.
set -euo pipefail
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
chmod 755 "$dir"
for package in python3-oslo.vmware libkdsoap-doc nordugrid-arc-hed; do
  if ! (cd "$dir" && apt-get download -qq "$package" 2>/dev/null); then
    echo "the Debian package $package cannot be fetched: its descriptions are not tested" >&2
  fi
done
for deb in "$dir"/*.deb; do
  [ -e "$deb" ] && dpkg -x "$deb" "$dir/descriptions"
done
if [ -d "$dir/descriptions" ]; then
  ORENDA_DESCRIPTIONS=$dir/descriptions go test -count 1 -v -run LargeDescriptions ./internal/message | grep -v -- "--- SKIP" | tail -20
fi
