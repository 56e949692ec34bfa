#!/usr/bin/env bash
# Prints each figure as a ratio taken in one run, or as a time.
set -euo pipefail
cd "$(dirname "$0")/.."
export ORENDA=$PWD/bin/orenda
run() { go test -run '^$' -bench "$2" -benchtime "$3" "$1" | awk '/^Benchmark/ {sub(/-[0-9]+$/, "", $1); print $1, $3}'; }
# In turn, nine times over: the median of the ratios holds where a machine's speed drifts.
calls=$(for _ in 1 2 3 4 5 6 7 8 9; do run ./internal/call 'BenchmarkCall$|BenchmarkBareHTTP' 1s; done |
  awk '{t[$1] = $2} $1 == "BenchmarkBareHTTP" {print t["BenchmarkCall"] / $2}' | sort -n | awk 'NR == 5 {print "calls", $1}')
xml=$(run ./internal/xmltree 'BenchmarkParse$|BenchmarkXmllint' 5x)
valid=$(run ./internal/schema 'BenchmarkValidate$|BenchmarkXmllintSchema' 3x)
screen=$(run ./internal/e2e 'BenchmarkFirstFrame|BenchmarkKeyWithLargeReply|BenchmarkEditToFinding|BenchmarkDraftKey|BenchmarkOpenOperation|BenchmarkDescribe|BenchmarkXmllintFiles' 20x; run ./internal/e2e 'BenchmarkXMLCheck|BenchmarkXmllintStream' 5x)
relays=$(run ./internal/relay 'BenchmarkRelay$|BenchmarkReverseProxy' 5000x)
team=$(run ./internal/service 'BenchmarkTwoRelays|BenchmarkTenRelays' 6000x; ORENDA_MANY=1000000 run ./internal/journal/postgres 'BenchmarkSearchMany|BenchmarkKeeping' 5x)
# Figures that a benchmark reports besides its time: their value stands before their unit.
told() { go test -run '^$' -bench "$2" -benchtime 1x "$1" | awk '/^Benchmark/ {for (i = 3; i < NF; i += 2) print $(i + 1), $i}'; }
many=$(ORENDA_CASES=100000 told ./internal/e2e 'BenchmarkManyCases$')
keys=$(told ./internal/e2e 'BenchmarkKeysUnderLoad$')
printf '%s\n%s\n%s\n%s\n%s\n%s\n' "$calls" "$xml" "$valid" "$screen" "$relays" "$team" | cat - <(echo "$many") <(echo "$keys") | awk '
  {t[$1] = $2}
  END {
    if (t["cases/s"]) printf "100 000 cases of 1 KB, expected, kept and reported                        %.0f cases/s, %.0f MB\n", t["cases/s"], t["MB"]
    if (t["median-ms"]) printf "keys while 2 000 exchanges a second come in: median, 99th, worst          %.1f, %.1f, %.1f ms\n", t["median-ms"], t["p99-ms"], t["worst-ms"]
    printf "a call of 10 KB each way, recorded and diagnosed, against a bare client   %.2f\n", t["calls"]
    if (t["BenchmarkXmllint"]) printf "xmltree scan and tree of 60 MB, times as fast as xmllint --stream         %.2f\n", t["BenchmarkXmllint"] / t["BenchmarkParse"]
    if (t["BenchmarkXmllintStream"]) printf "xml check of 67 MB, whole process, times as fast as xmllint --stream      %.2f\n", t["BenchmarkXmllintStream"] / t["BenchmarkXMLCheck"]
    if (t["BenchmarkXmllintSchema"]) printf "validating 60 MB, times as fast as xmllint --schema                       %.2f\n", t["BenchmarkXmllintSchema"] / t["BenchmarkValidate"]
    if (t["BenchmarkXmllintFiles"]) printf "describe of 3 000 types, whole process, against xmllint on the same files %.2f\n", t["BenchmarkDescribe"] / t["BenchmarkXmllintFiles"]
    if (t["BenchmarkRelay"]) printf "a relay that judges and keeps 10 KB each way, in the throughput of a bare one %.2f\n", t["BenchmarkReverseProxy"] / t["BenchmarkRelay"]
    if (t["BenchmarkTwoRelays"]) printf "two relays and one PostgreSQL, 1 KB each way, none lost                    %.0f exchanges/s\n", 1e9 / t["BenchmarkTwoRelays"]
    if (t["BenchmarkTenRelays"]) printf "ten relays and one PostgreSQL, 1 KB each way, none lost                    %.0f exchanges/s\n", 1e9 / t["BenchmarkTenRelays"]
    if (t["BenchmarkSearchMany/rare"]) printf "rare words among 1 000 000 exchanges in PostgreSQL                        %.0f ms\n", t["BenchmarkSearchMany/rare"] / 1e6
    if (t["BenchmarkSearchMany/common"]) printf "common words there                                                        %.0f ms\n", t["BenchmarkSearchMany/common"] / 1e6
    printf "key to redrawn frame in a draft of 5 000 fields                           %.1f ms\n", t["BenchmarkDraftKey"] / 1e6
    printf "an operation of 1 000 opened                                              %.0f ms\n", t["BenchmarkOpenOperation"] / 1e6
    printf "a changed setting kept, to the frame with its finding                     %.1f ms\n", t["BenchmarkEditToFinding"] / 1e6
    printf "process start to first full frame                                         %.0f ms\n", t["BenchmarkFirstFrame"] / 1e6
    printf "key to redrawn frame with a 50 MB reply open                              %.1f ms\n", t["BenchmarkKeyWithLargeReply"] / 1e6
  }'
