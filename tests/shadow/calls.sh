#!/bin/sh
# The differential test of system calls: calls.sh TONDO PROGRAM
learned=$(mktemp) || exit 2
trap 'rm -f "$learned"' EXIT
"$2" learn >"$learned" || exit 2
TONDO_TEST_DOOR=1 "$1" run -q --findings-status 0 "$2" check "$learned" 2>/dev/null
