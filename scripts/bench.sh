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
screen=$(run ./internal/e2e 'BenchmarkFirstFrame|BenchmarkKeyWithLargeReply|BenchmarkEditToFinding|BenchmarkDraftKey|BenchmarkOpenOperation|BenchmarkDescribe|BenchmarkXmllintFiles' 20x)
relays=$(run ./internal/relay 'BenchmarkRelay$|BenchmarkReverseProxy' 5000x)
team=$(run ./internal/service 'BenchmarkTwoRelays' 6000x; ORENDA_MANY=1000000 run ./internal/journal/postgres 'BenchmarkSearchMany|BenchmarkKeeping' 5x)
printf '%s\n%s\n%s\n%s\n%s\n%s\n' "$calls" "$xml" "$valid" "$screen" "$relays" "$team" | awk '
  {t[$1] = $2}
  END {
    printf "a call of 10 KB each way, recorded and diagnosed, against a bare client   %.2f\n", t["calls"]
    if (t["BenchmarkXmllint"]) printf "xmltree scan and tree of 60 MB, times as fast as xmllint --stream         %.2f\n", t["BenchmarkXmllint"] / t["BenchmarkParse"]
    if (t["BenchmarkXmllintSchema"]) printf "validating 60 MB, times as fast as xmllint --schema                       %.2f\n", t["BenchmarkXmllintSchema"] / t["BenchmarkValidate"]
    if (t["BenchmarkXmllintFiles"]) printf "describe of 3 000 types, whole process, against xmllint on the same files %.2f\n", t["BenchmarkDescribe"] / t["BenchmarkXmllintFiles"]
    if (t["BenchmarkRelay"]) printf "a relay that judges and keeps 10 KB each way, in the throughput of a bare one %.2f\n", t["BenchmarkReverseProxy"] / t["BenchmarkRelay"]
    if (t["BenchmarkTwoRelays"]) printf "two relays and one PostgreSQL, 1 KB each way, none lost                    %.0f exchanges/s\n", 1e9 / t["BenchmarkTwoRelays"]
    if (t["BenchmarkSearchMany/rare"]) printf "rare words among 1 000 000 exchanges in PostgreSQL                        %.0f ms\n", t["BenchmarkSearchMany/rare"] / 1e6
    if (t["BenchmarkSearchMany/common"]) printf "common words there                                                        %.0f ms\n", t["BenchmarkSearchMany/common"] / 1e6
    printf "key to redrawn frame in a draft of 5 000 fields                           %.1f ms\n", t["BenchmarkDraftKey"] / 1e6
    printf "an operation of 1 000 opened                                              %.0f ms\n", t["BenchmarkOpenOperation"] / 1e6
    printf "a changed setting kept, to the frame with its finding                     %.1f ms\n", t["BenchmarkEditToFinding"] / 1e6
    printf "process start to first full frame                                         %.0f ms\n", t["BenchmarkFirstFrame"] / 1e6
    printf "key to redrawn frame with a 50 MB reply open                              %.1f ms\n", t["BenchmarkKeyWithLargeReply"] / 1e6
  }'
