#!/usr/bin/env bash
# What stands at package level is a table or is made once, and says so. Tests of
# internal/habits see to it that nothing there is written to.
set -euo pipefail
cd "$(dirname "$0")/.."
bad=0
while IFS=: read -r file line _; do
  case "$file" in *_test.go | "") continue ;; esac
  if sed -n "${line}p" "$file" | grep -q '= pattern\.New('; then continue; fi # as regular expressions are
  if ! sed -n "$((line - 1))p" "$file" | grep -q 'nolint:gochecknoglobals // .'; then
    echo "$file:$line: say why this stands at package level (//nolint:gochecknoglobals // why), or move it"
    bad=1
  fi
done < <(go tool gochecknoglobals ./... 2>&1 | sed "s#^$PWD/##" | grep ' is a global variable')
exit $bad
