#!/bin/sh
# Many seeds of the differential test: many.sh TONDO PROGRAM [SEEDS]
seeds=${3:-40}
export TONDO_TEST_DOOR=1
failed=0
for seed in $(seq 1 "$seeds"); do
    "$1" run -q --findings-status 0 "$2" 8000 "$seed" 6 2>/dev/null || failed=$((failed + 1))
    BITS_WIDE=1 "$1" run -q --findings-status 0 "$2" 3000 "$seed" 6 2>/dev/null || failed=$((failed + 1))
done
[ "$failed" = 0 ]
