#!/bin/sh
# Slow-down against the native run: each workload natively and under Tondo in
# turn, ROUNDS times; the medians' ratio per workload and the geometric mean.
# run.sh TONDO [PATTERN]
tondo=$(realpath "$1")
pattern=${2:-.}
rounds=${ROUNDS:-3}
here=$(cd "$(dirname "$0")" && pwd)
folder=$(mktemp -d /tmp/tondo-bench-XXXXXX)
trap 'rm -rf "$folder"' EXIT
cd "$folder" || exit 1
export XDG_STATE_HOME="$folder/state" LC_ALL=C.UTF-8
for name in tree fib matrix; do
    gcc -O2 -fno-inline-functions -w -o "$name" "$here/$name.c" || exit 1
done
cat /bin/bash /bin/bash /usr/lib/x86_64-linux-gnu/libc.so.6 /bin/bash >data
awk 'BEGIN { srand(7); for (i = 0; i < 200000; i++) print rand() }' >lines
for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do cat lines; done >many
cc1=$(gcc -print-prog-name=cc1)
for i in $(seq 1 40); do sed "s/\\bmake\\b/make$i/g; s/\\bsum\\b/sum$i/g; s/\\bdrop\\b/drop$i/g; s/\\bmain\\b/main$i/g; s/struct node/struct node$i/g" "$here/tree.c" | grep -v '#include'; done >many.c
{ grep '#include' "$here/tree.c"; cat many.c; } >big.c
gcc -E -w big.c -o big.i
cat >workloads <<W
bzip2 bzip2 -c data
gzip gzip -c data
xz xz -1 -T1 -c data
tree ./tree
fib ./fib
matrix ./matrix
python /usr/bin/python3 -c "exec('s=0\nfor i in range(1500000): s+=i*i%7\nd={}\nfor i in range(200000): d[str(i)]=i\nprint(s,len(d))')"
perl perl -e 'my \$s=0; for my \$i (1..3000000){\$s+=\$i*\$i%7} print \$s; my %h; \$h{\$_ % 5000}.="xy" for 1..400000;'
gawk gawk '{for(i=0;i<5;i++)s+=\$1*i; a[substr(\$1,3,3)]++} END{print s}' lines
sqlite sqlite3 :memory: 'create table t(a int,b text); with recursive c(x) as (select 1 union all select x+1 from c where x<300000) insert into t select x, x||"a" from c; select sum(a),count(distinct b) from t;'
cc1 $cc1 -quiet -O2 big.i -o /dev/null
sha256 sha256sum data data data data
sort sort --parallel=1 lines
grep grep -c -E '([0-9])5.*7.*(8|9)3' many
W
now() { date +%s.%N; }
: >ratios
while IFS= read -r line; do
    name=${line%% *} command=${line#* }
    echo "$name" | grep -qe "$pattern" || continue
    for r in $(seq "$rounds"); do
        a=$(now); sh -c "exec $command" >out 2>&1; b=$(now)
        sh -c "exec $tondo run -q $command" >out 2>&1; c=$(now)
        echo "$a $b $c" | awk '{ print $2 - $1, $3 - $2 }'
    done >times
    native=$(awk '{ print $1 }' times | sort -n | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }')
    under=$(awk '{ print $2 }' times | sort -n | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }')
    echo "$name $native $under" | awk '{ printf "%-10s native %6.2f s, tondo %6.2f s, ratio %5.2f\n", $1, $2, $3, $3 / $2 }'
    echo "$native $under" | awk '{ print $2 / $1 }' >>ratios
done <workloads
awk '{ s += log($1); n++ } END { if (n) printf "geometric mean of %d: %.2f\n", n, exp(s / n) }' ratios
