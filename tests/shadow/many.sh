#!/bin/sh
# Many seeds of the differential tests: many.sh TONDO BITS TEXTS [SEEDS]
seeds=${4:-40}
export TONDO_TEST_DOOR=1
failed=0
run() {
    "$tondo" run -q --findings-status 0 "$@" 2>/dev/null || failed=$((failed + 1))
}
tondo=$1
for seed in $(seq 1 "$seeds"); do
    run "$2" 8000 "$seed" 6
    BITS_WIDE=1 run "$2" 3000 "$seed" 6
    run "$3" 10000 "$seed"
done
[ "$failed" = 0 ]
