#!/bin/bash
# Measures what proposing patterns costs: messages of 200 layouts with noise, against a search that counts the same file by
# severity, one thread's worth of processor time each. Prints rows of Markdown. Usage: bench/learn.sh BUILD; RUNS (5), MESSAGES (1000000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} messages=${MESSAGES:-1000000}

cat >indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
listen: [{udp: "127.0.0.1:0"}]
routes: [{name: all, file: all.log}]
CONFIG
# Layouts of made-up words with fields between; the first are frequent, the last rare; one message in twenty is of words alone.
mawk -v messages="$messages" 'function value(kind) {
    return kind == 0 ? "192.0.2." int(rand() * 256) : kind == 1 ? int(rand() * 70000) : kind == 2 ? "ge0/" int(rand() * 48) \
         : kind == 3 ? int(rand() * 900) " ms" : kind == 4 ? sprintf("0.%03d", rand() * 1000) : name[int(rand() * 60)]
}
BEGIN {
    srand(7)
    for (i = 0; i < 150; i++) { word[i] = ""; for (k = 3 + int(rand() * 6); k > 0; k--) word[i] = word[i] sprintf("%c", 97 + int(rand() * 26)) }
    for (i = 0; i < 60; i++) { name[i] = ""; for (k = 3 + int(rand() * 5); k > 0; k--) name[i] = name[i] sprintf("%c", 97 + int(rand() * 26)) }
    for (i = 0; i < 200; i++) {
        count[i] = 5 + int(rand() * 7); field = 0
        for (k = 0; k < count[i]; k++) { field = k > 2 && !field && rand() < 0.5; part[i, k] = field ? int(rand() * 6) : -1 - int(rand() * 150) }
    }
    for (n = 0; n < messages; n++) {
        line = "<38>1 - h app" (n % 10) " - - - "
        if (rand() < 0.05) { for (k = 3 + int(rand() * 7); k > 0; k--) line = line word[int(rand() * 150)] " " }
        else {
            i = int(200 * rand() * rand()); line = "<38>1 - h app" (i % 10) " - - - "
            for (k = 0; k < count[i]; k++) line = line (part[i, k] < 0 ? word[-1 - part[i, k]] : value(part[i, k])) " "
        }
        print line
    }
}' >messages.log
# spent COMMAND…: seconds of processors.
spent() { local TIMEFORMAT='%U %S'; { time "$@" >/dev/null 2>&1; } 2>&1 | awk '{ print $1 + $2 }'; }
for _ in $(seq "$runs"); do
    learned=$(spent "$program" learn messages.log)
    searched=$(spent "$program" search --by severity messages.log)
    ratio "$messages" "$learned" >>learns
    ratio "$messages" "$searched" >>searches
done
"$program" learn messages.log >/dev/null &
learning=$! peak=0
while now=$(awk '/VmHWM/ { print $2 }' "/proc/$learning/status" 2>/dev/null) && [ -n "$now" ]; do
    peak=$now
    sleep 0.05
done
wait "$learning" || true
row "learn: messages a second of processor time, 200 layouts with noise, the median of $runs" "$(calculate %.2f "$(median <learns) / 1e6") million" "(aim 0.5 million)"
row "the same file searched by severity" "$(calculate %.2f "$(median <searches) / 1e6") million" ""
row "memory, MiB" "$((peak / 1024))" "(aim 256)"
