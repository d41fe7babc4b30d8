#!/bin/sh
# The same program natively and under instrumentation: the same output and exit
# status, and no findings but those named. run.sh TONDO SOURCE [KINDS EXPECTED]
tondo=$1 source=$2 kinds=$3
folder=$(mktemp -d /tmp/tondo-same-XXXXXX)
trap 'rm -rf "$folder"' EXIT
name=$(basename "$source" .c)
gcc -g -O1 -w -o "$folder/$name" "$source" -lpthread -ldl -lm || exit 1
cd "$folder" || exit 1
export XDG_STATE_HOME="$folder/state"
timeout 60 "./$name" >native 2>&1
wanted=$?
timeout 100 "$tondo" run -q --findings-status 0 -r line:found "./$name" >under 2>err
got=$?
fail=0
if [ "$wanted" != "$got" ]; then
    echo "exit status $got, natively $wanted" >&2
    fail=1
fi
diff native under >&2 || fail=1
grep -v -e ": leak: " -e ": descriptor-leak: " ${kinds:+-e "$kinds"} found >&2 && fail=1
[ -s err ] && { head -5 err >&2; fail=1; }
exit $fail
