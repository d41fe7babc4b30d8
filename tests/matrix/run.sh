#!/bin/sh
# Runs every workload natively and under Tondo and compares output, errors and
# exit status byte for byte; also lists findings in programs that should have
# none. A workload is one shell line of workloads.txt, run in a folder of made-up
# data; its first word is the program that is instrumented.
# run.sh TONDO [PATTERN]
tondo=$(realpath "$1")
pattern=${2:-.}
here=$(cd "$(dirname "$0")" && pwd)
folder=$(mktemp -d /tmp/tondo-matrix-XXXXXX)
trap 'rm -rf "$folder"' EXIT
export XDG_STATE_HOME="$folder/state" LC_ALL=C.UTF-8 HOME="$folder"
mkdir "$folder/data"
awk 'BEGIN { srand(7); for (i = 0; i < 20000; i++) printf "%d ship%d %f berth-%d\n", rand() * 1e6, i % 97, rand(), i % 13 }' >"$folder/data/lines"
head -c 300000 /bin/bash >"$folder/data/binary"
printf '{"berths":[{"name":"North Mole","length":140},{"name":"Rope Walk","length":90}],"open":true}\n' >"$folder/data/port.json"
printf 'name,length\nKestrel,84\nOriel,58\nVantage,176\n' >"$folder/data/ships.csv"
cat >"$folder/data/plan.c" <<'C'
#include <stdio.h>
#include <stdlib.h>
struct ship { int length; struct ship *next; };
static int compare(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
int main(void) {
    int v[50];
    for (int i = 0; i < 50; i++) v[i] = (i * 37) % 50;
    qsort(v, 50, sizeof v[0], compare);
    struct ship *fleet = 0;
    for (int i = 0; i < 50; i++) { struct ship *s = malloc(sizeof *s); s->length = v[i]; s->next = fleet; fleet = s; }
    for (struct ship *s = fleet; s;) { struct ship *n = s->next; printf("%d ", s->length); free(s); s = n; }
    puts("");
    return 0;
}
C
same=0 differs=0 missing=0 flagged=0
while IFS= read -r line; do
    case $line in "" | "#"*) continue ;; esac
    echo "$line" | grep -qe "$pattern" || continue
    program=${line%% *}
    if ! command -v "$program" >/dev/null 2>&1; then
        missing=$((missing + 1))
        continue
    fi
    for side in native tondo; do
        rm -rf "$folder/$side" && cp -rp "$folder/data" "$folder/work" && cd "$folder/work" || exit 1
        if [ $side = native ]; then
            sh -c "$line" >"$folder/$side.out" 2>"$folder/$side.err" </dev/null
        else
            timeout 120 sh -c "$tondo run -q --findings-status 0 -r line:$folder/findings $line" \
                >"$folder/$side.out" 2>"$folder/$side.err" </dev/null
        fi
        echo $? >"$folder/$side.status"
        cd "$folder" && mv work "$side"
    done
    why=""
    cmp -s native.status tondo.status || why="$why status($(cat native.status)/$(cat tondo.status))"
    cmp -s native.out tondo.out || why="$why output"
    cmp -s native.err tondo.err || why="$why errors"
    diff -r native tondo >/dev/null 2>&1 || why="$why files"
    wrong=$(grep -vc ': leak:' findings 2>/dev/null)
    if [ "${wrong:-0}" -gt 0 ]; then
        flagged=$((flagged + 1))
        echo "findings: $line"
        grep -v ': leak:' findings | head -3
    fi
    rm -f findings
    if [ -z "$why" ]; then
        same=$((same + 1))
    else
        differs=$((differs + 1))
        echo "differs ($why ): $line"
        diff native.out tondo.out | head -4
        diff native.err tondo.err | head -4
    fi
done <"$here/workloads.txt"
echo "$same the same, $differs different, $flagged with findings, $missing not installed"
[ "$differs" = 0 ]
