#!/bin/sh
# The loops of kernels.c as a compiler makes them: kernels.sh TONDO SOURCE COMPILER [FLAGS]
tondo=$1 source=$2
shift 2
program=$(mktemp) || exit 2
trap 'rm -f "$program"' EXIT
"$@" -g -w "$source" -o "$program" || exit 2
TONDO_TEST_DOOR=1 "$tondo" run -q --findings-status 0 "$program" 2>/dev/null
