#!/usr/bin/env bash
# Runs each fuzz test for so long (a minute unless said), two beside each other, and adds what was
# run to the table in docs/fuzzed.md. With names behind the time, only those: fuzz.sh 1h FuzzCapture
set -euo pipefail
cd "$(dirname "$0")/.."
long=${1:-60s}
shift || true
table=docs/fuzzed.md
out=$(mktemp -d)
trap 'rm -rf "$out"' EXIT

one() { # package, test
  local log=$out/$2@${1//\//.}
  if go test -run '^$' -fuzz "^$2\$" -fuzztime "$long" -fuzzminimizetime 5s -parallel 1 "$1" >"$log" 2>&1; then
    echo found none >>"$log"
  else
    echo "found: $(grep -m1 -E 'panic|Error|testing.go|fuzz' "$log" || true)" >>"$log"
    cat "$log"
  fi
}
export -f one
export long out
for p in $(go list ./internal/...); do
  for f in $(go test -list '^Fuzz' "$p" | grep '^Fuzz' || true); do
    if [ $# = 0 ] || [[ " $* " == *" $f "* ]]; then echo "$p $f"; fi
  done
done | xargs -P 2 -L 1 bash -c 'one "$0" "$1"'

# What the table has already is added to.
{
  [ -f "$table" ] && awk -F'|' '/^\| [a-z]/ && !/\| minutes \|/ {gsub(/ /, ""); print "was", $2, $3, $4, $5}' "$table"
  for log in "$out"/Fuzz*; do
    name=$(basename "$log")
    awk -v test="${name%@*}" -v package="${name#*@orenda.internal.}" '
      /elapsed:/ {t = $3; gsub(/,/, "", t); for (i = 1; i <= NF; i++) if ($i == "execs:") n = $(i + 1)}
      /^found none/ {found = 0} /^found: / {found = 1}
      function seconds(t,  h, m) { h = 0; if (split(t, p, "h") > 1) {h = p[1]; t = p[2]} m = 0; if (split(t, p, "m") > 1) {m = p[1]; t = p[2]} sub(/s$/, "", t); return h * 3600 + m * 60 + t }
      END {gsub(/\./, "/", package); print "now", package, test, seconds(t) / 60, n, found}' "$log"
  done
} | awk '
  $1 == "was" {k = $2 " " $3; minutes[k] = $4; tries[k] = $5}
  $1 == "now" {k = $2 " " $3; minutes[k] += $4; tries[k] += $5; if ($6) bad[k] = 1}
  END {
    for (k in minutes) {
      split(k, p, " ")
      printf "| %s | %s | %.1f | %.0f |%s\n", p[1], p[2], minutes[k], tries[k], bad[k] ? " **failed**" : ""
    }
  }' | sort >"$out/rows"
{
  cat <<'HEAD'
# What was fuzzed

All that is read from outside is read of mutated bytes as well. `make fuzz` runs each of these tests for a minute and
adds to the table; `scripts/fuzz.sh 1h FuzzCapture` runs some for longer. What a test found is mended, and
a seed of it now. Each runs with one worker.

| package | test | minutes | tries |
|---|---|---|---|
HEAD
  cat "$out/rows"
} >"$out/table"
cp "$out/table" "$table"
if grep -q 'failed\*\*' "$table"; then exit 1; fi
