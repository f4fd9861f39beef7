#!/bin/bash
# Messages of all forms mixed (bench/forms.h), from their bytes to a line, on one core: rehearse with "threads: 1". Prints rows of
# Markdown: the layout plain, json against it, and, with OTHER (another build of this project), both against that, in turn.
# Usage: bench/mixed.sh BUILD [OTHER]; ROUNDS (9), MESSAGES (1,000,000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
other=${2:+$(realpath "$2")} rounds=${ROUNDS:-9} messages=${MESSAGES:-1000000}
"$build/bench/bench_stages" lines "$messages" >mixed.log
for layout in plain json; do
    cat >$layout.yaml <<YAML
store: store
state: state
zone: UTC
threads: 1
routes:
  - {name: all, file: "{facility}/{severity}.log", layout: $layout}
YAML
done
best() { sort -g | head -n 1; }
for _ in $(seq "$rounds"); do
    for layout in plain json; do
        took=$(seconds "$program" rehearse -c $layout.yaml mixed.log)
        echo "$took" >>ours.$layout
        [ -z "$other" ] || ratio "$(seconds "$other/indagator" rehearse -c $layout.yaml mixed.log)" "$took" >>against.$layout
    done
    ratio "$(tail -n 1 ours.json)" "$(tail -n 1 ours.plain)" >>json
done
rate() { calculate %.2f "$messages / $(best <"ours.$1") / 1e6"; }
row "from bytes to a \`plain\` line, all forms mixed, one core" "$(rate plain) million messages/s${other:+, $(median <against.plain) times the other}" '3.8 million/s'
row "layout \`json\` against \`plain\`: time" "$(median <json) (best: $(rate json) million messages/s${other:+, $(median <against.json) times the other})" '1.8'
